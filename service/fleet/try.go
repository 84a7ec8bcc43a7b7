package fleet

import (
	"context"
	"fmt"
	"time"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/service/problem"
)

// TryDevice tests whether a device can be reached, signed in to and read.
func (s *Service) TryDevice(ctx context.Context, name string) (contract.Try, error) {
	d, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return contract.Try{}, problem.Missing(err, next.ListDevices, "no device is called %s", name)
	}
	out := contract.Try{Device: name, OK: true, At: s.now(), Looks: []contract.TryLook{}}
	add := func(look contract.TryLook) {
		out.OK = out.OK && look.OK
		out.Looks = append(out.Looks, look)
	}
	if p, err := s.Procedure(d.Family); err == nil && p.Uses(procedure.SSH) {
		target, err := s.access.SSH(ctx, d)
		if err != nil {
			return out, err
		}
		add(s.access.Trials.TrySSH(ctx, d.Site, target))
	}
	if p, err := s.Procedure(d.Family); err == nil && p.Uses(procedure.NETCONF) {
		target, err := s.access.Config(ctx, d)
		if err != nil {
			return out, err
		}
		add(s.access.Trials.TryConfig(ctx, d.Site, target))
	}
	if p, err := s.Procedure(d.Family); err == nil && p.Uses(procedure.HTTPS) {
		target, err := s.access.Web(ctx, d)
		if err != nil {
			return out, err
		}
		add(s.access.Trials.TryWeb(ctx, d.Site, target))
	}
	slots, err := s.store.Slots.Of(ctx, name)
	if err != nil {
		return out, err
	}
	for _, slot := range slots {
		look := contract.TryLook{What: fmt.Sprintf("read the slot %s at %s port %d", slot.Name, slot.Address,
			slot.Port)}
		reading, err := s.monitor.Read(ctx, slot)
		if err != nil {
			return out, err
		}
		if leaf := reading.Leaf(); leaf != nil {
			look.OK, look.Said = true, fmt.Sprintf("it serves “%s” until %s", leaf.ShortName(),
				leaf.NotAfter.Format(time.DateOnly))
		} else {
			look.Said, look.Next = reading.Why.What, reading.Why.Remedy
		}
		add(look)
	}
	return out, nil
}
