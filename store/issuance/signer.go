// Package issuance stores signers: their terms, issuers and habits, answers that were not used, domains that were
// proven.
package issuance

import (
	"context"

	"freshseal/core/pki/request"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Signers are signers, their answers and the domains that were proven to them.
type Signers struct{ DB *sqlite.DB }

// Signer is a person or office that signs.
type Signer struct {
	Name           string                     `db:"name"`
	About          string                     `db:"about"`
	Contact        string                     `db:"contact"`
	Notes          string                     `db:"notes"`
	TurnaroundDays int                        `db:"turnaround_days"`
	MaxDays        int                        `db:"max_days"`
	MinDays        int                        `db:"min_days"`
	Terms          sqlite.JSON[request.Terms] `db:"terms"`
	Proof          sqlite.JSON[request.Proof] `db:"proof"`
	Purchase       sqlite.JSON[request.Order] `db:"purchase"`
	AddedAt        sqlite.Moment              `db:"added_at"`
	Revision       sqlite.Revision            `db:"revision"`
}

// Put stores a signer, in place of an older one of the name and of a known
// revision.
func (s Signers) Put(ctx context.Context, signer Signer, known sqlite.Revision) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "signer/"+signer.Name, known); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO signer (name, about, contact, notes, turnaround_days,
			max_days, min_days, terms, proof, purchase, added_at)
			VALUES (:name, :about, :contact, :notes, :turnaround_days, :max_days, :min_days, :terms, :proof,
			:purchase, :added_at)
			ON CONFLICT (name) DO UPDATE SET about = excluded.about, contact = excluded.contact, notes = excluded.notes,
				turnaround_days = excluded.turnaround_days, max_days = excluded.max_days,
				min_days = excluded.min_days, terms = excluded.terms, proof = excluded.proof,
				purchase = excluded.purchase`, signer)
		return err
	})
}

// List returns all signers that were added, by name.
func (s Signers) List(ctx context.Context) ([]Signer, error) {
	var out []Signer
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT signer.*, coalesce((SELECT number FROM revision
		WHERE of = 'signer/' || signer.name), 0) AS revision FROM signer ORDER BY name`)
}

// Remove deletes a signer; it returns ErrTaken while a request is pending.
func (s Signers) Remove(ctx context.Context, name string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		var waits bool
		if err := tx.GetContext(ctx, &waits, `SELECT EXISTS (SELECT 1 FROM replacement WHERE signer = ?
			AND state IN ('running', 'waiting', 'held'))`, name); err != nil {
			return err
		}
		if waits {
			return sqlite.ErrTaken
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM signer_issuer WHERE signer = ?`, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM signer_habits WHERE signer = ?`, name); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM signer WHERE name = ?`, name))
	})
}
