package fleet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/service/access"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// AddDevice adds a device to the fleet. Its host key must be given: the caller has compared it (see AskPin).
func (s *Service) AddDevice(ctx context.Context, n contract.NewDevice) (contract.Device, error) {
	row, err := s.newDevice(ctx, n)
	if err != nil {
		return contract.Device{}, err
	}
	return s.addDevice(ctx, n.Name, row)
}

func (s *Service) addDevice(ctx context.Context, name string, row store.NewDevice) (contract.Device, error) {
	err := s.store.Devices.Add(ctx, []store.NewDevice{row})
	if errors.Is(err, store.ErrTaken) {
		return contract.Device{}, problem.New(problem.Conflict, fmt.Sprintf("the device %s, or one of its slots, "+
			"already exists", name), "", "choose another name, or remove it first")
	}
	if err != nil {
		return contract.Device{}, err
	}
	s.log.Info("device added", "device", name, "family", row.Family)
	d, err := s.Device(ctx, name)
	audit.Say(ctx, "%s", name)
	audit.Differences(ctx, nil, factsOf(d))
	return d, err
}

// newDevice checks a new device and returns its row, with sealed secrets.
func (s *Service) newDevice(ctx context.Context, n contract.NewDevice) (store.NewDevice, error) {
	d := store.Device{Name: n.Name, Family: n.Family, Site: n.Site, Address: n.Address,
		Cluster: n.Cluster, ClusterRole: n.ClusterRole, Owner: n.Owner, Notes: n.Notes, AddedAt: s.moment()}
	d.Settings.V, d.Tags.V, d.Nodes.V = maps.Clone(n.Settings), append([]string{}, n.Tags...), all(n.Nodes, storedNode)
	if d.Settings.V == nil {
		d.Settings.V = map[string]string{}
	}
	out := store.NewDevice{Device: d}
	if err := checkDevice(n, d); err != nil {
		return out, err
	}
	var err error
	if out.Slots, err = checkSlots(n); err != nil {
		return out, err
	}
	cannot := "the device cannot be added"
	var needed []string
	if n.Family != "" {
		p, err := s.newFamily(cannot, n.Family)
		if err != nil {
			return out, err
		}
		if err := checkSettings(cannot, p, n.Settings); err != nil {
			return out, err
		}
		needed, out.Secrets = p.Links, s.sealSettings(n.Name, p, d.Settings.V)
	} else if len(n.Settings) > 0 {
		return out, problem.Reject(cannot, "it has settings and no family that they could be of",
			"give it a family, or leave the settings out", next.Give.On("family"), next.ListProcedures.On(""))
	}
	for _, slot := range n.Slots {
		if err := s.monitor.Trust.KnownTrustGroups(ctx, cannot, slot.TrustGroups); err != nil {
			return out, err
		}
		if slot.Secret != "" {
			out.Secrets = s.sealShared(out.Secrets, n.Name, slot.Name, slot.Secret)
		}
	}
	ways, err := s.access.Change(ctx, cannot, n.Name, nil, n.Access, needed, false)
	if out.Access = ways.Access; len(ways.Secrets) > 0 {
		if out.Secrets == nil {
			out.Secrets = map[string][]byte{}
		}
		maps.Copy(out.Secrets, ways.Secrets)
	}
	return out, err
}

// newFamily finds the family that a device is given.
func (s *Service) newFamily(cannot, name string) (library.Source, error) {
	if name == OwnFamily {
		return library.Source{}, notOwn(cannot)
	}
	return s.Family(name)
}

func checkDevice(n contract.NewDevice, d store.Device) error {
	cannot := "the device cannot be added"
	switch {
	case !naming.Device(n.Name):
		return problem.Reject(cannot, fmt.Sprintf("%q is not a valid device name", n.Name), naming.Rule)
	case len(n.Slots) == 0:
		return problem.Reject(cannot, "it has no slot", "give at least one, such as web at port 443",
			next.Give.On("slot"))
	}
	return checkAddress(cannot, d)
}

var clusterRoles = []string{"active", "standby", "member"}

// Limits of what users write about a device, in bytes.
const (
	mostOwner = 200
	mostNotes = 10_000
	mostTag   = 100
	mostTags  = 100 // of one device
)

func checkAddress(cannot string, d store.Device) error {
	switch {
	case d.Cluster != "" && (len(d.Cluster) > 64 || strings.ContainsFunc(d.Cluster, unicode.IsControl)):
		return problem.Reject(cannot, fmt.Sprintf("%q is not a valid cluster name", d.Cluster),
			"give up to 64 printable characters")
	case len(d.Owner) > mostOwner || strings.ContainsFunc(d.Owner, unicode.IsControl):
		return problem.Reject(cannot, "the owner is not a line of up to 200 bytes", "shorten it",
			next.Give.On("owner"))
	case len(d.Notes) > mostNotes || !utf8.ValidString(d.Notes):
		return problem.Reject(cannot, "the notes are not a text of up to 10,000 bytes", "shorten them",
			next.Give.On("notes"))
	case d.ClusterRole != "" && (d.Cluster == "" || !slices.Contains(clusterRoles, d.ClusterRole)):
		return problem.Reject(cannot, fmt.Sprintf("%q is not a role in the cluster %q", d.ClusterRole, d.Cluster),
			fmt.Sprintf("name the cluster, and one of %v", clusterRoles))
	case request.AddressFlaw(d.Address) != "":
		return problem.Reject(cannot, request.AddressFlaw(d.Address), "give the address alone, without a port")
	}
	if err := checkTags(cannot, d.Tags.V); err != nil {
		return err
	}
	seen := map[string]bool{d.Name: true}
	for _, n := range d.Nodes.V {
		if !naming.Device(n.Name) || seen[n.Name] || request.AddressFlaw(n.Address) != "" {
			return problem.Reject(cannot, fmt.Sprintf("%q at %q is not a node", n.Name, n.Address),
				"give each node a name of its own and an address", next.Give.On("nodes"))
		}
		seen[n.Name] = true
	}
	return nil
}

func checkTags(cannot string, tags []string) error {
	for _, tag := range tags {
		if tag == "" || len(tag) > mostTag || !utf8.ValidString(tag) || strings.ContainsFunc(tag, func(r rune) bool {
			return unicode.IsControl(r) || unicode.IsSpace(r)
		}) {
			return problem.Reject(cannot, fmt.Sprintf("%.80q is not a tag", tag), "write a word of up to 100 bytes",
				next.Give.On("tags"))
		}
	}
	if len(tags) > mostTags {
		return problem.Reject(cannot, fmt.Sprintf("it has more than %d tags", mostTags), "leave some out",
			next.Give.On("tags"))
	}
	return nil
}

func checkSlots(n contract.NewDevice) ([]store.Slot, error) {
	var out []store.Slot
	for _, slot := range n.Slots {
		row, err := checkSlot("the device cannot be added", n.Address, slot)
		if err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	return out, nil
}

// Device shows one device.
func (s *Service) Device(ctx context.Context, name string) (contract.Device, error) {
	d, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return contract.Device{}, problem.Missing(err, next.ListDevices, "no device is called %s", name)
	}
	return s.show(ctx, d)
}

func (s *Service) show(ctx context.Context, d store.Device) (contract.Device, error) {
	slots, err := s.store.Slots.Of(ctx, d.Name)
	if err != nil {
		return contract.Device{}, err
	}
	ways, err := s.store.Devices.Access(ctx, d.ID)
	return s.showWith(d, ways[d.ID], slots), err
}

func (s *Service) showWith(d store.Device, ways []store.Access, slots []store.Slot) contract.Device {
	out := contract.Device{Name: d.Name, Family: d.Family, Site: d.Site, Address: d.Address,
		Access: access.Show(ways), Nodes: all(d.Nodes.V, shownNode),
		Settings: d.Settings.V, Cluster: d.Cluster, ClusterRole: d.ClusterRole, Condition: due.Fresh, Owner: d.Owner,
		Tags: d.Tags.V, Notes: d.Notes, AddedAt: d.AddedAt.Time, Slots: []contract.DeviceSlot{}, Revision: d.Revision}
	for _, slot := range slots {
		out.Slots = append(out.Slots, contract.DeviceSlot{Name: slot.Name, Address: slot.Address, Port: slot.Port,
			Protocol: slot.Protocol, ServerName: slot.ServerName, Identity: slot.Identity,
			More: all(slot.More.V, shownPlace), TrustGroups: slot.TrustGroups.V, ClientUse: slot.ClientUse})
		seen := s.summary(slot)
		if seen.Condition.Rank() < out.Condition.Rank() {
			out.Condition = seen.Condition
		}
		if seen.ExpiresAt != nil && (out.ExpiresAt == nil || seen.ExpiresAt.Before(*out.ExpiresAt)) {
			out.ExpiresAt = seen.ExpiresAt
		}
	}
	return out
}

// RemoveDevice deletes a device with its history and its secrets. It is refused while a replacement of it is under way.
func (s *Service) RemoveDevice(ctx context.Context, name string) error {
	slots, err := s.store.Slots.Of(ctx, name)
	if err != nil {
		return err
	}
	if err := s.atRest(ctx, name+" cannot be removed", slots); err != nil {
		return err
	}
	d, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return problem.Missing(err, next.ListDevices, "no device is called %s", name)
	}
	secrets := access.Purposes(name)
	for _, slot := range slots {
		secrets = append(secrets, access.SlotPurpose(name, slot.Name))
	}
	for setting := range d.Settings.V {
		secrets = append(secrets, settingPurpose(name, setting))
	}
	err = s.store.Devices.Remove(ctx, name, secrets...)
	return problem.Missing(err, next.ListDevices, "no device is called %s", name)
}

// checkSettings checks settings against their family.
func checkSettings(cannot string, p library.Source, settings map[string]string) error {
	if _, err := procedure.NewScope(procedure.Material{Procedure: p.Procedure}, settings, nil); err != nil {
		return problem.Reject(cannot, err.Error(), "", next.ShowProcedure.On(p.Name))
	}
	return nil
}

// sealedSetting is shown and stored in place of a secret setting.
const sealedSetting = "••••••"

func settingPurpose(device, setting string) string { return "device/" + device + "/setting/" + setting }

// sealSettings takes the secrets out of a device's settings and seals them.
func (s *Service) sealSettings(device string, p library.Source, settings map[string]string) map[string][]byte {
	out := map[string][]byte{}
	for name, text := range settings {
		if setting, ok := p.Setting(name); !ok || setting.Kind != value.Secret || text == sealedSetting ||
			text == "" {
			continue
		}
		purpose := settingPurpose(device, name)
		out[purpose] = s.box.Seal(purpose, []byte(text))
		settings[name] = sealedSetting
	}
	return out
}

// OpenSettings returns a device's settings with their secrets.
func (s *Service) OpenSettings(ctx context.Context, d store.Device) (map[string]string, error) {
	out := maps.Clone(d.Settings.V)
	for name, text := range out {
		if text != sealedSetting {
			continue
		}
		purpose := settingPurpose(d.Name, name)
		sealed, err := s.store.Secrets.Get(ctx, purpose)
		if err != nil {
			return nil, fmt.Errorf("the secret setting %s of %s: %w", name, d.Name, err)
		}
		secret, err := s.box.Open(purpose, sealed)
		if err != nil {
			return nil, err
		}
		out[name] = string(secret)
	}
	return out, nil
}
