package store

import (
	"context"
	"fmt"

	"freshseal/store/events"
	"freshseal/store/sqlite"

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
	Unknown       bool   `db:"unknown"`  // nobody saw its end
	Refused       bool   `db:"refused"`  // the device says that it changed nothing
	LimitAt       Moment `db:"limit_at"` // when its limit is over
	ExitCode      int    `db:"exit_code"`
	Output        string `db:"output"`
	Why           string `db:"why"`
	Capture       string `db:"capture"`  // how Captured is kept: "values", or "sealed" where one of them is secret
	Captured      []byte `db:"captured"` // what it captured, as JSON
	Percent       int    `db:"percent"`  // how much of it is done, as far as it says

	Task *Task      `db:"-"` // of a step that a person does
	Kept []KeptFile `db:"-"` // files of the device that the step brought and that are kept
}

// BeginStep writes a step into the journal before it is done; it is on the disk when this returns.
func (s Journal) BeginStep(ctx context.Context, step Step) (int64, error) {
	var id int64
	err := s.DB.Durably(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO step (replacement_id, section, name, verb, text,
			repeatable, began_at, limit_at)
			VALUES (:replacement_id, :section, :name, :verb, :text, :repeatable, :began_at, :limit_at)`, step)
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
		return events.Happened(ctx, tx, s.AuditKey, events.Event{About: events.AboutReplacement(step.ReplacementID),
			At: step.BeganAt, Kind: "step",
			Stage: step.Section, State: "running", Text: step.Name})
	})
	return id, err
}

// EndStep writes what became of a step.
func (s Journal) EndStep(ctx context.Context, step Step) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return s.endStep(ctx, tx, step) })
}

func (s *db) endStep(ctx context.Context, tx *sqlx.Tx, step Step) error {
	if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE step SET ended_at = :ended_at, ok = :ok,
		unknown = :unknown,
		refused = :refused, exit_code = :exit_code,
		output = :output, why = :why, capture = :capture, captured = coalesce(:captured, x'') WHERE id = :id`,
		step)); err != nil {
		return err
	}
	for _, f := range step.Kept {
		if err := putKeptFile(ctx, tx, f); err != nil {
			return err
		}
	}
	if step.OK {
		return nil
	}
	var told Step
	if err := tx.GetContext(ctx, &told, `SELECT * FROM step WHERE id = ?`, step.ID); err != nil {
		return err
	}
	return events.Happened(ctx, tx, s.AuditKey, events.Event{About: events.AboutReplacement(step.ReplacementID),
		At: step.EndedAt, Kind: "step",
		Stage: told.Section, State: "failed", Text: told.Name + ": " + told.Why})
}

// SetCaptured writes what is left of what a step captured.
func (s Journal) SetCaptured(ctx context.Context, step Step) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE step SET capture = :capture,
			captured = coalesce(:captured,
			x'') WHERE id = :id`, step))
	})
}

// ShowStep writes what a step that is under way shows.
func (s Journal) ShowStep(ctx context.Context, step Step, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE step SET output = :output, percent = :percent
			WHERE id = :id AND ended_at = 0`, step)); err != nil {
			return err
		}
		text := ""
		if step.Percent > 0 {
			text = fmt.Sprintf("%d %%", step.Percent)
		}
		return events.Happened(ctx, tx, s.AuditKey, events.Event{About: events.AboutReplacement(step.ReplacementID),
			At: at, Kind: "screen",
			State: "running", Text: text})
	})
}

// Took returns the durations in milliseconds of the newest steps of a name that came to a
// good end on devices of a family, in no order.
func (s Journal) Took(ctx context.Context, family, name string, most int) ([]int64, error) {
	var out []int64
	return out, s.Read.SelectContext(ctx, &out, `SELECT step.ended_at - step.began_at FROM step
		JOIN replacement ON replacement.id = step.replacement_id
		JOIN device ON device.id = replacement.device_id WHERE step.name = ? AND step.ok AND device.family = ?
		ORDER BY step.id DESC LIMIT ?`, name, family, most)
}

// Steps returns a replacement's journal, oldest first.
func (s Journal) Steps(ctx context.Context, replacementID int64) ([]Step, error) {
	var out []Step
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM step WHERE replacement_id = ? ORDER BY id`,
		replacementID)
}
