package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Add packs requests that wait for a signer and are in no parcel yet.
// With none it is ErrNotFound, and no parcel is made.
func (s Parcels) Add(ctx context.Context, signer, by string, at Moment) (id int64, packed []Replacement, err error) {
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
	Obsolete  int    `db:"obsolete"` // asked for anew since
}

const parcelRows = `SELECT parcel.*, count(replacement.id) AS requests,
	count(CASE WHEN replacement.state = 'waiting'
	AND replacement.waiting_for IN ('signer', 'validation') THEN 1 END) AS open,
	(SELECT count(*) FROM obsolete_request WHERE parcel_id = parcel.id) AS obsolete
	FROM parcel LEFT JOIN replacement ON replacement.parcel_id = parcel.id `

var parcelList = list[Parcel]{
	columns: `*`, from: `(` + parcelRows + `GROUP BY parcel.id)`, orders: map[string][]string{"id": {"id"}},
	natural: "id",
	keyed:   func(p Parcel) map[string]any { return map[string]any{"id": p.ID} },
}

// Page is a page of the parcels, the oldest first unless the page says otherwise.
func (s Parcels) Page(ctx context.Context, p Page) ([]Parcel, string, error) {
	return parcelList.page(ctx, s.db, p)
}

// Open are those with requests that did not come back yet, newest first.
func (s Parcels) Open(ctx context.Context) ([]Parcel, error) {
	var out []Parcel
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM (`+parcelRows+`GROUP BY parcel.id) WHERE open > 0
		ORDER BY id DESC`)
}

// CountUnpacked says how many requests of each signer are in no parcel yet.
func (s Parcels) CountUnpacked(ctx context.Context) (map[string]int, error) {
	return s.counts(ctx, `SELECT signer AS name, count(*) AS count FROM replacement WHERE state = 'waiting'
		AND waiting_for = 'signer' AND parcel_id IS NULL GROUP BY signer`)
}

// Count says how many parcels there are.
func (s Parcels) Count(ctx context.Context) (n int, err error) {
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM parcel`)
}

// Get finds one with its replacements.
func (s Parcels) Get(ctx context.Context, id int64) (Parcel, []Replacement, error) {
	var p Parcel
	if err := one(s.read.GetContext(ctx, &p, parcelRows+`WHERE parcel.id = ? GROUP BY parcel.id`, id)); err != nil {
		return p, nil, err
	}
	var packed []Replacement
	return p, packed, s.read.SelectContext(ctx, &packed, replacementRows+`WHERE replacement.parcel_id = ?
		ORDER BY replacement.id`, id)
}

// HandOver records to whom a parcel went.
func (s Parcels) HandOver(ctx context.Context, p Parcel) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.NamedExecContext(ctx, `UPDATE parcel SET handed_to = :handed_to, reference = :reference,
			handed_by = :handed_by, handed_at = :handed_at WHERE id = :id`, p))
	})
}
