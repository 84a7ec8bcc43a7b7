package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshseal/core/due"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Page asks for a part of a list: in which order, from where, how much.
type Page struct {
	Sort   string
	Desc   bool
	Cursor string // of the page before; empty for the first
	Limit  int    // 0: mostItems
}

// mostItems is the size of a page where no smaller one is asked for.
const mostItems = 1000

func (p Page) store() store.Page {
	most := mostItems
	if p.Limit > 0 {
		most = min(p.Limit, mostItems)
	}
	return store.Page{Sort: p.Sort, Desc: p.Desc, After: p.Cursor, Most: most}
}

// wordsOf says in words what is wrong with a page that was asked for.
func (p Page) wordsOf(err error) error {
	switch {
	case errors.Is(err, store.ErrCursor):
		return invalid("the list cannot go on from there", fmt.Sprintf("%q is no cursor of it", p.Cursor), "give the one that came with the page before, with the same order, or none")
	case errors.Is(err, store.ErrSort):
		return invalid("the list cannot be ordered so", fmt.Sprintf("it has no order %q", p.Sort), "see /api/v1/openapi.json for its orders")
	}
	return err
}

func checkCondition(c due.Condition) error {
	if c != "" && !slices.Contains(due.Conditions, c) {
		return invalid("the list cannot be filtered so", fmt.Sprintf("no condition is called %q", c), fmt.Sprintf("give one of %v", due.Conditions))
	}
	return nil
}

// The filters of the lists.
type (
	SlotFilter        = store.SlotFilter
	DeviceFilter      = store.DeviceFilter
	ReplacementFilter = store.ReplacementFilter
)

// Slots are a page of the slots of the fleet, worst condition first, then
// soonest end, and the cursor of the next page or nothing.
func (s *Service) Slots(ctx context.Context, f SlotFilter, p Page) (slots []Slot, next string, err error) {
	if err := checkCondition(f.Condition); err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.SlotPage(ctx, s.moment(), f, p.store())
	slots = make([]Slot, 0, len(rows))
	for _, row := range rows {
		slot := s.summary(row.Slot)
		slot.Replaceable = row.Family != ""
		slots = append(slots, slot)
	}
	return slots, next, p.wordsOf(err)
}

// Devices are a page of the devices by name, and the cursor of the next page or
// nothing.
func (s *Service) Devices(ctx context.Context, f DeviceFilter, p Page) (devices []Device, next string, err error) {
	if err := checkCondition(f.Condition); err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.DevicePage(ctx, s.moment(), f, p.store())
	if err != nil {
		return nil, "", p.wordsOf(err)
	}
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	slots, err := s.store.SlotsOfDevices(ctx, ids)
	devices = make([]Device, 0, len(rows))
	for _, row := range rows {
		devices = append(devices, s.showWith(row.Device, slots[row.ID]))
	}
	return devices, next, err
}

// allDevices are all devices by name.
func (s *Service) allDevices(ctx context.Context) ([]Device, error) {
	var all []Device
	for p := (Page{}); ; {
		some, next, err := s.Devices(ctx, DeviceFilter{}, p)
		all = append(all, some...)
		if p.Cursor = next; err != nil || next == "" {
			return all, err
		}
	}
}

// Replacements are a page of the replacements, newest first, and the cursor of
// the next page or nothing.
func (s *Service) Replacements(ctx context.Context, f ReplacementFilter, p Page) (out []Replacement, next string, err error) {
	p.Desc = true
	rows, next, err := s.store.ReplacementPage(ctx, f, p.store())
	out = make([]Replacement, 0, len(rows))
	for _, row := range rows {
		out = append(out, showReplacement(row))
	}
	return out, next, p.wordsOf(err)
}

// Overview is how the fleet stands.
type Overview struct {
	Slots      int                            `json:"slots" required:"true"`
	Conditions map[due.Condition]int          `json:"conditions" required:"true"`
	UnderWay   int                            `json:"under_way" required:"true"`
	Waiting    int                            `json:"waiting" required:"true"`
	WaitingFor map[replacement.WaitingFor]int `json:"waiting_for" required:"true" description:"how many wait for whom"`
	Held       int                            `json:"held" required:"true"`
	Late       []Parcel                       `json:"late" required:"true" description:"parcels whose signer should have answered by now"`
	Judging    *Judging                       `json:"judging,omitempty" description:"how far the fleet has been judged anew since a change of policy or trust"`
	Ends       []Ends                         `json:"ends" required:"true" description:"how many certificates end in this month and the eleven after it"`
}

// Ends is how many certificates end in a month.
type Ends struct {
	Month string `json:"month" required:"true" description:"2026-11"`
	Count int    `json:"count" required:"true"`
}

// Overview counts.
func (s *Service) Overview(ctx context.Context) (Overview, error) {
	out := Overview{WaitingFor: map[replacement.WaitingFor]int{}, Judging: s.Judging()}
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
	parcels, err := s.Parcels(ctx)
	if err != nil {
		return out, err
	}
	out.Late = slices.DeleteFunc(parcels, func(p Parcel) bool { return !p.Late })
	now := s.now()
	moments := []store.Moment{s.moment()}
	for i := range 12 {
		month := time.Date(now.Year(), now.Month()+time.Month(i), 1, 0, 0, 0, 0, time.UTC)
		out.Ends = append(out.Ends, Ends{Month: month.Format("2006-01")})
		moments = append(moments, store.At(month.AddDate(0, 1, 0)))
	}
	counts, err := s.store.CountEnds(ctx, moments)
	for i, n := range counts {
		out.Ends[i].Count = n
	}
	return out, err
}
