package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// fill puts the whole fleet into the roster.
func (s *db) fill(ctx context.Context) error {
	var middle int64 // half of the slots have smaller numbers
	if err := s.Read.GetContext(ctx, &middle, `SELECT coalesce(max(id), 0) FROM (SELECT id FROM slot ORDER BY id
		LIMIT (SELECT count(*) / 2 FROM slot))`); err != nil {
		return fmt.Errorf("reading the fleet into memory: %w", err)
	}
	var all roster.Change
	var more []roster.Slot
	var failed [3]error
	var reading sync.WaitGroup // there are two cores at least, and most of it is computing
	reading.Go(func() { all.Slots, failed[0] = gatherSlots(ctx, s.Read, "slot", "slot.id <= ?", middle) })
	reading.Go(func() { more, failed[1] = gatherSlots(ctx, s.Read, "slot", "slot.id > ?", middle) })
	reading.Go(func() { all.Devices, failed[2] = gatherDevices(ctx, s.Read, "device") })
	reading.Wait()
	if err := errors.Join(failed[:]...); err != nil {
		return fmt.Errorf("reading the fleet into memory: %w", err)
	}
	all.Following = len(more)
	s.roster.Put(all)
	s.roster.Put(roster.Change{Slots: more})
	return nil
}

// news returns the devices and slots that a change touches in what the roster holds, taken from the notes of the
// triggers.
func news(ctx context.Context, tx *sqlx.Tx) (out roster.Change, err error) {
	var devices, slots []int64
	if err := tx.SelectContext(ctx, &devices, `SELECT id FROM stale_device`); err != nil {
		return out, err
	}
	if err := tx.SelectContext(ctx, &slots, `SELECT id FROM stale_slot`); err != nil || len(devices)+len(slots) == 0 {
		return out, err
	}
	if out.Devices, err = gatherDevices(ctx, tx, "stale_device CROSS JOIN device USING (id)"); err != nil {
		return out, err
	}
	if out.Slots, err = gatherSlots(ctx, tx, "stale_slot CROSS JOIN slot USING (id)", "TRUE"); err != nil {
		return out, err
	}
	// What is noted and not found is gone. Both are in the order of their numbers.
	out.GoneDevices, out.GoneSlots = gone(devices, out.Devices, func(d roster.Device) int64 { return d.ID }),
		gone(slots, out.Slots, func(s roster.Slot) int64 { return s.ID })
	for _, table := range []string{"stale_device", "stale_slot"} {
		if _, err := tx.ExecContext(ctx, `DELETE FROM `+table); err != nil {
			return out, err
		}
	}
	return out, nil
}

func gone[R any](noted []int64, found []R, id func(R) int64) (out []int64) {
	for _, n := range noted {
		if len(found) > 0 && id(found[0]) == n {
			found = found[1:]
			continue
		}
		out = append(out, n)
	}
	return out
}

// gatherDevices reads devices for the roster, by their numbers. The tables are gone through in the order in which
// they are named: what was noted is few rows, what is beside it many.
func gatherDevices(ctx context.Context, db sqlx.QueryerContext, from string) (out []roster.Device, err error) {
	rows, err := db.QueryxContext(ctx, `SELECT device.id, name, site, family, address, owner, cluster, tags, notes
		FROM `+from+` ORDER BY device.id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := map[string][]string{} // many devices have the same tags
	for rows.Next() {
		var d roster.Device
		var tags, notes string
		if err := rows.Scan(&d.ID, &d.Name, &d.Site, &d.Family, &d.Address, &d.Owner, &d.Cluster, &tags,
			&notes); err != nil {
			return nil, err
		}
		if _, ok := known[tags]; !ok {
			var list JSON[[]string]
			if err := list.Scan(tags); err != nil {
				return nil, err
			}
			known[tags] = list.V
		}
		d.Tags = known[tags]
		d.Words = strings.ToLower(strings.Join(append([]string{d.Name, d.Site, d.Address, d.Owner, notes, d.Cluster},
			d.Tags...), " "))
		out = append(out, d)
	}
	return out, rows.Err()
}

// gatherSlots reads slots for the roster, as gatherDevices does devices.
func gatherSlots(ctx context.Context, db sqlx.QueryerContext, from, where string,
	args ...any) (out []roster.Slot, err error) {
	rows, err := db.QueryxContext(ctx, `SELECT slot.id, slot.device_id, slot.name, slot.address, slot.port,
		slot.signer, slot.condition, slot.not_after, slot.overdue_from, slot.turns_at, slot.issuer, slot.key_type,
		slot.signature, substr(slot.findings, 1, 60), slot.server_name, slot.search_text, substr(slot.chain, 1, 70),
		slot.above,
		device.name AS device FROM `+from+
		` CROSS JOIN device ON device.id = slot.device_id WHERE `+where+` ORDER BY slot.id`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one roster.Slot
		var findings, serverName, searchText, chain, above, device string
		var condition due.Condition
		if err := rows.Scan(&one.ID, &one.Device, &one.Name, &one.Address, &one.Port, &one.Signer, &condition,
			&one.NotAfter, &one.Overdue, &one.TurnsAt, &one.Issuer, &one.KeyType, &one.Signature, &findings,
			&serverName, &searchText, &chain, &above, &device); err != nil {
			return nil, err
		}
		one.Rank, one.Finding = condition.Rank(), quoted(findings, `[{"code":"`)
		one.Words = strings.ToLower(device + "/" + one.Name + " " + one.Address + " " + serverName)
		one.SearchText, one.Above = searchWords(searchText, quoted(chain, `["`), above)
		out = append(out, one)
	}
	return out, rows.Err()
}

// quoted returns the text between an opening and the next quote; nothing where a column begins otherwise. SQLite would
// read all of a column's JSON for that.
func quoted(column, opening string) string {
	rest, ok := strings.CutPrefix(column, opening)
	if !ok {
		return ""
	}
	text, _, _ := strings.Cut(rest, `"`)
	return text
}

// searchWords returns the words of a leaf, its fingerprint among them, and the fingerprints above it, of what is kept.
func searchWords(searchText, leaf, kept string) (words, above string) {
	if leaf != "" {
		searchText += " " + leaf
	}
	return searchText, strings.Trim(kept, `["]`)
}

// fingerprints returns those in a text that searchWords gave as above.
func fingerprints(above string) []string { return strings.Split(above, `","`) }

// orderOf returns a page as the roster takes it.
func orderOf(p Page, natural string) (roster.Order, error) {
	if p.Sort == "" {
		p.Sort = natural
	}
	by := roster.Order{Sort: p.Sort, Desc: p.Desc, Skip: p.Skip, Most: p.Most}
	if p.After == "" {
		return by, nil
	}
	var err error
	by.After, err = sqlite.OpenCursor(p)
	return by, err
}

// turned returns what a page of the roster is for a list: its numbers, and the cursor behind it where there may be
// more.
func turned(p Page, page roster.Page, by roster.Order, err error) (ids []int64, next string, _ error) {
	switch err {
	case roster.ErrSort:
		return nil, "", ErrSort
	case roster.ErrAfter:
		return nil, "", ErrCursor
	}
	if err != nil || len(page.IDs) < p.Most {
		return page.IDs, "", err
	}
	next, err = sqlite.SealCursor(by.Sort, by.Desc, page.Last)
	return page.IDs, next, err
}

// inOrder sorts rows by the numbers of a page; those that are gone by now are left out.
func inOrder[R any](rows []R, ids []int64, id func(*R) int64) []R {
	at := make(map[int64]int, len(rows))
	for i := range rows {
		at[id(&rows[i])] = i
	}
	out := make([]R, 0, len(rows))
	for _, n := range ids {
		if i, found := at[n]; found {
			out = append(out, rows[i])
		}
	}
	return out
}
