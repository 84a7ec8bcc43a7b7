package store

import (
	"context"
	"strings"

	"freshseal/core/due"

	"github.com/jmoiron/sqlx"
)

// SlotFilter narrows a list of slots; empty fields do not.
type SlotFilter struct {
	Condition due.Condition
	Device    string
	Site      string
	Text      string // somewhere in the names, site or address
}

// SlotRow is a slot of a list.
type SlotRow struct {
	Slot
	Family string `db:"family"`
}

var slotList = list[SlotRow]{
	query: `SELECT slot.*, device.name AS device, device.site AS site, device.family AS family FROM slot JOIN device ON device.id = slot.device_id`,
	orders: map[string][]string{
		"condition": {"slot.rank", "slot.not_after", "slot.id"}, "expires_at": {"slot.not_after", "slot.id"},
		"device": {"device.name", "slot.name"}, "site": {"device.site", "device.name", "slot.name"}, "address": {"slot.address", "slot.port", "slot.id"},
	},
	natural: "condition",
	keyed: func(row SlotRow) map[string]any {
		end, _ := row.NotAfter.Value()
		return map[string]any{"slot.rank": row.Rank, "slot.not_after": end, "slot.id": row.ID, "device.name": row.Device, "slot.name": row.Name,
			"device.site": row.Site, "slot.address": row.Address, "slot.port": row.Port}
	},
}

// SlotPage is a page of the slots, as of now: the worst condition first, then
// the soonest end, unless another order is asked for.
func (s *Store) SlotPage(ctx context.Context, now Moment, f SlotFilter, p Page) ([]SlotRow, string, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, "", err
	}
	narrowed := narrow(map[string]string{"device.name = ?": f.Device, "device.site = ?": f.Site,
		"instr(lower(device.name || '/' || slot.name || ' ' || device.site || ' ' || slot.address || ' ' || slot.server_name), ?) > 0": strings.ToLower(f.Text)})
	if f.Condition != "" {
		narrowed = append(narrowed, narrowing{"slot.rank = ?", []any{f.Condition.Rank()}})
	}
	return slotList.page(ctx, s, p, narrowed...)
}

// CountConditions says how many slots have each condition.
func (s *Store) CountConditions(ctx context.Context, now Moment) (map[due.Condition]int, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	var rows []struct {
		Rank  int `db:"rank"`
		Count int `db:"count"`
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT rank, count(*) AS count FROM slot GROUP BY rank`); err != nil {
		return nil, err
	}
	out := map[due.Condition]int{}
	for _, row := range rows {
		out[due.Conditions[row.Rank]] = row.Count
	}
	return out, nil
}

// CountEnds says how many leaves end between each pair of neighbouring moments.
func (s *Store) CountEnds(ctx context.Context, moments []Moment) ([]int, error) {
	counts := make([]int, max(0, len(moments)-1))
	for i := range counts {
		err := s.read.GetContext(ctx, &counts[i], `SELECT count(*) FROM slot WHERE not_after >= ? AND not_after < ?`, moments[i], moments[i+1])
		if err != nil {
			return nil, err
		}
	}
	return counts, nil
}

// rank fills in the place of the slot's condition at a time, and when that
// turns. The list is ordered by what stands in the row, which age brings up to date.
func (slot *Slot) rank(at Moment) {
	standing := due.Standing{Base: slot.Standing, Overdue: slot.OverdueFrom.Time, Due: slot.DueFrom.Time}
	slot.Rank = standing.At(slot.NotAfter.Time, at.Time).Rank()
	slot.TurnsAt = Moment{standing.Turns(slot.NotAfter.Time, at.Time)}
}

// age moves the slots whose moment has come to their new place. Mostly there
// are none, and one look at an index says so.
func (s *Store) age(ctx context.Context, now Moment) error {
	const turned = `SELECT id, standing, overdue_from, due_from, not_after FROM slot WHERE turns_at > 0 AND turns_at < ? LIMIT 5000`
	for {
		var rows []Slot
		if err := s.read.SelectContext(ctx, &rows, turned, now); err != nil || len(rows) == 0 {
			return err
		}
		err := s.change(ctx, func(tx *sqlx.Tx) error {
			if err := tx.SelectContext(ctx, &rows, turned, now); err != nil {
				return err
			}
			for _, row := range rows {
				row.rank(now)
				if _, err := tx.NamedExecContext(ctx, `UPDATE slot SET rank = :rank, turns_at = :turns_at WHERE id = :id`, row); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
}
