package store

import (
	"context"
	"fmt"

	"freshseal/core/replacement"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// SetClosed records how a person closed a replacement.
func (s Replacements) SetClosed(ctx context.Context, id int64, as string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET closed_as = ? WHERE id = ?`, as, id))
	})
}

// SetKeeps records until when replacements keep what was signed for another try; zero: nothing is kept any more.
func (s Replacements) SetKeeps(ctx context.Context, ids []int64, until Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		for _, id := range ids {
			if _, err := tx.ExecContext(ctx, `UPDATE replacement SET keeps_until = ? WHERE id = ?`, until,
				id); err != nil {
				return err
			}
		}
		return nil
	})
}

// KeptUntil returns the replacements that keep something whose time is over.
func (s Replacements) KeptUntil(ctx context.Context, at Moment) ([]int64, error) {
	var out []int64
	return out, s.Read.SelectContext(ctx, &out, `SELECT id FROM replacement WHERE keeps_until > 0 AND keeps_until <= ?
		ORDER BY id`, at)
}

// KeptOf returns the replacements of a slot that keep something, but for one.
func (s Replacements) KeptOf(ctx context.Context, slotID, but int64) ([]int64, error) {
	var out []int64
	return out, s.Read.SelectContext(ctx, &out, `SELECT DISTINCT replacement.id FROM replacement
		JOIN target ON target.replacement_id = replacement.id
		WHERE target.slot_id = ? AND keeps_until > 0 AND replacement.id <> ? ORDER BY replacement.id`, slotID, but)
}

// Retry adds a replacement that takes over what another one has kept: its request and path, entries of its journal,
// and secrets. over gives these for the new number; a capture that is sealed comes opened, and is sealed by seal once
// its entry has a number.
func (s Replacements) Retry(ctx context.Context, r Replacement, slotIDs []int64, p replacement.Progress, yaml string,
	over func(id int64) ([]Step, map[string][]byte, error), seal func(stepID int64, text []byte) []byte) (int64,
	error) {
	edition := r.Edition
	r.setProgress(p)
	err := s.change(ctx, func(tx *sqlx.Tx) error {
		if err := s.addReplacement(ctx, tx, &r, slotIDs, yaml, nil); err != nil {
			return err
		}
		steps, secrets, err := over(r.ID) // it reads, over connections of its own
		if err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `UPDATE replacement SET request = :request, spki = :spki, path = :path,
			new_sha256 = :new_sha256, work = :work, retry_of = :retry_of WHERE id = :id`, r); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE replacement SET edition = ? WHERE id = ?`, edition, r.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE replacement SET keeps_until = 0, tidied = 1 WHERE id = ?`,
			*r.RetryOf); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE purpose = ?`,
			fmt.Sprintf("replacement/r%d/key", *r.RetryOf)); err != nil {
			return err
		}
		for _, step := range steps {
			step.ReplacementID = r.ID
			result, err := tx.NamedExecContext(ctx, `INSERT INTO step (replacement_id, section, name, verb, text,
				repeatable, began_at, ended_at, ok, exit_code, output, capture)
				VALUES (:replacement_id, :section, :name, :verb, :text, :repeatable, :began_at, :ended_at, :ok,
				:exit_code, :output, :capture)`, step)
			if err != nil {
				return err
			}
			id, err := result.LastInsertId()
			if err != nil {
				return err
			}
			captured := step.Captured
			if step.Capture == "sealed" {
				captured = seal(id, captured)
			}
			if _, err := tx.ExecContext(ctx, `UPDATE step SET captured = coalesce(?, x'') WHERE id = ?`, captured,
				id); err != nil {
				return err
			}
		}
		for purpose, sealed := range secrets {
			if err := sqlite.PutSecret(ctx, tx, purpose, sealed); err != nil {
				return err
			}
		}
		return nil
	})
	return r.ID, err
}
