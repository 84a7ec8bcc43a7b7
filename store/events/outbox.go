// Package events stores what happened: the outbox, which listeners read from where they were, and the audit log, whose
// entries are chained.
package events

import (
	"context"

	"freshseal/core/replacement"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Outbox is what happened, for those who listen.
type Outbox struct{ DB *sqlite.DB }

// Event is one thing that happened.
type Event struct {
	ID    int64         `db:"id"`
	At    sqlite.Moment `db:"at"`
	Kind  string        `db:"kind"`  // stage, step, state, condition or act
	About string        `db:"about"` // replacement/r12, slot/DEVICE/SLOT, or what an act was asked of
	Who   string        `db:"who"`   // of an act
	Stage string        `db:"stage"`
	State string        `db:"state"`
	Text  string        `db:"text"`
}

// AboutReplacement is what events of a replacement are about.
func AboutReplacement(id int64) string { return "replacement/" + replacement.Name(id) }

// Happened writes an event into the outbox, in the transaction of what happened. An
// act goes into the audit log as well, whose entries are chained with key.
func Happened(ctx context.Context, tx *sqlx.Tx, key []byte, e Event) error {
	if _, err := tx.NamedExecContext(ctx, `INSERT INTO outbox (at, kind, about, who, stage, state, text)
		VALUES (:at, :kind, :about, :who, :stage, :state, :text)`, e); err != nil {
		return err
	}
	if e.Who == "" {
		return nil
	}
	by := sourceOf(ctx, e.Who)
	return record(ctx, tx, key, AuditEntry{At: e.At, Who: e.Who, What: e.Text, About: e.About, Through: by.Through,
		Address: by.Address})
}

// Act records what somebody did: an event, and an entry of the audit log.
func (s Outbox) Act(ctx context.Context, at sqlite.Moment, who, what, about string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return Happened(ctx, tx, s.DB.AuditKey, Event{At: at, Kind: "act", About: about, Who: who, Text: what})
	})
}

// Events returns those after a known one, oldest first: all, or those about one thing.
func (s Outbox) Events(ctx context.Context, about string, after int64) ([]Event, error) {
	var out []Event
	if about == "" {
		return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM outbox WHERE id > ? ORDER BY id LIMIT 500`, after)
	}
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM outbox WHERE about = ? AND id > ? ORDER BY id
		LIMIT 500`, about, after)
}

// LastEvent returns the number of the newest event; 0: there is none.
func (s Outbox) LastEvent(ctx context.Context) (int64, error) {
	var id int64
	return id, s.DB.Read.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM outbox`)
}

// Forget removes events that are older than this. Numbers are never given twice.
func (s Outbox) Forget(ctx context.Context, before sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE at < ?`, before)
		return err
	})
}

// Listen returns a channel that is woken when something happened, and a function that stops listening (DB.Listen).
func (s Outbox) Listen() (woken <-chan struct{}, leave func()) { return s.DB.Listen() }
