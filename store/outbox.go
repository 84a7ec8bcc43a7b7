package store

import (
	"context"

	"freshseal/core/replacement"

	"github.com/jmoiron/sqlx"
)

// Event is one thing that happened.
type Event struct {
	ID    int64  `db:"id"`
	At    Moment `db:"at"`
	Kind  string `db:"kind"`  // stage, step, state, condition or act
	About string `db:"about"` // replacement/r12, slot/DEVICE/SLOT, or what an act was asked of
	Who   string `db:"who"`   // of an act
	Stage string `db:"stage"`
	State string `db:"state"`
	Text  string `db:"text"`
}

// AboutReplacement is what events of a replacement are about.
func AboutReplacement(id int64) string { return "replacement/" + replacement.Name(id) }

// happened writes an event into the outbox, in the transaction of what happened. An
// act goes into the audit log as well.
func (s *db) happened(ctx context.Context, tx *sqlx.Tx, e Event) error {
	if _, err := tx.NamedExecContext(ctx, `INSERT INTO outbox (at, kind, about, who, stage, state, text)
		VALUES (:at, :kind, :about, :who, :stage, :state, :text)`, e); err != nil {
		return err
	}
	if e.Who == "" {
		return nil
	}
	return record(ctx, tx, s.auditKey, AuditEntry{At: e.At, Who: e.Who, What: e.Text, About: e.About})
}

// Act records what somebody did: an event, and an entry of the audit log.
func (s Outbox) Act(ctx context.Context, at Moment, who, what, about string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return s.happened(ctx, tx, Event{At: at, Kind: "act", About: about, Who: who, Text: what})
	})
}

// Events are those after a known one, oldest first: all, or those about one thing.
func (s Outbox) Events(ctx context.Context, about string, after int64) ([]Event, error) {
	var out []Event
	if about == "" {
		return out, s.read.SelectContext(ctx, &out, `SELECT * FROM outbox WHERE id > ? ORDER BY id LIMIT 500`, after)
	}
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM outbox WHERE about = ? AND id > ? ORDER BY id
		LIMIT 500`, about, after)
}

// LastEvent is the number of the newest event; 0: there is none.
func (s Outbox) LastEvent(ctx context.Context) (int64, error) {
	var id int64
	return id, s.read.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM outbox`)
}

// Forget removes events that are older than this. Numbers are never given twice.
func (s Outbox) Forget(ctx context.Context, before Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE at < ?`, before)
		return err
	})
}

// Listen returns a channel that is woken when something happened, and the way to
// leave. It carries no news itself: whoever is woken reads the outbox, so that
// nothing is lost and nobody has to keep up.
func (s Outbox) Listen() (woken <-chan struct{}, leave func()) {
	s.listening.Lock()
	defer s.listening.Unlock()
	c := make(chan struct{}, 1)
	s.listeners[c] = struct{}{}
	return c, func() {
		s.listening.Lock()
		defer s.listening.Unlock()
		delete(s.listeners, c)
	}
}

// wake wakes those who listen, where there is an event that they were not woken for.
func (s *db) wake(newest int64) {
	s.listening.Lock()
	defer s.listening.Unlock()
	if newest == s.told {
		return
	}
	s.told = newest
	for c := range s.listeners {
		select {
		case c <- struct{}{}:
		default: // woken already
		}
	}
}
