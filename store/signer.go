package store

import (
	"context"

	"freshseal/core/request"

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
	Terms          JSON[request.Terms] `db:"terms"`
	Proof          JSON[request.Proof] `db:"proof"`
	AddedAt        Moment              `db:"added_at"`
}

// PutSigner keeps a signer, in place of an older one of the name.
func (s *Store) PutSigner(ctx context.Context, signer Signer) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO signer (name, about, contact, notes, turnaround_days, max_days, terms, proof, added_at)
			VALUES (:name, :about, :contact, :notes, :turnaround_days, :max_days, :terms, :proof, :added_at)
			ON CONFLICT (name) DO UPDATE SET about = excluded.about, contact = excluded.contact, notes = excluded.notes,
				turnaround_days = excluded.turnaround_days, max_days = excluded.max_days, terms = excluded.terms, proof = excluded.proof`, signer)
		return err
	})
}

// Signers are all signers that were added, by name.
func (s *Store) Signers(ctx context.Context) ([]Signer, error) {
	var out []Signer
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM signer ORDER BY name`)
}

// RemoveSigner forgets one; ErrTaken says that a request waits for it.
func (s *Store) RemoveSigner(ctx context.Context, name string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var waits bool
		if err := tx.GetContext(ctx, &waits, `SELECT EXISTS (SELECT 1 FROM replacement WHERE signer = ? AND state IN ('running', 'waiting', 'held'))`, name); err != nil {
			return err
		}
		if waits {
			return ErrTaken
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM signer WHERE name = ?`, name))
	})
}

// HandOver records to whom a parcel went.
func (s *Store) HandOver(ctx context.Context, p Parcel) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.NamedExecContext(ctx, `UPDATE parcel SET handed_to = :handed_to, reference = :reference, handed_by = :handed_by, handed_at = :handed_at WHERE id = :id`, p))
	})
}
