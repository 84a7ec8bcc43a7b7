package report

import (
	"context"
	"time"

	"freshseal/contract"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Overview returns the counts of the fleet.
func (s *Service) Overview(ctx context.Context) (contract.Overview, error) {
	out := contract.Overview{WaitingFor: map[replacement.WaitingFor]int{}, Judging: s.monitor.Judging()}
	out.Conditions = s.store.Slots.CountConditions()
	for _, n := range out.Conditions {
		out.Slots += n
	}
	states, waiting, err := s.store.Replacements.Count(ctx)
	if err != nil {
		return out, err
	}
	out.UnderWay, out.Waiting, out.Held = states[replacement.Running], states[replacement.Waiting],
		states[replacement.Held]
	for whom, n := range waiting {
		if whom != replacement.Nobody {
			out.WaitingFor[whom] = n
		}
	}
	if out.Unpacked, err = s.store.Parcels.CountUnpacked(ctx); err != nil {
		return out, err
	}
	if out.Late, err = s.signing.LateParcels(ctx); err != nil {
		return out, err
	}
	if out.PendingPins, err = s.store.Pins.CountUpdates(ctx); err != nil {
		return out, err
	}
	now := s.now()
	moments := []store.Moment{s.moment()}
	for i := range 12 {
		month := time.Date(now.Year(), now.Month()+time.Month(i), 1, 0, 0, 0, 0, time.UTC)
		out.Ends = append(out.Ends, contract.Ends{Month: month.Format("2006-01")})
		moments = append(moments, store.At(month.AddDate(0, 1, 0)))
	}
	for i, n := range s.store.Slots.CountEnds(moments) {
		out.Ends[i].Count = n
	}
	return out, nil
}
