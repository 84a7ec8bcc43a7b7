package store

import (
	"context"

	"freshseal/core/replacement"

	"github.com/jmoiron/sqlx"
)

// enter records what a replacement turned to.
func enter(ctx context.Context, tx *sqlx.Tx, r Replacement, at Moment) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO stage_entry (replacement_id, at, stage, state, back)
		VALUES (?, ?, ?, ?, ?)`, r.ID, at, r.Stage, r.State, r.Reverting)
	return err
}

// Entries returns the changes of a replacement's stage and state, oldest first; none for one that is older than this
// record.
func (s Replacements) Entries(ctx context.Context, id int64) ([]replacement.Entry, error) {
	var rows []struct {
		At    Moment            `db:"at"`
		Stage replacement.Stage `db:"stage"`
		State replacement.State `db:"state"`
		Back  bool              `db:"back"`
	}
	err := s.Read.SelectContext(ctx, &rows, `SELECT at, stage, state, back FROM stage_entry WHERE replacement_id = ?
		ORDER BY rowid`, id)
	out := make([]replacement.Entry, len(rows))
	for i, row := range rows {
		out[i] = replacement.Entry{At: row.At.Time, Stage: row.Stage, State: row.State, Back: row.Back}
	}
	return out, err
}
