package store

import (
	"context"
	"errors"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"

	"github.com/jmoiron/sqlx"
)

// conditionWriter writes where slots stand, of many slots in one transaction. It tells of those whose condition becomes
// another one, and collects what the roster must know.
type conditionWriter struct {
	ctx context.Context
	tx  *sqlx.Tx
	was map[int64]*stood

	update, history *sqlx.Stmt
	values          []any
	told            []roster.Reading
}

// stood is what a slot's row says before the change, and as far as it is text that was written, after it.
type stood struct {
	readAt                                Moment
	installed                             string
	condition                             due.Condition
	chain, version, suite, failure, above string
}

// newConditionWriter looks up the slots with some numbers and prepares their change: the columns are written besides
// those of the condition.
func newConditionWriter(ctx context.Context, tx *sqlx.Tx, ids []int64, columns string) (*conditionWriter, error) {
	// Each statement of a context that can end costs a goroutine. The transaction ends with its context anyway.
	ctx = context.WithoutCancel(ctx)
	w := &conditionWriter{ctx: ctx, tx: tx, was: make(map[int64]*stood, len(ids))}
	for len(ids) > 0 {
		some := ids[:min(1000, len(ids))]
		ids = ids[len(some):]
		query, args, err := sqlx.In(`SELECT id, read_at, installed, condition, chain, version, suite, failure
			FROM slot WHERE id IN (?)`, some)
		if err != nil {
			return nil, err
		}
		rows, err := tx.QueryxContext(ctx, query, args...)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var id int64
			var s stood
			if err := rows.Scan(&id, &s.readAt, &s.installed, &s.condition, &s.chain, &s.version, &s.suite,
				&s.failure); err != nil {
				rows.Close()
				return nil, err
			}
			w.was[id] = &s
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, err
		}
	}
	var err error
	if w.update, err = tx.PreparexContext(ctx, `UPDATE slot SET `+columns+
		`condition = ?, turns_at = ? WHERE id = ?`); err != nil {
		return nil, err
	}
	w.history, err = tx.PreparexContext(ctx, `INSERT INTO reading (slot_id, at, chain, version, suite, failure)
		VALUES (?, ?, ?, ?, ?, ?)`)
	return w, err // statements of a transaction are closed with it
}

// keep adds a reading to the history of its slot if it differs from the one before.
func (w *conditionWriter) keep(was *stood, r *Slot) error {
	chain, err := r.Chain.Text()
	if err != nil {
		return err
	}
	failure, err := r.Failure.Text()
	if err != nil {
		return err
	}
	if !was.readAt.IsZero() && was.chain == chain && was.version == r.Version && was.suite == r.Suite &&
		was.failure == failure {
		return nil
	}
	was.chain, was.version, was.suite, was.failure = chain, r.Version, r.Suite, failure
	_, err = w.history.ExecContext(w.ctx, r.ID, r.ReadAt, chain, r.Version, r.Suite, failure)
	return err
}

// set writes the condition of a slot as of a moment, and the values that are appended for the columns that were named.
func (w *conditionWriter) set(was *stood, slot *Slot, at Moment, appended ...func([]any, *stood) []any) (err error) {
	standing := due.State{Base: slot.Base, Overdue: slot.OverdueFrom.Time, Due: slot.DueFrom.Time}
	slot.Condition = standing.At(slot.NotAfter.Time, at.Time)
	slot.TurnsAt = Moment{Time: standing.Turns(slot.NotAfter.Time, at.Time)}
	if due.Tells(was.condition, slot.Condition, was.readAt.Time, at.Time) {
		if _, err := w.tx.ExecContext(w.ctx, `INSERT INTO outbox (at, kind, about, who, stage, state, text)
			SELECT ?, 'condition', 'slot/' || device.name || '/' || slot.name, '', '', ?, ? FROM slot
			JOIN device ON device.id = slot.device_id WHERE slot.id = ?`,
			at, slot.Condition, "was "+string(was.condition), slot.ID); err != nil {
			return err
		}
	}
	if was.above, err = slot.Above.Text(); err != nil {
		return err
	}
	w.values = w.values[:0]
	for _, more := range appended {
		w.values = more(w.values, was)
	}
	if _, err := w.update.ExecContext(w.ctx, append(w.values, slot.Condition, slot.TurnsAt, slot.ID)...); err != nil {
		return err
	}
	was.condition = slot.Condition
	told := roster.Reading{ID: slot.ID, Seen: slot.seen()}
	told.SearchText, told.Above = searchWords(slot.SearchText, slot.leaf(), was.above)
	w.told = append(w.told, told)
	return nil
}

// seen returns what the roster holds of a slot's reading, without the words by which it is found.
func (slot *Slot) seen() roster.Seen {
	out := roster.Seen{Rank: slot.Condition.Rank(), NotAfter: slot.NotAfter.Milliseconds(),
		Overdue: slot.OverdueFrom.Milliseconds(), TurnsAt: slot.TurnsAt.Milliseconds(), Issuer: slot.Issuer,
		KeyType: slot.KeyType, Signature: slot.Signature}
	if len(slot.Findings.V) > 0 {
		out.Finding = string(slot.Findings.V[0].Code)
	}
	return out
}

// judgedColumns are what a judgement writes into a slot's row; judged appends their values.
const judgedColumns = `findings = ?, above = ?, base = ?, overdue_from = ?, due_from = ?, `

func (slot *Slot) judged(values []any, texts *stood) []any {
	return append(values, slot.Findings, texts.above, slot.Base, slot.OverdueFrom, slot.DueFrom)
}

// SetJudgements records new judgements of what slots serve: their findings and what
// their conditions follow from. A slot that was read since is passed over.
func (s Readings) SetJudgements(ctx context.Context, slots []Slot, at Moment) error {
	ids := make([]int64, len(slots))
	for i, slot := range slots {
		ids[i] = slot.ID
	}
	return s.changeConditions(ctx, func(tx *sqlx.Tx) ([]roster.Reading, error) {
		w, err := newConditionWriter(ctx, tx, ids, judgedColumns)
		if err != nil {
			return nil, err
		}
		for i := range slots {
			slot := &slots[i]
			if was := w.was[slot.ID]; was != nil && was.readAt.Equal(slot.ReadAt.Time) &&
				was.installed == slot.Installed {
				if err := w.set(was, slot, at, slot.judged); err != nil {
					return nil, err
				}
			}
		}
		return w.told, nil
	})
}

// Turn writes the conditions that time alone has changed by now, and their events; the lists and counts are as of the
// latest call. Mostly there are none, and the roster says so at once.
func (s Slots) Turn(ctx context.Context, now Moment) error {
	for {
		ids := s.roster.Turned(now.UnixMilli(), 5000)
		if len(ids) == 0 {
			return nil
		}
		query, args, err := sqlx.In(`SELECT id, base, overdue_from, due_from, not_after, search_text, chain, above, findings,
			issuer, key_type, signature FROM slot WHERE id IN (?) AND turns_at > 0 AND turns_at < ?`, ids, now)
		if err != nil {
			return err
		}
		var rows []Slot
		err = s.changeConditions(ctx, func(tx *sqlx.Tx) ([]roster.Reading, error) {
			rows = nil
			if err := tx.SelectContext(ctx, &rows, query, args...); err != nil {
				return nil, err
			}
			w, err := newConditionWriter(ctx, tx, ids, "")
			if err != nil {
				return nil, err
			}
			for _, row := range rows {
				if err := w.set(w.was[row.ID], &row, now); err != nil {
					return nil, err
				}
			}
			return w.told, nil
		})
		if err != nil || len(rows) == 0 { // somebody else was faster
			return err
		}
	}
}
