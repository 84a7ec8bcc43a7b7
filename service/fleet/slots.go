package fleet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/protocol"
	"freshseal/core/replacement"
	"freshseal/service/access"
	"freshseal/service/audit"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/wire"
)

// checkSlot checks a slot of a device at an address, and returns its row.
func checkSlot(cannot, address string, slot contract.DeviceSlot) (store.Slot, error) {
	row := store.Slot{Name: slot.Name, Address: slot.Address, Port: slot.Port,
		ServerName: request.PlainName(slot.ServerName), Identity: slot.Identity, ClientUse: slot.ClientUse}
	if row.Address == "" {
		row.Address = address
	}
	about, known := protocol.Named(slot.Protocol)
	if row.Protocol = string(about.Reads()); row.Port == 0 {
		row.Port = about.Port
	}
	row.More.V, row.TrustGroups.V = all(slot.More, storedPlace), append([]string{}, slot.TrustGroups...)
	for _, p := range slot.More {
		if request.AddressFlaw(p.Address) != "" || p.Port < 1 || p.Port > 65535 {
			return row, problem.Reject(cannot, fmt.Sprintf("%q and %d are not an address and a port", p.Address,
				p.Port), "give each further address of a slot with its port")
		}
	}
	switch {
	case !known:
		return row, monitor.UnknownProtocol(cannot, slot.Protocol)
	case !naming.Slot(slot.Name):
		return row, problem.Reject(cannot, fmt.Sprintf("%q is not a valid slot name", slot.Name), naming.Rule)
	case row.Port < 1 || row.Port > 65535:
		return row, problem.Reject(cannot, fmt.Sprintf("%d is not a port", row.Port), "give a port from 1 to 65535")
	case request.AddressFlaw(row.Address) != "", row.ServerName != "" && !request.IsName(row.ServerName):
		return row, problem.Reject(cannot, fmt.Sprintf("the slot %s has an invalid address or server name",
			slot.Name), "give an IP address or a DNS name")
	case (slot.Secret != "" || slot.Identity != "") && !about.OverEAP:
		return row, problem.Reject(cannot, fmt.Sprintf("the slot %s has a shared secret or an identity, and is not "+
			"read by EAP", slot.Name), "set its protocol to peap, ttls or eap-tls", next.Give.On("protocol"))
	case len(slot.Secret) > mostShared || len(slot.Identity) > mostIdentity:
		return row, problem.Reject(cannot, fmt.Sprintf("the shared secret or the identity of the slot %s is too long",
			slot.Name), fmt.Sprintf("give at most %d bytes for a secret and %d for an identity", mostShared,
			mostIdentity))
	}
	return row, nil
}

// Limits of RADIUS: an attribute has at most 253 bytes (RFC 2865, 5).
const (
	mostShared   = 255
	mostIdentity = 253
)

// sealShared seals the shared secret of a slot.
func (s *Service) sealShared(into map[string][]byte, device, slot, secret string) map[string][]byte {
	if into == nil {
		into = map[string][]byte{}
	}
	purpose := access.SlotPurpose(device, slot)
	into[purpose] = s.box.Seal(purpose, []byte(secret))
	return into
}

// AddSlot adds a slot to a device, and reads it.
func (s *Service) AddSlot(ctx context.Context, device string, slot contract.DeviceSlot) (contract.Slot, error) {
	cannot := fmt.Sprintf("the slot %s/%s cannot be added", device, slot.Name)
	d, err := s.store.Devices.Get(ctx, device)
	if err != nil {
		return contract.Slot{}, problem.Missing(err, next.ListDevices, "no device is called %s", device)
	}
	if d.Family == OwnFamily {
		return contract.Slot{}, notOwn(cannot)
	}
	row, err := checkSlot(cannot, d.Address, slot)
	if err != nil {
		return contract.Slot{}, err
	}
	if err := s.monitor.Trust.KnownTrustGroups(ctx, cannot, slot.TrustGroups); err != nil {
		return contract.Slot{}, err
	}
	row.DeviceID = d.ID
	var secrets map[string][]byte
	if slot.Secret != "" {
		secrets = s.sealShared(nil, device, slot.Name, slot.Secret)
	}
	err = s.store.Slots.Add(ctx, device, row, secrets)
	if errors.Is(err, store.ErrTaken) {
		return contract.Slot{}, problem.New(problem.Conflict, cannot, "it already exists",
			"choose another name, or edit it", next.ShowSlot.On(device+"/"+slot.Name))
	}
	if err != nil {
		return contract.Slot{}, err
	}
	audit.Differences(ctx, nil, slotFacts(row))
	return s.ReadSlot(ctx, device, slot.Name)
}

// EditSlot changes where and how a slot is read, and reads it. It is refused while a
// replacement of it is in progress, which would be proven somewhere else than it began.
func (s *Service) EditSlot(ctx context.Context, device, name string, c contract.SlotChange,
	known problem.Revision) (contract.Slot, error) {
	e, before, err := s.planSlot(ctx, device, name, c)
	if err != nil {
		return contract.Slot{}, err
	}
	e.Known = known
	if err := s.store.Slots.Change(ctx, e); err != nil {
		return contract.Slot{}, problem.Outdated(err)
	}
	audit.Differences(ctx, before, slotFacts(e.Slot))
	if len(e.Secrets) > 0 {
		audit.Say(ctx, "a new shared secret")
	}
	if err := s.monitor.JudgeSlots(ctx, []store.Slot{e.Slot}); err != nil { // also where the same is served
		return contract.Slot{}, err
	}
	return s.ReadSlot(ctx, device, name)
}

// planSlot checks a change of a slot, and returns its state before.
func (s *Service) planSlot(ctx context.Context, device, name string,
	c contract.SlotChange) (out store.SlotEdit, before map[string]string, err error) {
	cannot := fmt.Sprintf("the slot %s/%s cannot be changed", device, name)
	row, err := s.freeSlot(ctx, cannot, device, name)
	if err != nil {
		return out, nil, err
	}
	d, err := s.store.Devices.Get(ctx, device)
	if err != nil {
		return out, nil, err
	}
	before = slotFacts(row)
	wanted := wantedSlot(row, c)
	if err := s.monitor.Trust.KnownTrustGroups(ctx, cannot, wanted.TrustGroups); err != nil {
		return out, nil, err
	}
	if len(wanted.TrustGroups) == 1 && wanted.TrustGroups[0] == monitor.Fleet {
		wanted.TrustGroups = nil
	}
	changed, err := checkSlot(cannot, d.Address, wanted)
	if err != nil {
		return out, nil, err
	}
	if wire.Protocol(changed.Protocol).OverEAP() && wanted.Secret == "" && c.Secret == nil &&
		!samePlaces(row, changed) {
		sealed, err := s.access.SlotSecret(ctx, device, name)
		if err != nil {
			return out, nil, err
		}
		if len(sealed) > 0 {
			return out, nil, problem.Reject(cannot, "its shared secret was given for another address or port",
				"give the shared secret again", next.Give.On("secret"))
		}
	}
	row.Address, row.Port, row.Protocol = changed.Address, changed.Port, changed.Protocol
	row.ServerName, row.Identity, row.More = changed.ServerName, changed.Identity, changed.More
	row.TrustGroups, row.ClientUse = changed.TrustGroups, changed.ClientUse
	out.Slot = row
	switch {
	case wanted.Secret != "":
		out.Secrets = s.sealShared(nil, device, name, wanted.Secret)
	case c.Secret != nil || !wire.Protocol(row.Protocol).OverEAP():
		out.Gone = append(out.Gone, access.SlotPurpose(device, name))
	}
	return out, before, nil
}

// wantedSlot returns a slot as it will be after a change.
func wantedSlot(row store.Slot, c contract.SlotChange) contract.DeviceSlot {
	wanted := contract.DeviceSlot{Name: row.Name, Address: row.Address, Port: row.Port, Protocol: row.Protocol,
		ServerName: row.ServerName, Identity: row.Identity, More: all(row.More.V, shownPlace),
		TrustGroups: row.TrustGroups.V, ClientUse: row.ClientUse}
	set(&wanted.Address, c.Address)
	set(&wanted.ServerName, c.ServerName)
	if c.Protocol != nil && *c.Protocol != wanted.Protocol {
		if wanted.Protocol = *c.Protocol; c.Port == nil {
			wanted.Port = 0
		}
		if about, _ := protocol.Named(wanted.Protocol); !about.OverEAP {
			wanted.Identity = ""
		}
	}
	set(&wanted.Port, c.Port)
	set(&wanted.Identity, c.Identity)
	set(&wanted.Secret, c.Secret)
	set(&wanted.ClientUse, c.ClientUse)
	if c.More != nil {
		wanted.More = c.More
	}
	if c.TrustGroups != nil {
		wanted.TrustGroups = c.TrustGroups
	}
	return wanted
}

// samePlaces reports whether a slot is read at the same addresses and ports.
func samePlaces(x, y store.Slot) bool {
	return x.Address == y.Address && x.Port == y.Port && slices.Equal(x.More.V, y.More.V)
}

// RemoveSlot deletes a slot with its history. A device keeps at least one.
func (s *Service) RemoveSlot(ctx context.Context, device, name string) error {
	cannot := fmt.Sprintf("the slot %s/%s cannot be removed", device, name)
	row, err := s.freeSlot(ctx, cannot, device, name)
	if err != nil {
		return err
	}
	all, err := s.store.Slots.Of(ctx, device)
	if err != nil {
		return err
	}
	if len(all) < 2 {
		return problem.New(problem.Conflict, cannot, "it is the only slot of its device",
			"remove the device, or add another slot first", next.ChangeDevice.On(device))
	}
	err = s.store.Slots.Remove(ctx, row, access.SlotPurpose(device, name))
	return problem.Missing(err, next.ListSlots, "there is no slot %s/%s", device, name)
}

// freeSlot returns a slot of which no replacement is in progress.
func (s *Service) freeSlot(ctx context.Context, cannot, device, name string) (store.Slot, error) {
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return row, err
	}
	slots, err := s.store.Slots.Of(ctx, device)
	if err != nil {
		return row, err
	}
	return row, s.atRest(ctx, cannot, slots)
}

// atRest refuses a change while a replacement of one of these slots is in progress.
func (s *Service) atRest(ctx context.Context, cannot string, slots []store.Slot) error {
	for _, slot := range slots {
		newest, err := s.store.Replacements.List(ctx, slot.ID, 1)
		if err != nil {
			return err
		}
		if len(newest) > 0 && !newest[0].State.Over() {
			return problem.New(problem.Conflict, cannot, fmt.Sprintf("its replacement %s is in progress",
				replacement.Name(newest[0].ID)), "cancel it first", next.Cancel.On(replacement.Name(newest[0].ID)))
		}
	}
	return nil
}

// slotFacts returns what users state about a slot, for the audit log.
func slotFacts(row store.Slot) map[string]string {
	out := map[string]string{"address": net.JoinHostPort(row.Address, strconv.Itoa(row.Port)),
		"protocol": row.Protocol, "server_name": row.ServerName, "identity": row.Identity,
		"trust_groups": strings.Join(row.TrustGroups.V, ", "),
		"client_use":   map[bool]string{true: "yes"}[row.ClientUse]}
	for _, p := range row.More.V {
		at := net.JoinHostPort(p.Address, strconv.Itoa(p.Port))
		out["also at "+at] = at
	}
	return out
}
