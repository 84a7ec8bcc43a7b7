package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Step is one entry of the journal.
type Step struct {
	ID            int64  `db:"id"`
	ReplacementID int64  `db:"replacement_id"`
	Section       string `db:"section"`
	Name          string `db:"name"`
	Verb          string `db:"verb"`
	Text          string `db:"text"`
	Repeatable    bool   `db:"repeatable"`
	BeganAt       Moment `db:"began_at"`
	EndedAt       Moment `db:"ended_at"` // zero while it is under way, or was when the service died
	OK            bool   `db:"ok"`
	Unknown       bool   `db:"unknown"` // nobody saw its end
	ExitCode      int    `db:"exit_code"`
	Output        string `db:"output"`
	Why           string `db:"why"`
	Capture       string `db:"capture"`  // how Captured is kept: "values", or "sealed" where one of them is secret
	Captured      []byte `db:"captured"` // what it captured, as JSON

	Task *Task `db:"-"` // of a step that a person does
}

// BeginStep writes a step into the journal before it is done.
func (s *Store) BeginStep(ctx context.Context, step Step) (int64, error) {
	var id int64
	err := s.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO step (replacement_id, section, name, verb, text, repeatable, began_at)
			VALUES (:replacement_id, :section, :name, :verb, :text, :repeatable, :began_at)`, step)
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		if step.Task != nil {
			step.Task.StepID, step.Task.ReplacementID = id, step.ReplacementID
			if err := addTask(ctx, tx, *step.Task); err != nil {
				return err
			}
		}
		return addEvent(ctx, tx, Event{ReplacementID: step.ReplacementID, At: step.BeganAt, Kind: "step", Stage: step.Section, State: "running", Text: step.Name})
	})
	return id, err
}

// EndStep writes what became of a step.
func (s *Store) EndStep(ctx context.Context, step Step) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return endStep(ctx, tx, step) })
}

func endStep(ctx context.Context, tx *sqlx.Tx, step Step) error {
	if err := changed(tx.NamedExecContext(ctx, `UPDATE step SET ended_at = :ended_at, ok = :ok, unknown = :unknown, exit_code = :exit_code,
		output = :output, why = :why, capture = :capture, captured = coalesce(:captured, x'') WHERE id = :id`, step)); err != nil {
		return err
	}
	if step.OK {
		return nil
	}
	var told Step
	if err := tx.GetContext(ctx, &told, `SELECT * FROM step WHERE id = ?`, step.ID); err != nil {
		return err
	}
	return addEvent(ctx, tx, Event{ReplacementID: step.ReplacementID, At: step.EndedAt, Kind: "step", Stage: told.Section, State: "failed", Text: told.Name + ": " + told.Why})
}

// Steps are a replacement's journal, oldest first.
func (s *Store) Steps(ctx context.Context, replacementID int64) ([]Step, error) {
	var out []Step
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM step WHERE replacement_id = ? ORDER BY id`, replacementID)
}
