package messages

import (
	"context"
	"errors"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Streams is where the audit log is sent to, as it grows.
type Streams struct{ DB *sqlite.DB }

// Stream is that with how far it was sent.
type Stream struct {
	ID          int           `db:"id"`
	Channel     string        `db:"channel"`      // of syslog; empty: none
	HeadChannel string        `db:"head_channel"` // that is told the newest entry each day; empty: none
	Sent        int64         `db:"sent"`         // number of the last entry that was sent
	SentAt      sqlite.Moment `db:"sent_at"`
	HeadAt      sqlite.Moment `db:"head_at"` // when the newest entry was last told
	Error       string        `db:"error"`   // of the last try; empty: it went well
}

// Get returns the stream; the zero value where none was set.
func (s Streams) Get(ctx context.Context) (Stream, error) {
	var out Stream
	err := sqlite.Row(s.DB.Read.GetContext(ctx, &out, `SELECT * FROM audit_stream`))
	if errors.Is(err, sqlite.ErrNotFound) {
		return Stream{}, nil
	}
	return out, err
}

// Set sets the channels. A stream over another channel begins with the first entry.
func (s Streams) Set(ctx context.Context, channel, headChannel string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO audit_stream (id, channel, head_channel, sent, sent_at, head_at, error)
			VALUES (1, ?1, ?2, 0, 0, 0, '') ON CONFLICT (id) DO UPDATE SET
			sent = CASE WHEN channel = ?1 THEN sent ELSE 0 END, error = '',
			head_at = CASE WHEN head_channel = ?2 THEN head_at ELSE 0 END, channel = ?1, head_channel = ?2`,
			channel, headChannel)
		return err
	})
}

// Tried records what became of a try to send entries over a channel: how far they were sent, and why not further.
// Where the channel is another one by now, nothing is recorded.
func (s Streams) Tried(ctx context.Context, channel string, sent int64, why string, at sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE audit_stream SET sent = max(sent, ?1), error = ?2,
			sent_at = CASE WHEN ?2 = '' THEN ?3 ELSE sent_at END WHERE channel = ?4`, sent, why, at, channel)
		return err
	})
}

// HeadTold records that the newest entry was told.
func (s Streams) HeadTold(ctx context.Context, at sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE audit_stream SET head_at = ?`, at)
		return err
	})
}
