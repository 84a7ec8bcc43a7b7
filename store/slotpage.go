package store

import (
	"context"
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
	SiteSlots  = roster.SiteSlots
)

// SlotRow is a slot of a list.
type SlotRow struct {
	Slot
	Family string         `db:"family"`
	Owner  string         `db:"owner"`
	Tags   JSON[[]string] `db:"tags"`
}

// Page returns a page of the slots, as of now: the worst condition first, then
// the soonest end, unless another order is asked for.
func (s Slots) Page(ctx context.Context, now Moment, f SlotFilter, p Page) ([]SlotRow, string, error) {
	by, err := orderOf(p, "condition")
	if err != nil {
		return nil, "", err
	}
	page, err := s.roster.Slots(f, now.UnixMilli(), by)
	ids, next, err := turned(p, page, by, err)
	if err != nil {
		return nil, "", err
	}
	rows, err := s.slotsOnPage(ctx, ids)
	return rows, next, err
}

// slotsOnPage returns the slots of a page, in the order of its numbers.
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
	err = s.Read.SelectContext(ctx, &rows, query, args...)
	return inOrder(rows, ids, func(row *SlotRow) int64 { return row.ID }), err
}

// Count returns how many slots fit a filter, as of now.
func (s Slots) Count(now Moment, f SlotFilter) int {
	return s.roster.CountSlots(f, now.UnixMilli())
}

// Names returns the names of the slots that fit a filter, worst first as in the list.
func (s Slots) Names(now Moment, f SlotFilter) []SlotName {
	return s.roster.Named(f, now.UnixMilli())
}

// Facets returns the values of what lists are filtered by, by value: sites, families,
// owners, tags and signers.
func (s Slots) Facets() Facets { return s.roster.Facets() }

// CountConditions returns how many slots have each condition.
func (s Slots) CountConditions() map[due.Condition]int { return s.roster.Conditions() }

// CountEnds returns how many leaves end between each pair of neighbouring moments, which ascend.
func (s Slots) CountEnds(moments []Moment) []int {
	at := make([]int64, len(moments))
	for i, m := range moments {
		at[i] = m.UnixMilli()
	}
	return s.roster.EndsBetween(at)
}

// CountBySite counts the slots of each site and condition.
func (s Slots) CountBySite() []SiteSlots { return s.roster.BySite() }

// FirstEnds returns when the first certificate of each site ends whose slots could be read.
func (s Slots) FirstEnds() map[string]Moment {
	out := map[string]Moment{}
	for site, end := range s.roster.FirstEnds() {
		out[site] = At(time.UnixMilli(end))
	}
	return out
}

// Part are the first of some slots, and the count.
type Part struct {
	First []DueRow
	Total int
}

// Urgent are the slots that people must look at; see roster.Urgent.
type Urgent struct {
	Breaking, Start, Faulty, Unreachable Part
	NotRead                              int
}

// Urgent returns at most so many of each part of the slots that people must look at, as of now.
func (s Slots) Urgent(ctx context.Context, now Moment, lockingOut []string, most int) (out Urgent, err error) {
	found := s.roster.Urgent(now.UnixMilli(), lockingOut, most)
	for part, some := range map[*Part]roster.Some{&out.Breaking: found.Breaking, &out.Start: found.Start,
		&out.Faulty: found.Faulty, &out.Unreachable: found.Unreachable} {
		part.Total = some.Total
		if part.First, err = s.dueRows(ctx, some.First); err != nil {
			return out, err
		}
	}
	return out, s.Read.GetContext(ctx, &out.NotRead, `SELECT count(*) FROM slot WHERE read_at = 0`)
}

func (s *db) dueRows(ctx context.Context, list []roster.Due) ([]DueRow, error) {
	ids, locks := make([]int64, len(list)), make(map[int64]bool, len(list))
	for i, each := range list {
		ids[i], locks[each.ID] = each.ID, each.LocksOut
	}
	rows, err := s.slotsOnPage(ctx, ids)
	out := make([]DueRow, len(rows))
	for i, row := range rows {
		out[i] = DueRow{row, locks[row.ID]}
	}
	return out, err
}

// Date is a day on which something is due on slots; the slots of its entries are Slots, by their numbers.
type Date = roster.Date

// Dates returns the days between two on which something is due at a site, or everywhere, and the slots of the entries
// that it names; see roster.Dates.
func (s Slots) Dates(ctx context.Context, from, until Moment, site string, lockingOut []string,
	most int) ([]Date, map[int64]SlotRow, error) {
	dates := s.roster.Dates(from.UnixMilli(), until.UnixMilli(), site, lockingOut, most)
	seen := map[int64]SlotRow{}
	var ids []int64
	for _, d := range dates {
		for _, e := range d.Entries {
			if _, has := seen[e.ID]; !has {
				seen[e.ID] = SlotRow{}
				ids = append(ids, e.ID)
			}
		}
	}
	for len(ids) > 0 {
		some := ids[:min(1000, len(ids))]
		ids = ids[len(some):]
		rows, err := s.slotsOnPage(ctx, some)
		if err != nil {
			return nil, nil, err
		}
		for _, row := range rows {
			seen[row.ID] = row
		}
	}
	return dates, seen, nil
}

// DueRow is a slot on which somebody must act.
type DueRow struct {
	SlotRow
	LocksOut bool
}

// Due returns the slots that are not fresh, unreachable ones aside, and those whose act-by date comes before
// a moment; in the order in which it bites: what is wrong now, worst first, then by act-by date, those of
// the families that lock people out before the others each time. It returns the first most of
// them, and the count.
func (s Slots) Due(ctx context.Context, before Moment, site string, lockingOut []string,
	most int) ([]DueRow, int, error) {
	list, total := s.roster.Due(roster.DueFilter{Before: before.UnixMilli(), Site: site, LockingOut: lockingOut}, most)
	out, err := s.dueRows(ctx, list)
	return out, total, err
}
