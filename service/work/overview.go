package work

import (
	"context"
	"time"

	"freshseal/core/due"
	"freshseal/core/replacement"
	"freshseal/service/desk"
	"freshseal/service/fleet"
	"freshseal/service/paging"
	"freshseal/service/watch"
	"freshseal/store"
)

// Replacements returns a page of the replacements, newest first, and the cursor of
// the next page or nothing.
func (s *Service) Replacements(ctx context.Context, f fleet.ReplacementFilter, p paging.Page) (out []Replacement, next string, err error) {
	p.Desc = true
	rows, next, err := s.store.ReplacementPage(ctx, f, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	targets, err := s.store.Targets(ctx, ids...)
	out = make([]Replacement, 0, len(rows))
	for _, row := range rows {
		out = append(out, showReplacement(row, targets[row.ID]))
	}
	return out, next, err
}

// CountReplacements says how many replacements fit a filter.
func (s *Service) CountReplacements(ctx context.Context, f fleet.ReplacementFilter) (int, error) {
	return s.store.CountReplacementsOf(ctx, f)
}

// Overview is a summary of the fleet.
type Overview struct {
	Slots      int                            `json:"slots" required:"true"`
	Conditions map[due.Condition]int          `json:"conditions" required:"true"`
	UnderWay   int                            `json:"under_way" required:"true"`
	Waiting    int                            `json:"waiting" required:"true"`
	WaitingFor map[replacement.WaitingFor]int `json:"waiting_for" required:"true" description:"how many wait for whom"`
	Held       int                            `json:"held" required:"true"`
	ToTell     int                            `json:"to_tell" required:"true" description:"how many who pinned a fingerprint must still be told of the new one"`
	Unpacked   map[string]int                 `json:"unpacked" required:"true" description:"how many requests of each signer are in no parcel yet"`
	Late       []desk.Parcel                  `json:"late" required:"true" description:"parcels whose signer should have answered by now"`
	Judging    *watch.Judging                 `json:"judging,omitempty" description:"how far the fleet has been judged anew since a change of policy or trust"`
	Ends       []Ends                         `json:"ends" required:"true" description:"how many certificates end in this month and the eleven after it"`
}

// Ends is how many certificates end in a month.
type Ends struct {
	Month string `json:"month" required:"true" description:"2026-11"`
	Count int    `json:"count" required:"true"`
}

// Overview returns the counts of the fleet.
func (s *Service) Overview(ctx context.Context) (Overview, error) {
	out := Overview{WaitingFor: map[replacement.WaitingFor]int{}, Judging: s.watch.Judging()}
	var err error
	if out.Conditions, err = s.store.CountConditions(ctx, s.moment()); err != nil {
		return out, err
	}
	for _, n := range out.Conditions {
		out.Slots += n
	}
	states, waiting, err := s.store.CountReplacements(ctx)
	if err != nil {
		return out, err
	}
	out.UnderWay, out.Waiting, out.Held = states[replacement.Running], states[replacement.Waiting], states[replacement.Held]
	for whom, n := range waiting {
		if whom != replacement.Nobody {
			out.WaitingFor[whom] = n
		}
	}
	if out.Unpacked, err = s.store.CountUnpacked(ctx); err != nil {
		return out, err
	}
	if out.Late, err = s.desk.LateParcels(ctx); err != nil {
		return out, err
	}
	if out.ToTell, err = s.store.CountTellings(ctx); err != nil {
		return out, err
	}
	now := s.now()
	moments := []store.Moment{s.moment()}
	for i := range 12 {
		month := time.Date(now.Year(), now.Month()+time.Month(i), 1, 0, 0, 0, 0, time.UTC)
		out.Ends = append(out.Ends, Ends{Month: month.Format("2006-01")})
		moments = append(moments, store.At(month.AddDate(0, 1, 0)))
	}
	for i, n := range s.store.CountEnds(moments) {
		out.Ends[i].Count = n
	}
	return out, nil
}
