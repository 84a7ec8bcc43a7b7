package engine

import (
	"context"
	"net"
	"slices"
	"strconv"

	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/protocol"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/device/https"
	"freshseal/device/ssh"
	"freshseal/service/problem"
	"freshseal/store"
)

// web returns how the device's web interface is reached. Any certificate that Fresh Seal installed itself is accepted:
// the new one, the former one, and the one before that, so that a way back that went too far locks nobody out.
func (s ways) web(ctx context.Context, j *Job) (https.Target, error) {
	t, err := s.access.Web(ctx, j.Box)
	if err != nil {
		return t, err
	}
	t.Basic, t.Digest = j.Family.Traits.WebSignIn == procedure.ByBasic,
		j.Family.Traits.WebSignIn == procedure.ByDigest
	if elsewhere, err := s.otherSlotAt(ctx, j, t.Address); elsewhere || err != nil {
		return t, err
	}
	own, err := s.given(ctx, j)
	if err != nil {
		return t, err
	}
	if pinned := t.Pins[0]; slices.Contains(own, pinned) {
		t.Pins = append(t.Pins, own...)
		t.Met = func(shown string) {
			if shown != pinned {
				s.log.Info("the web interface shows another certificate than the pinned one, which Fresh Seal "+
					"put there", "replacement", replacement.Name(j.ID), "device", j.Device, "pinned", pinned, "shown",
					shown)
			}
		}
	}
	return t, nil
}

// otherSlotAt reports whether an address and port belong to another slot of the device, whose certificate does not
// change.
func (s ways) otherSlotAt(ctx context.Context, j *Job, address string) (bool, error) {
	slots, err := s.store.Slots.Of(ctx, j.Device)
	return slices.ContainsFunc(slots, func(slot store.Slot) bool {
		return slot.Protocol == string(protocol.TLS) &&
			net.JoinHostPort(slot.Address, strconv.Itoa(slot.Port)) == address && !slices.Contains(j.SlotIDs(), slot.ID)
	}), err
}

// given returns the certificates that the slots of a job are known to have served: the old one, the one that it
// replaced, and from activate on the new one.
func (s ways) given(ctx context.Context, j *Job) ([]string, error) {
	var out []string
	if !j.Stage.Before(replacement.Activate) {
		out = append(out, j.NewSHA256)
	}
	for _, t := range j.Targets {
		out = append(out, t.OldSHA256, t.Installed)
		before, err := s.store.Replacements.Installs(ctx, t.ID)
		if err != nil {
			return nil, err
		}
		for _, each := range before {
			if each.ID != j.ID && each.State == replacement.Sealed {
				out = append(out, each.NewSHA256, each.OldSHA256)
				break
			}
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(pin string) bool { return pin == "" }), nil
}

// Helpers returns the devices on which some steps of a job are done, by the settings that name them.
func (s ways) Helpers(ctx context.Context, j *Job) (map[string]device.Helper, error) {
	out := map[string]device.Helper{}
	for _, setting := range j.Family.Helpers() {
		name, err := j.Scope.Value(setting)
		if err != nil || name.Text == "" {
			continue
		}
		d, err := s.store.Devices.Get(ctx, name.Text)
		if err != nil {
			return nil, problem.Missing(err, next.ListDevices, "no device is called %s, as the setting %s of %s says",
				name.Text, setting, j.Device)
		}
		if d.ID == j.DeviceID {
			return nil, problem.Reject(name.Text+" cannot help", "it is the device that is worked on",
				"name another device in the setting "+setting, next.ChangeDevice.On(j.Device))
		}
		out[setting] = device.Helper{Name: d.Name, Dial: s.access.Way(d.Site),
			SSH: func(ctx context.Context) (ssh.Target, error) {
				return s.access.SSH(ctx, d)
			}}
	}
	return out, nil
}
