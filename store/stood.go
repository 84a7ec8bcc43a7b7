package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Stood is something that was read of a device directly before the first change.
type Stood struct {
	ReplacementID int64  `db:"replacement_id"`
	SlotID        int64  `db:"slot_id"` // of the look wire
	Look          string `db:"look"`
	Place         string `db:"place"` // HOST:PORT, of the look wire
	// SHA-256 of what was served (empty: it could not be read), or the device's own word
	Value string `db:"value"`
}

// SetStood records what stood, in place of what was recorded before.
func (s Replacements) SetStood(ctx context.Context, id int64, rows []Stood) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM stood WHERE replacement_id = ?`, id); err != nil {
			return err
		}
		for _, row := range rows {
			row.ReplacementID = id
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO stood (replacement_id, slot_id, look, place, value)
				VALUES (:replacement_id, :slot_id, :look, :place, :value)`, row); err != nil {
				return err
			}
		}
		return nil
	})
}

// Stood returns what stood before a replacement's first change; nothing where it was not reached.
func (s Replacements) Stood(ctx context.Context, id int64) ([]Stood, error) {
	var out []Stood
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM stood WHERE replacement_id = ?
		ORDER BY slot_id, look, place`, id)
}
