package store

import (
	"context"
	"strings"

	"freshseal/core/due"
)

// SlotFilter narrows a list of slots; empty fields do not.
type SlotFilter struct {
	Condition due.Condition
	Device    string
	Site      string
	Text      string // somewhere in the names, site or address
}

// SlotCursor is the place of a slot in the order of the list.
type SlotCursor struct {
	Rank     int   `db:"rank"`
	NotAfter int64 `db:"end"`
	ID       int64 `db:"id"`
}

// SlotRow is a slot with its place in the list.
type SlotRow struct {
	Slot
	Rank   int    `db:"rank"`
	Family string `db:"family"`
}

// ranked gives each slot the rank of its condition at a time, as
// due.Standing.At does; ?1 is that time in milliseconds.
const ranked = `SELECT slot.*, device.name AS device, device.site AS site, device.family AS family,
	CASE WHEN standing = 'dark' THEN 0 WHEN not_after < ?1 THEN 1 WHEN standing = 'stray' THEN 2 WHEN standing = 'factory' THEN 3
		WHEN standing = 'flawed' THEN 4 WHEN overdue_from < ?1 THEN 5 WHEN due_from < ?1 THEN 6 ELSE 7 END AS rank
	FROM slot JOIN device ON device.id = slot.device_id`

// SlotPage are up to most slots behind a place in the list: worst condition
// first, then soonest end.
func (s *Store) SlotPage(ctx context.Context, now Moment, f SlotFilter, after SlotCursor, most int) ([]SlotRow, error) {
	query := `SELECT * FROM (` + ranked + `) WHERE (rank, not_after, id) > (?2, ?3, ?4)`
	args := []any{now, after.Rank, after.NotAfter, after.ID, f.Condition.Rank(), f.Device, f.Site, strings.ToLower(f.Text)}
	for _, each := range []struct {
		wanted    bool
		condition string
	}{
		{f.Condition != "", `rank = ?5`}, {f.Device != "", `device = ?6`}, {f.Site != "", `site = ?7`},
		{f.Text != "", `instr(lower(device || '/' || name || ' ' || site || ' ' || address || ' ' || server_name), ?8) > 0`},
	} {
		if each.wanted {
			query += " AND " + each.condition
		}
	}
	query += ` ORDER BY rank, not_after, id LIMIT ?9`
	var out []SlotRow
	return out, s.read.SelectContext(ctx, &out, query, append(args, most)...)
}

// CountConditions says how many slots have each condition.
func (s *Store) CountConditions(ctx context.Context, now Moment) (map[due.Condition]int, error) {
	var rows []struct {
		Rank  int `db:"rank"`
		Count int `db:"count"`
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT rank, count(*) AS count FROM (`+ranked+`) GROUP BY rank`, now); err != nil {
		return nil, err
	}
	out := map[due.Condition]int{}
	for _, row := range rows {
		out[due.Conditions[row.Rank]] = row.Count
	}
	return out, nil
}
