package store

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"

	"github.com/jmoiron/sqlx"
)

// What lists are narrowed by, and what is counted for them.
type (
	SlotFilter = roster.SlotFilter
	SlotName   = roster.Named
	Facet      = roster.Facet
	Facets     = roster.Facets
)

// SlotRow is a slot of a list.
type SlotRow struct {
	Slot
	Family string         `db:"family"`
	Owner  string         `db:"owner"`
	Tags   JSON[[]string] `db:"tags"`
}

// Page is a page of the slots, as of now: the worst condition first, then
// the soonest end, unless another order is asked for.
func (s Slots) Page(ctx context.Context, now Moment, f SlotFilter, p Page) ([]SlotRow, string, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, "", err
	}
	by, err := p.order("condition")
	if err != nil {
		return nil, "", err
	}
	page, err := s.roster.Slots(f, now.UnixMilli(), by)
	ids, next, err := p.turned(page, by, err)
	if err != nil {
		return nil, "", err
	}
	rows, err := s.slotsOnPage(ctx, ids)
	return rows, next, err
}

// slotsOnPage are the slots of a page, in the order of its numbers.
func (s *db) slotsOnPage(ctx context.Context, ids []int64) ([]SlotRow, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT slot.*, device.name AS device, device.site AS site, device.nodes AS nodes,
		device.family AS family, device.owner AS owner, device.tags AS tags
		FROM slot JOIN device ON device.id = slot.device_id WHERE slot.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	var rows []SlotRow
	err = s.read.SelectContext(ctx, &rows, query, args...)
	return inOrder(rows, ids, func(row *SlotRow) int64 { return row.ID }), err
}

// Count says how many slots fit a filter, as of now.
func (s Slots) Count(ctx context.Context, now Moment, f SlotFilter) (int, error) {
	if err := s.age(ctx, now); err != nil {
		return 0, err
	}
	return s.roster.CountSlots(f, now.UnixMilli()), nil
}

// Names are the names of the slots that fit a filter, worst first as in the list.
func (s Slots) Names(ctx context.Context, now Moment, f SlotFilter) ([]SlotName, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	return s.roster.Named(f, now.UnixMilli()), nil
}

// Facets are the values of what lists are filtered by, by value: sites, families,
// owners, tags and signers.
func (s Slots) Facets() Facets { return s.roster.Facets() }

// CountConditions says how many slots have each condition.
func (s Slots) CountConditions(ctx context.Context, now Moment) (map[due.Condition]int, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	out := map[due.Condition]int{}
	s.roster.Each(func(_ string, rank int, _ int64) { out[due.Conditions[rank]]++ })
	return out, nil
}

// CountEnds says how many leaves end between each pair of neighbouring moments, which ascend.
func (s Slots) CountEnds(moments []Moment) []int {
	counts := make([]int, max(0, len(moments)-1))
	s.roster.Each(func(_ string, _ int, end int64) {
		if i := slices.IndexFunc(moments, func(m Moment) bool { return end < m.UnixMilli() }); i > 0 {
			counts[i-1]++
		}
	})
	return counts
}

// SiteSlots is how many slots of a site are in a condition.
type SiteSlots struct {
	Site      string
	Condition due.Condition
	Count     int
}

// CountBySite counts the slots of each site and condition, as of now.
func (s Slots) CountBySite(ctx context.Context, now Moment) ([]SiteSlots, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	counts := map[SiteSlots]int{}
	s.roster.Each(func(site string, rank int, _ int64) {
		counts[SiteSlots{Site: site, Condition: due.Conditions[rank]}]++
	})
	var out []SiteSlots
	for each, n := range counts {
		each.Count = n
		out = append(out, each)
	}
	slices.SortFunc(out, func(x, y SiteSlots) int {
		return cmp.Or(strings.Compare(x.Site, y.Site), x.Condition.Rank()-y.Condition.Rank())
	})
	return out, nil
}

// FirstEnds are when the first certificate of each site ends whose slots could be read.
func (s Slots) FirstEnds() map[string]Moment {
	ends := map[string]int64{}
	s.roster.Each(func(site string, _ int, end int64) {
		if first, known := ends[site]; end > 0 && (!known || end < first) {
			ends[site] = end
		}
	})
	out := make(map[string]Moment, len(ends))
	for site, end := range ends {
		out[site] = At(time.UnixMilli(end))
	}
	return out
}

// DueRow is a slot on which somebody must act.
type DueRow struct {
	SlotRow
	LocksOut bool
}

// Due are the slots that are not fresh, unreachable ones aside, and those whose act-by date comes before
// a moment; in the order in which it bites: what is wrong now, worst first, then by act-by date, those of
// the families that lock people out before the others each time. It returns the first most of
// them, and how many there are.
func (s Slots) Due(ctx context.Context, now, before Moment, site string, lockingOut []string,
	most int) ([]DueRow, int, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, 0, err
	}
	list, total := s.roster.Due(roster.DueFilter{Before: before.UnixMilli(), Site: site, LockingOut: lockingOut}, most)
	ids, locks := make([]int64, len(list)), make(map[int64]bool, len(list))
	for i, each := range list {
		ids[i], locks[each.ID] = each.ID, each.LocksOut
	}
	rows, err := s.slotsOnPage(ctx, ids)
	out := make([]DueRow, len(rows))
	for i, row := range rows {
		out[i] = DueRow{row, locks[row.ID]}
	}
	return out, total, err
}
