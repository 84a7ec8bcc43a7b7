package store

import (
	"context"
	"slices"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Add packs the requests that wait for a signer and are in no parcel yet, or only some of them. If there are none it
// returns ErrNotFound, if one of only is not among them ErrTaken; then no parcel is made.
func (s Parcels) Add(ctx context.Context, signer, by string, at Moment,
	only []int64) (id int64, packed []Replacement, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		err := tx.SelectContext(ctx, &packed, replacementRows+`WHERE replacement.signer = ?
			AND replacement.state = 'waiting'
			AND replacement.waiting_for = 'signer' AND replacement.parcel_id IS NULL ORDER BY replacement.id`, signer)
		if err != nil {
			return err
		}
		if len(packed) == 0 {
			return ErrNotFound
		}
		if len(only) > 0 {
			packed = slices.DeleteFunc(packed, func(r Replacement) bool { return !slices.Contains(only, r.ID) })
			if len(packed) < len(only) {
				return ErrTaken
			}
		}
		result, err := tx.ExecContext(ctx, `INSERT INTO parcel (signer, packed_at, packed_by) VALUES (?, ?, ?)`,
			signer, at, by)
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		for _, r := range packed {
			if _, err := tx.ExecContext(ctx, `UPDATE replacement SET parcel_id = ? WHERE id = ?`, id,
				r.ID); err != nil {
				return err
			}
		}
		return nil
	})
	return id, packed, err
}

// Parcel is a bundle of requests that went out.
type Parcel struct {
	ID        int64  `db:"id"`
	Signer    string `db:"signer"`
	PackedAt  Moment `db:"packed_at"`
	PackedBy  string `db:"packed_by"`
	HandedTo  string `db:"handed_to"`
	Reference string `db:"reference"`
	HandedBy  string `db:"handed_by"`
	HandedAt  Moment `db:"handed_at"`
	Requests  int    `db:"requests"`
	Open      int    `db:"open"`     // still waiting for the signer
	Obsolete  int    `db:"obsolete"` // asked for again since
}

const parcelRows = `SELECT parcel.*, count(replacement.id) AS requests,
	count(CASE WHEN replacement.state = 'waiting'
	AND replacement.waiting_for IN ('signer', 'validation') THEN 1 END) AS open,
	(SELECT count(*) FROM obsolete_request WHERE parcel_id = parcel.id) AS obsolete
	FROM parcel LEFT JOIN replacement ON replacement.parcel_id = parcel.id `

var parcelList = sqlite.List[Parcel]{
	Columns: `*`, From: `(` + parcelRows + `GROUP BY parcel.id)`, Orders: map[string][]string{"id": {"id"}},
	Natural: "id",
	Keyed:   func(p Parcel) map[string]any { return map[string]any{"id": p.ID} },
}

// Page returns a page of the parcels, the oldest first unless the page says otherwise.
func (s Parcels) Page(ctx context.Context, p Page) ([]Parcel, string, error) {
	return parcelList.Page(ctx, s.DB, p)
}

// Open returns those with requests that did not come back yet, newest first.
func (s Parcels) Open(ctx context.Context) ([]Parcel, error) {
	var out []Parcel
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM (`+parcelRows+`GROUP BY parcel.id) WHERE open > 0
		ORDER BY id DESC`)
}

// CountUnpacked returns how many requests of each signer are in no parcel yet.
func (s Parcels) CountUnpacked(ctx context.Context) (map[string]int, error) {
	return s.Counts(ctx, `SELECT signer AS name, count(*) AS count FROM replacement WHERE state = 'waiting'
		AND waiting_for = 'signer' AND parcel_id IS NULL GROUP BY signer`)
}

// Count returns how many parcels there are.
func (s Parcels) Count(ctx context.Context) (n int, err error) {
	return n, s.Read.GetContext(ctx, &n, `SELECT count(*) FROM parcel`)
}

// Get finds one with its replacements.
func (s Parcels) Get(ctx context.Context, id int64) (Parcel, []Replacement, error) {
	var p Parcel
	if err := sqlite.Row(s.Read.GetContext(ctx, &p, parcelRows+`WHERE parcel.id = ? GROUP BY parcel.id`,
		id)); err != nil {
		return p, nil, err
	}
	var packed []Replacement
	return p, packed, s.Read.SelectContext(ctx, &packed, replacementRows+`WHERE replacement.parcel_id = ?
		ORDER BY replacement.id`, id)
}

// HandOver records to whom a parcel went.
func (s Parcels) HandOver(ctx context.Context, p Parcel) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE parcel SET handed_to = :handed_to,
			reference = :reference,
			handed_by = :handed_by, handed_at = :handed_at WHERE id = :id`, p))
	})
}
