package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// maybe is the prefix of the tag that names the family a device looks like.
const maybe = "maybe-"

// Adopt adds the proposed devices to the fleet, or none if one of them cannot be added. They are only read until they
// get a family and an access; the family that each looks like becomes a tag.
func (s *Discoveries) Adopt(ctx context.Context, id string, a contract.Adoption) (contract.Adopted, error) {
	out := contract.Adopted{Added: []string{}, There: []string{}, Wrong: []contract.Refused{}}
	found, err := s.Discovery(ctx, id)
	if err != nil {
		return out, err
	}
	const cannot = "nothing is adopted"
	if len(a.Devices) == 0 && !a.All {
		return out, problem.Reject(cannot, "no device is named", "name devices that were proposed, or give all")
	}
	for _, name := range a.Devices {
		if !slices.ContainsFunc(found.Proposals, func(p contract.Proposal) bool { return p.Name == name }) {
			return out, problem.Reject(cannot, fmt.Sprintf("%s does not propose a device %s", id, name),
				"use a name as the proposals have it")
		}
	}
	site := a.Site
	if site == "" {
		site = found.Asked.Site
	}
	var rows []store.NewDevice
	for _, p := range found.Proposals {
		switch {
		case !a.All && !slices.Contains(a.Devices, p.Name), a.All && a.Factory && !p.Factory:
			continue
		case p.Known != "":
			out.There = append(out.There, p.Name)
			continue
		}
		row, err := s.newDevice(ctx, deviceOf(p, site, a))
		var known *problem.Error
		if errors.As(err, &known) {
			out.Wrong = append(out.Wrong, contract.Refused{Device: p.Name, Why: known.Why, Next: known.Next})
			continue
		} else if err != nil {
			return out, err
		}
		out.Added = append(out.Added, p.Name)
		rows = append(rows, row)
	}
	if a.DryRun || len(out.Wrong) > 0 {
		return out, nil
	}
	audit.Say(ctx, "%d devices of %s", len(rows), id)
	if err := s.store.Devices.Add(ctx, rows); errors.Is(err, store.ErrTaken) {
		return out, problem.New(problem.Conflict, cannot, "somebody added one of these devices just now", "try again")
	} else if err != nil {
		return out, err
	}
	out.Done = true
	return out, nil
}

// deviceOf returns a proposal as a new device.
func deviceOf(p contract.Proposal, site string, a contract.Adoption) contract.NewDevice {
	d := contract.NewDevice{Name: p.Name, Address: p.Address, Site: site, Owner: a.Owner, Tags: slices.Clone(a.Tags)}
	if len(p.Families) > 0 {
		d.Tags = append(d.Tags, maybe+p.Families[0])
	}
	for _, slot := range p.Slots {
		n := contract.DeviceSlot{Name: slot.Name, Address: elsewhere(slot.Address, p.Address), Port: slot.Port,
			Protocol: slot.Protocol, ServerName: slot.ServerName}
		for _, more := range slot.More {
			n.More = append(n.More, contract.Place{Address: more.Address, Port: more.Number})
		}
		d.Slots = append(d.Slots, n)
	}
	return d
}
