package store

import (
	"context"

	"freshseal/core/pki/request"

	"github.com/jmoiron/sqlx"
)

// Signer is a person or office that signs.
type Signer struct {
	Name           string              `db:"name"`
	About          string              `db:"about"`
	Contact        string              `db:"contact"`
	Notes          string              `db:"notes"`
	TurnaroundDays int                 `db:"turnaround_days"`
	MaxDays        int                 `db:"max_days"`
	MinDays        int                 `db:"min_days"`
	Terms          JSON[request.Terms] `db:"terms"`
	Proof          JSON[request.Proof] `db:"proof"`
	Purchase       JSON[request.Order] `db:"purchase"`
	AddedAt        Moment              `db:"added_at"`
	Revision       Revision            `db:"revision"`
}

// Put keeps a signer, in place of an older one of the name and of a known
// revision.
func (s Signers) Put(ctx context.Context, signer Signer, known Revision) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "signer/"+signer.Name, known); err != nil {
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
	return out, s.read.SelectContext(ctx, &out, `SELECT signer.*, coalesce((SELECT number FROM revision
		WHERE of = 'signer/' || signer.name), 0) AS revision FROM signer ORDER BY name`)
}

// Remove deletes a signer; it returns ErrTaken while a request is pending.
func (s Signers) Remove(ctx context.Context, name string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var waits bool
		if err := tx.GetContext(ctx, &waits, `SELECT EXISTS (SELECT 1 FROM replacement WHERE signer = ?
			AND state IN ('running', 'waiting', 'held'))`, name); err != nil {
			return err
		}
		if waits {
			return ErrTaken
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM signer_issuer WHERE signer = ?`, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM signer_habits WHERE signer = ?`, name); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM signer WHERE name = ?`, name))
	})
}
