package replace

import (
	"context"
	"time"

	"freshseal/contract"
	"freshseal/core/replacement"
	"freshseal/service/fleet"
	"freshseal/service/paging"
	"freshseal/store"
)

// Replacements returns a page of the replacements, newest first, and the cursor of
// the next page or nothing.
func (s *Service) Replacements(ctx context.Context, f fleet.ReplacementFilter,
	p paging.Page) (out []contract.Replacement, next string, err error) {
	p.Desc = true
	rows, next, err := s.store.Replacements.Page(ctx, f, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	targets, err := s.store.Replacements.Targets(ctx, ids...)
	out = make([]contract.Replacement, 0, len(rows))
	for _, row := range rows {
		out = append(out, showReplacement(row, targets[row.ID]))
	}
	return out, next, err
}

// CountReplacements says how many replacements fit a filter.
func (s *Service) CountReplacements(ctx context.Context, f fleet.ReplacementFilter) (int, error) {
	return s.store.Replacements.CountOf(ctx, f)
}

// Overview returns the counts of the fleet.
func (s *Service) Overview(ctx context.Context) (contract.Overview, error) {
	out := contract.Overview{WaitingFor: map[replacement.WaitingFor]int{}, Judging: s.monitor.Judging()}
	var err error
	if out.Conditions, err = s.store.Slots.CountConditions(ctx, s.moment()); err != nil {
		return out, err
	}
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
