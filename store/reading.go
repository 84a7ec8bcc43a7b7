package store

import (
	"context"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/roster"
	"freshseal/core/pki/cert"
	"freshseal/store/chains"

	"github.com/jmoiron/sqlx"
)

// Reading is what a slot was seen to serve, as the history keeps it.
type Reading struct {
	ID      int64                  `db:"id"`
	SlotID  int64                  `db:"slot_id"`
	At      Moment                 `db:"at"`
	Chain   JSON[[]string]         `db:"chain"`
	Version string                 `db:"version"`
	Suite   string                 `db:"suite"`
	Failure JSON[*finding.Failure] `db:"failure"`
}

// NewReading is a slot filled with what a reading of it says, and the chain.
type NewReading struct {
	Slot
	Served []*cert.Certificate
}

// Add records readings on their slots, and in the history where they
// differ from the ones before. Slots on which something was installed since they
// were looked up, or that were read later, are left as they are; late are their
// places in the list.
func (s Readings) Add(ctx context.Context, readings []NewReading) (late []int, err error) {
	ids := make([]int64, len(readings))
	for i, r := range readings {
		ids[i] = r.ID
	}
	err = s.changeConditions(ctx, func(tx *sqlx.Tx) ([]roster.Reading, error) {
		w, err := newConditionWriter(ctx, tx, ids, readColumns+judgedColumns)
		if err != nil {
			return nil, err
		}
		known, err := tx.PreparexContext(ctx, chains.KnownCertificate)
		if err != nil {
			return nil, err
		}
		for i := range readings {
			r := &readings[i]
			for _, c := range r.Served {
				if _, err := known.ExecContext(w.ctx, c.SHA256, c.Raw, c.SelfSigned()); err != nil {
					return nil, err
				}
			}
			if err := chains.NoteChain(ctx, tx, r.Chain.V); err != nil {
				return nil, err
			}
			was := w.was[r.ID]
			if was == nil || was.readAt.After(r.ReadAt.Time) || was.installed != r.Installed {
				late = append(late, i)
				continue
			}
			if err := w.keep(was, &r.Slot); err != nil {
				return nil, err
			}
			if err := w.set(was, &r.Slot, r.ReadAt, r.read, r.judged); err != nil {
				return nil, err
			}
			was.readAt = r.ReadAt
		}
		return w.told, nil
	})
	return late, err
}

// readColumns are what a reading writes into a slot's row; read appends their values.
const readColumns = `read_at = ?, chain = ?, version = ?, suite = ?, remarks = ?, closer = ?, look_at = ?, next_at = ?, misses = ?,
	failure = ?, subject = ?, issuer = ?, key_type = ?, signature = ?, self_signed = ?, not_before = ?, not_after = ?, others = ?, search_text = ?, `

func (slot *Slot) read(values []any, texts *stood) []any {
	return append(values, slot.ReadAt, texts.chain, slot.Version, slot.Suite, slot.Remarks, slot.Closer, slot.LookAt,
		slot.NextAt, slot.Misses,
		texts.failure, slot.Subject, slot.Issuer, slot.KeyType, slot.Signature, slot.SelfSigned, slot.NotBefore,
		slot.NotAfter, slot.Others, slot.SearchText)
}

// Seen means that a slot was read and that nothing had changed.
type Seen struct {
	Slot   int64
	At     Moment
	Next   Moment // when it is read again
	Misses int
}

// TouchAll records when slots were read that serve what they served before.
func (s Readings) TouchAll(ctx context.Context, seen []Seen) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		set, err := tx.PreparexContext(ctx, `UPDATE slot SET read_at = ?, next_at = ?, misses = ? WHERE id = ?
			AND read_at < ?`)
		if err != nil {
			return err
		}
		defer set.Close()
		for _, one := range seen {
			if _, err := set.ExecContext(ctx, one.At, one.Next, one.Misses, one.Slot, one.At); err != nil {
				return err
			}
		}
		return nil
	})
}

// Of returns the newest of a slot's history, newest first.
func (s Readings) Of(ctx context.Context, slotID int64, most int) ([]Reading, error) {
	var out []Reading
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM reading WHERE slot_id = ? ORDER BY id DESC LIMIT ?`,
		slotID, most)
}
