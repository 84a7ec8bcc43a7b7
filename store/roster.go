package store

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// fill puts the whole fleet into the roster.
func (s *db) fill(ctx context.Context) error {
	var has struct{ Devices, Slots, Middle int64 } // half of the slots have smaller numbers
	if err := s.Read.GetContext(ctx, &has, `SELECT (SELECT count(*) FROM device) AS devices,
		(SELECT count(*) FROM slot) AS slots, (SELECT coalesce(max(id), 0) FROM
		(SELECT id FROM slot ORDER BY id LIMIT (SELECT count(*) / 2 FROM slot))) AS middle`); err != nil {
		return fmt.Errorf("reading the fleet into memory: %w", err)
	}
	all := roster.Change{Devices: make([]roster.Device, 0, has.Devices), Slots: make([]roster.Slot, 0, has.Slots)}
	more := make([]roster.Slot, 0, has.Slots-has.Slots/2)
	var failed [3]error
	var reading sync.WaitGroup // there are two cores at least, and most of it is computing
	reading.Go(func() { failed[0] = gatherSlots(ctx, s.Read, &all.Slots, "slot", "slot.id <= ?", has.Middle) })
	reading.Go(func() { failed[1] = gatherSlots(ctx, s.Read, &more, "slot", "slot.id > ?", has.Middle) })
	reading.Go(func() { failed[2] = gatherDevices(ctx, s.Read, &all.Devices, "device") })
	reading.Wait()
	if err := errors.Join(failed[:]...); err != nil {
		return fmt.Errorf("reading the fleet into memory: %w", err)
	}
	all.Slots = append(all.Slots, more...)
	s.roster.Put(all)
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
	if err := gatherDevices(ctx, tx, &out.Devices, "stale_device CROSS JOIN device USING (id)"); err != nil {
		return out, err
	}
	if err := gatherSlots(ctx, tx, &out.Slots, "stale_slot CROSS JOIN slot USING (id)", "TRUE"); err != nil {
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

// gatherDevices appends devices for the roster, by their numbers. The tables are gone through in the order in which
// they are named: what was noted is few rows, what is beside it many.
func gatherDevices(ctx context.Context, db sqlx.QueryerContext, out *[]roster.Device, from string) error {
	rows, err := db.QueryxContext(ctx, `SELECT `+joined("device.id", "name", "address", text("site"), "family",
		text("owner"), text("cluster"), "tags", text("notes"))+` FROM `+from+` ORDER BY device.id`)
	if err != nil {
		return err
	}
	defer rows.Close()
	known := map[string][]string{} // many devices have the same tags
	for rows.Next() {
		var f fields
		if err := rows.Scan(&f.rest); err != nil {
			return err
		}
		d := roster.Device{ID: f.number(), Name: f.text(), Address: f.text(), Site: f.text(), Family: f.text(),
			Owner: f.text(), Cluster: f.text()}
		tags, notes := f.text(), f.text()
		if _, ok := known[tags]; !ok {
			var list JSON[[]string]
			if err := list.Scan(tags); err != nil {
				return err
			}
			known[strings.Clone(tags)] = list.V
		}
		d.Tags = known[tags]
		d.Words = strings.ToLower(strings.Join(append([]string{d.Name, d.Site, d.Address, d.Owner, notes, d.Cluster},
			d.Tags...), " "))
		*out = append(*out, d)
	}
	return rows.Err()
}

// gatherSlots reads slots for the roster, as gatherDevices does devices.
func gatherSlots(ctx context.Context, db sqlx.QueryerContext, out *[]roster.Slot, from, where string,
	args ...any) error {
	rows, err := db.QueryxContext(ctx, `SELECT `+joined("slot.id", "slot.device_id", "slot.port", "slot.not_after",
		"slot.overdue_from", "slot.turns_at", "slot.condition", "device.name", "slot.name", "slot.address",
		text("slot.server_name"), text("slot.signer"), "slot.key_type", "slot.signature", text("slot.issuer"),
		"substr(slot.findings, 1, 60)", "substr(slot.chain, 1, 70)", "slot.above")+`, slot.search_text FROM `+from+
		` CROSS JOIN device ON device.id = slot.device_id WHERE `+where+` ORDER BY slot.id`, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var f fields
		var searchText string
		if err := rows.Scan(&f.rest, &searchText); err != nil {
			return err
		}
		one := roster.Slot{ID: f.number(), Device: f.number(), Port: int(f.number())}
		one.NotAfter, one.Overdue, one.TurnsAt = f.number(), f.number(), f.number()
		one.Rank = due.Condition(f.text()).Rank()
		device := f.text()
		one.Name, one.Address = f.text(), f.text()
		one.Words = strings.ToLower(device + "/" + one.Name + " " + one.Address + " " + f.text())
		one.Signer, one.KeyType, one.Signature, one.Issuer = f.text(), f.text(), f.text(), f.text()
		one.Finding = quoted(f.text(), `[{"code":"`)
		one.SearchText, one.Above = searchWords(searchText, quoted(f.text(), `["`), f.text())
		*out = append(*out, one)
	}
	return rows.Err()
}

// joined is an expression for one column with all of these, for [fields]: the driver locks the database three times
// for each column of a row, which is most of the time in which a large fleet is read.
func joined(columns ...string) string {
	return "concat_ws(char(31), " + strings.Join(columns, ", ") + ")"
}

// text is a column that may hold any characters, without the one that separates fields.
func text(column string) string { return "replace(" + column + ", char(31), ' ')" }

// fields are the columns of a row that [joined] joined. What they return shares memory with the whole row.
type fields struct{ rest string }

func (f *fields) text() string {
	text, rest, _ := strings.Cut(f.rest, "\x1f")
	f.rest = rest
	return text
}

// number is 0 where a column holds none, which the schema excludes.
func (f *fields) number() int64 {
	n, _ := strconv.ParseInt(f.text(), 10, 64)
	return n
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
