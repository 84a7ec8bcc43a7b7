package fleet

import (
	"context"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/library"
	"freshseal/core/next"
	"freshseal/service/access"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/wire"
)

// deviceEdit is a checked change of a device that is not applied yet.
type deviceEdit struct {
	store.DeviceEdit
	before, after contract.Device
	secrets       bool // new ones to sign in with
}

// EditDevice changes a device of a known revision, or nothing.
func (s *Service) EditDevice(ctx context.Context, name string, c contract.DeviceChange,
	known problem.Revision) (contract.Device, error) {
	e, err := s.planEdit(ctx, name, c)
	if err != nil {
		return contract.Device{}, err
	}
	if known != problem.Any {
		e.Known = known
	}
	defer s.monitor.Forget() // it may be under other rules now
	if err := s.store.Devices.Change(ctx, e.DeviceEdit); err != nil {
		return contract.Device{}, problem.Outdated(err)
	}
	after, err := s.Device(ctx, name)
	if err == nil {
		audit.Differences(ctx, factsOf(e.before), factsOf(after))
		if e.secrets {
			audit.Say(ctx, "new secrets to sign in with")
		}
	}
	return after, err
}

// overlay applies a change to the facts of a device.
func overlay(d *store.Device, c contract.DeviceChange) {
	set(&d.Site, c.Site)
	set(&d.Family, c.Family)
	set(&d.Address, c.Address)
	set(&d.Cluster, c.Cluster)
	if set(&d.ClusterRole, c.ClusterRole); d.Cluster == "" {
		d.ClusterRole = ""
	}
	set(&d.Owner, c.Owner)
	set(&d.Notes, c.Notes)
	if c.Tags != nil {
		d.Tags.V = slices.DeleteFunc(slices.Clone(c.Tags), func(tag string) bool {
			return strings.TrimSpace(tag) == ""
		})
	}
	if c.Nodes != nil {
		d.Nodes.V = all(c.Nodes, storedNode)
	}
	d.Settings.V = maps.Clone(d.Settings.V)
	for key, value := range c.Settings {
		if d.Settings.V[key] = value; value == "" {
			delete(d.Settings.V, key)
		}
	}
}

// fitSettings checks a device's settings against its family, which the change may have replaced.
func fitSettings(cannot string, p library.Source, d *store.Device, c contract.DeviceChange) error {
	if c.Family != nil { // settings that the new family does not know go with the old one
		maps.DeleteFunc(d.Settings.V, func(name, _ string) bool {
			_, known := p.Setting(name)
			return !known && c.Settings[name] == ""
		})
	}
	return checkSettings(cannot, p, d.Settings.V)
}

// planEdit checks a change of a device, and returns its result.
func (s *Service) planEdit(ctx context.Context, name string, c contract.DeviceChange) (deviceEdit, error) {
	var out deviceEdit
	d, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return out, problem.Missing(err, next.ListDevices, "no device is called %s", name)
	}
	if out.before, err = s.show(ctx, d); err != nil {
		return out, err
	}
	before := out.before
	overlay(&d, c)
	cannot := name + " cannot be changed"
	if c.Family != nil && d.Family == OwnFamily {
		return out, notOwn(cannot)
	}
	if err := checkAddress(cannot, d); err != nil {
		return out, err
	}
	secrets := map[string][]byte{}
	var needed []string
	if d.Family != "" {
		p, err := s.Family(d.Family)
		if err != nil {
			return out, err
		}
		if err := fitSettings(cannot, p, &d, c); err != nil {
			return out, err
		}
		needed = p.Links
		maps.Copy(secrets, s.sealSettings(name, p, d.Settings.V))
	}
	was, err := s.store.Devices.Access(ctx, d.ID)
	if err != nil {
		return out, err
	}
	ways, err := s.access.Change(ctx, cannot, name, was[d.ID], c.Access, needed, d.Address != before.Address)
	if err != nil {
		return out, err
	}
	maps.Copy(secrets, ways.Secrets)
	for _, slot := range before.Slots { // one that follows its device does not take its shared secret along
		if d.Address != before.Address && slot.Address == before.Address && wire.Protocol(slot.Protocol).OverEAP() {
			ways.Gone = append(ways.Gone, access.SlotPurpose(name, slot.Name))
		}
	}
	slots, err := s.store.Slots.Of(ctx, name)
	if err != nil {
		return out, err
	}
	// as it was looked at just now
	out.DeviceEdit = store.DeviceEdit{Device: d, Access: ways.Access, Secrets: secrets, Gone: ways.Gone,
		Known: d.Revision}
	out.after, out.secrets = s.showWith(d, ways.Access, slots), len(ways.Secrets) > 0
	return out, nil
}

// factsOf returns what users state about a device, for the audit log. Secret settings are dots.
func factsOf(d contract.Device) map[string]string {
	out := map[string]string{"family": d.Family, "site": d.Site, "address": d.Address, "owner": d.Owner,
		"notes": d.Notes, "cluster": d.Cluster, "cluster_role": d.ClusterRole,
		"tags": strings.Join(d.Tags, " ")}
	for name, value := range d.Settings {
		out["setting "+name] = value
	}
	for _, n := range d.Nodes {
		out["node "+n.Name] = n.Address
	}
	for _, a := range d.Access {
		out[a.Link+" at"] = net.JoinHostPort(a.Address, strconv.Itoa(a.Port))
		out[a.Link+" user"], out[a.Link+" credential"], out[a.Link+" pin"] = a.User, a.Credential, a.Pin
		for name, value := range a.Options {
			out[a.Link+" option "+name] = value
		}
	}
	return out
}

func set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}
