package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/due"

	"github.com/jmoiron/sqlx"
)

// SlotFilter narrows a list of slots; empty fields do not.
type SlotFilter struct {
	Condition due.Condition
	Device    string
	Site      string
	Family    string // "-": those of devices that have none
	Tag       string
	Owner     string
	Signer    string // who signed what the last replacement installed
	Ends      string // the month of the leaf's end, 2027-03, or "ended": before now
	Serves    string // SHA-256 of a certificate of the path: the leaf, an intermediate or the root
	Text      string // somewhere in the names, addresses, owner, tags, notes, subject, serial number or fingerprints
}

// needle is a text as it is looked for: a fingerprint or a serial number with colons or
// blanks is written without.
func needle(text string) string {
	text = strings.ToLower(strings.TrimSpace(text))
	bare := strings.NewReplacer(":", "", " ", "").Replace(text)
	if len(bare) >= 8 && strings.Trim(bare, "0123456789abcdef") == "" && strings.ContainsAny(text, ": ") {
		return bare
	}
	return text
}

func (f SlotFilter) narrowings(now Moment) []narrowing {
	out := narrow(map[string]string{"slot.device_name = ?": f.Device, "slot.site_name = ?": f.Site, "slot.owner_name = ?": f.Owner, "slot.signer = ?": f.Signer,
		"EXISTS (SELECT 1 FROM device, json_each(device.tags) WHERE device.id = slot.device_id AND value = ?)": f.Tag, "instr(slot.path, ?) > 0": strings.ToLower(f.Serves)})
	out = append(out, ofFamily("slot.family_name", f.Family)...)
	if f.Condition != "" {
		out = append(out, narrowing{"slot.rank = ?", []any{f.Condition.Rank()}})
	}
	if month, err := time.Parse("2006-01", f.Ends); err == nil {
		out = append(out, narrowing{"slot.not_after >= ? AND slot.not_after < ?", []any{At(month), At(month.AddDate(0, 1, 0))}})
	} else if f.Ends != "" {
		out = append(out, narrowing{"slot.not_after > 0 AND slot.not_after < ?", []any{now}})
	}
	return out
}

func ofFamily(column, family string) []narrowing {
	switch family {
	case "":
		return nil
	case "-":
		family = ""
	}
	return []narrowing{{column + " = ?", []any{family}}}
}

// SlotRow is a slot of a list.
type SlotRow struct {
	Slot
	Family string         `db:"family"`
	Owner  string         `db:"owner"`
	Tags   JSON[[]string] `db:"tags"`
}

var slotList = list[SlotRow]{
	columns: `slot.*, device.name AS device, device.site AS site, device.nodes AS nodes, device.family AS family, device.owner AS owner, device.tags AS tags`,
	from:    `slot CROSS JOIN device ON device.id = slot.device_id`,
	lean:    `slot`,
	key:     `slot.id`,
	narrow:  []string{"slot.device_name", "slot.site_name", "slot.family_name", "slot.owner_name", "slot.signer"},
	bound:   map[string][]string{"condition": {"slot.rank"}, "expires_at": {"slot.rank"}, "device": {"slot.device_name"}, "site": {"slot.site_name", "slot.device_name"}, "address": {}},
	orders: map[string][]string{
		"condition": {"slot.rank", "slot.not_after", "slot.id"}, "expires_at": {"slot.not_after", "slot.id"},
		"device": {"slot.device_name", "slot.name"}, "site": {"slot.site_name", "slot.device_name", "slot.name"}, "address": {"slot.address", "slot.port", "slot.id"},
	},
	natural: "condition",
	keyed: func(row SlotRow) map[string]any {
		end, _ := row.NotAfter.Value()
		return map[string]any{"slot.rank": row.Rank, "slot.not_after": end, "slot.id": row.ID, "slot.device_name": row.Device, "slot.name": row.Name,
			"slot.site_name": row.Site, "slot.address": row.Address, "slot.port": row.Port}
	},
}

// SlotPage is a page of the slots, as of now: the worst condition first, then
// the soonest end, unless another order is asked for.
func (s *Store) SlotPage(ctx context.Context, now Moment, f SlotFilter, p Page) ([]SlotRow, string, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, "", err
	}
	text, err := s.found(ctx, f.Text, false)
	if err != nil {
		return nil, "", err
	}
	return slotList.page(ctx, s, p, append(f.narrowings(now), text...)...)
}

// CountSlots says how many slots fit a filter.
func (s *Store) CountSlots(ctx context.Context, now Moment, f SlotFilter) (int, error) {
	text, err := s.found(ctx, f.Text, true)
	if err != nil {
		return 0, err
	}
	return slotList.count(ctx, s, append(f.narrowings(now), text...)...)
}

// SlotName is how a slot is named, and where it is.
type SlotName struct {
	Device string `db:"device"`
	Slot   string `db:"slot"`
	Site   string `db:"site"`
	Family string `db:"family"`
}

// SlotNames are the names of the slots that fit a filter, worst first as in the list.
func (s *Store) SlotNames(ctx context.Context, now Moment, f SlotFilter) ([]SlotName, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	text, err := s.found(ctx, f.Text, true)
	if err != nil {
		return nil, err
	}
	where, args := slotList.where(append(f.narrowings(now), text...))
	var out []SlotName
	return out, s.read.SelectContext(ctx, &out, "SELECT slot.device_name AS device, slot.name AS slot, slot.site_name AS site, slot.family_name AS family"+where+" ORDER BY slot.rank, slot.not_after, slot.id", args...)
}

// Facet is a value that slots or devices have, and how many slots do.
type Facet struct {
	Value string `db:"value"`
	Count int    `db:"count"`
}

// Facets are the values of what lists are filtered by, by value: sites, families,
// owners, tags and signers.
func (s *Store) Facets(ctx context.Context) (map[string][]Facet, error) {
	out := map[string][]Facet{}
	for name, query := range map[string]string{
		"site":   `SELECT site AS value, sum(count) AS count FROM tally WHERE site <> '' AND count > 0 GROUP BY site ORDER BY site`,
		"family": `SELECT family_name AS value, count(*) AS count FROM slot WHERE family_name <> '' GROUP BY family_name ORDER BY family_name`,
		"owner":  `SELECT owner_name AS value, count(*) AS count FROM slot WHERE owner_name <> '' GROUP BY owner_name ORDER BY owner_name`,
		"tag":    `SELECT tag.value AS value, count(*) AS count FROM slot JOIN device ON device.id = slot.device_id, json_each(device.tags) AS tag GROUP BY tag.value ORDER BY tag.value LIMIT 500`,
		"signer": `SELECT slot.signer AS value, count(*) AS count FROM slot WHERE slot.signer <> '' GROUP BY value ORDER BY value`,
	} {
		rows := []Facet{}
		if err := s.read.SelectContext(ctx, &rows, query); err != nil {
			return nil, err
		}
		out[name] = rows
	}
	return out, nil
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
	if err := s.read.SelectContext(ctx, &rows, `SELECT rank, sum(count) AS count FROM tally WHERE count > 0 GROUP BY rank`); err != nil {
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
				if _, err := tx.NamedExecContext(ctx, turning, turn{now, row.ID, row.Rank}); err != nil {
					return err
				}
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

// SiteSlots is how many slots of a site are in a condition.
type SiteSlots struct {
	Site  string `db:"site"`
	Rank  int    `db:"rank"`
	Count int    `db:"count"`
}

// CountBySite counts the slots of each site and condition, as of now.
func (s *Store) CountBySite(ctx context.Context, now Moment) ([]SiteSlots, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	var out []SiteSlots
	return out, s.read.SelectContext(ctx, &out, `SELECT site, rank, count FROM tally WHERE count > 0`)
}

// SiteEnd is when the first certificate of a site ends.
type SiteEnd struct {
	Site     string `db:"site"`
	NotAfter Moment `db:"not_after"`
}

// FirstEnds are the first ends of each site whose slots could be read.
func (s *Store) FirstEnds(ctx context.Context) ([]SiteEnd, error) {
	var out []SiteEnd
	return out, s.read.SelectContext(ctx, &out, `SELECT site, (SELECT min(not_after) FROM slot WHERE site_name = site AND not_after > 0) AS not_after FROM (SELECT DISTINCT site FROM tally) WHERE not_after > 0`)
}

// DueRow is a slot on which somebody must act.
type DueRow struct {
	SlotRow
	LocksOut bool
}

// DueSlots are the slots that are not fresh, dark ones aside, and those whose act-by date comes before
// a moment; in the order in which it bites: what is wrong now, worst first, then by act-by date, those of
// the families that lock people out before the others each time. It returns the first most of
// them, and how many there are.
func (s *Store) DueSlots(ctx context.Context, now, before Moment, site string, lockingOut []string, most int) ([]DueRow, int, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, 0, err
	}
	lockingOut = append([]string{"-"}, lockingOut...) // no family has that name
	var out, soon, later []DueRow
	total := 0
	for rank := due.Lapsed.Rank(); rank <= due.Fresh.Rank(); rank++ {
		where, args := `slot.rank = ?`, []any{rank}
		if rank == due.Fresh.Rank() {
			where, args = where+` AND slot.overdue_from > 0 AND slot.overdue_from < ?`, append(args, before)
		}
		if site != "" {
			where, args = where+` AND +slot.site_name = ?`, append(args, site)
		}
		var n int
		if err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM slot WHERE `+where, args...); err != nil {
			return nil, 0, err
		}
		if total += n; n == 0 {
			continue
		}
		locking, err := s.dueRows(ctx, `+`+where+` AND slot.family_name IN (?)`, append(slices.Clone(args), lockingOut), true, most)
		if err != nil {
			return nil, 0, err
		}
		others, err := s.dueRows(ctx, where+` AND +slot.family_name NOT IN (?)`, append(slices.Clone(args), lockingOut), false, most)
		if err != nil {
			return nil, 0, err
		}
		if rank <= due.Flawed.Rank() {
			out = append(append(out, locking...), others...)
		} else {
			soon, later = append(soon, locking...), append(later, others...)
		}
	}
	byAct := func(x, y DueRow) int { return x.OverdueFrom.Compare(y.OverdueFrom.Time) }
	slices.SortStableFunc(soon, byAct)
	slices.SortStableFunc(later, byAct)
	out = append(append(out, soon...), later...)
	return out[:min(len(out), most)], total, nil
}

// dueRows are the first slots of one condition, by act-by date.
func (s *Store) dueRows(ctx context.Context, where string, args []any, locksOut bool, most int) ([]DueRow, error) {
	const order = ` ORDER BY slot.overdue_from, slot.id`
	query, all, err := sqlx.In(`SELECT `+slotList.columns+` FROM `+slotList.from+` WHERE slot.id IN (SELECT slot.id FROM slot WHERE `+where+order+` LIMIT ?)`+order, append(args, most)...)
	if err != nil {
		return nil, err
	}
	var out []DueRow
	if err := s.read.SelectContext(ctx, &out, query, all...); err != nil {
		return nil, err
	}
	for i := range out {
		out[i].LocksOut = locksOut
	}
	return out, nil
}
