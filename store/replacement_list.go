package store

import (
	"context"
	"strings"

	"freshseal/core/replacement"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// List returns the newest, newest first; slotID 0 means of every slot.
func (s Replacements) List(ctx context.Context, slotID int64, most int) ([]Replacement, error) {
	var out []Replacement
	return out, s.Read.SelectContext(ctx, &out, replacementRows+`WHERE ? IN (0, replacement.slot_id)
		ORDER BY replacement.id DESC LIMIT ?`, slotID, most)
}

// Install is what a replacement did, or is doing, to a slot.
type Install struct {
	ID        int64             `db:"id"`
	State     replacement.State `db:"state"`
	OldSHA256 string            `db:"old_sha256"`
	NewSHA256 string            `db:"new_sha256"`
	StartedAt Moment            `db:"started_at"`
	ChangedAt Moment            `db:"changed_at"`
}

// Installs returns the newest replacements that a slot is a target of, newest first.
func (s Replacements) Installs(ctx context.Context, slotID int64) ([]Install, error) {
	var out []Install
	return out, s.Read.SelectContext(ctx, &out, `SELECT replacement.id, state, target.old_sha256, new_sha256,
		started_at, changed_at
		FROM target JOIN replacement ON replacement.id = target.replacement_id WHERE target.slot_id = ?
		ORDER BY replacement.id DESC LIMIT 200`, slotID)
}

// NoParcel filters replacements whose request is in no parcel.
const NoParcel = -1

// ReplacementFilter narrows a list of replacements; empty fields do not.
type ReplacementFilter struct {
	Device, Slot string
	State        replacement.State
	Stage        replacement.Stage
	WaitingFor   replacement.WaitingFor
	Signer       string
	Parcel       int64  // number of the parcel that its request is in; 0: any or none; NoParcel: none
	Text         string // somewhere in its id, slot or who asked for it
}

// Page returns a page of the replacements.
func (s Replacements) Page(ctx context.Context, f ReplacementFilter, p Page) ([]Replacement, string, error) {
	return replacementList.Page(ctx, s.DB, p, f.narrowings()...)
}

// CountOf returns how many replacements fit a filter.
func (s Replacements) CountOf(ctx context.Context, f ReplacementFilter) (int, error) {
	return replacementList.Count(ctx, s.DB, f.narrowings()...)
}

func (f ReplacementFilter) narrowings() []sqlite.Narrowing {
	out := sqlite.Narrow(map[string]string{"device.name = ?": f.Device, "EXISTS (SELECT 1 FROM target JOIN " +
		"slot also ON " +
		"also.id = target.slot_id WHERE target.replacement_id = replacement.id AND also.name = ?)": f.Slot,
		"replacement.state = ?": string(f.State), "replacement.stage = ?": string(f.Stage),
		"replacement.waiting_for = ?": string(f.WaitingFor), "replacement.signer = ?": f.Signer,
		"instr(lower('r' || replacement.id || ' ' || device.name || '/' || slot.name || ' ' || " +
			"replacement.asked_by), ?) > 0": strings.ToLower(f.Text)})
	switch f.Parcel {
	case 0:
	case NoParcel:
		out = append(out, sqlite.Where("replacement.parcel_id IS NULL"))
	default:
		out = append(out, sqlite.Where("replacement.parcel_id = ?", f.Parcel))
	}
	return out
}

// Count returns how many stand in each state and wait for whom.
func (s Replacements) Count(ctx context.Context) (map[replacement.State]int, map[replacement.WaitingFor]int, error) {
	var rows []struct {
		State      replacement.State      `db:"state"`
		WaitingFor replacement.WaitingFor `db:"waiting_for"`
		Count      int                    `db:"count"`
	}
	states, waiting := map[replacement.State]int{}, map[replacement.WaitingFor]int{}
	err := s.Read.SelectContext(ctx, &rows, `SELECT state, waiting_for, count(*) AS count FROM replacement
		GROUP BY state, waiting_for`)
	for _, row := range rows {
		states[row.State] += row.Count
		waiting[row.WaitingFor] += row.Count
	}
	return states, waiting, err
}

// In returns those in a state, oldest first.
func (s Replacements) In(ctx context.Context, state replacement.State) ([]Replacement, error) {
	var out []Replacement
	return out, s.Read.SelectContext(ctx, &out, replacementRows+`WHERE replacement.state = ? ORDER BY replacement.id`,
		state)
}

// ByKey returns those whose request has this public key (SHA-256 of
// its SubjectPublicKeyInfo), newest first.
func (s Replacements) ByKey(ctx context.Context, spki string) ([]Replacement, error) {
	var out []Replacement
	return out, s.Read.SelectContext(ctx, &out, replacementRows+`WHERE replacement.spki = ?
		ORDER BY replacement.id DESC`, spki)
}

// Target is a slot that a replacement gives the new certificate.
type Target struct {
	Slot
	ReplacementID int64  `db:"replacement_id"`
	OldSHA256     string `db:"old_sha256"`
}

// Targets returns the slots of replacements, by replacement, the first one first.
func (s Replacements) Targets(ctx context.Context, ids ...int64) (map[int64][]Target, error) {
	out := map[int64][]Target{}
	if len(ids) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(`SELECT slot.*, device.name AS device, device.site AS site, device.nodes AS nodes,
		target.replacement_id, target.old_sha256 FROM target
		JOIN slot ON slot.id = target.slot_id JOIN device ON device.id = slot.device_id
		WHERE target.replacement_id IN (?) ORDER BY target.position`, ids)
	if err != nil {
		return nil, err
	}
	var rows []Target
	err = s.Read.SelectContext(ctx, &rows, query, args...)
	for _, row := range rows {
		out[row.ReplacementID] = append(out[row.ReplacementID], row)
	}
	return out, err
}
