package messages

import (
	"context"

	"freshseal/core/judgement/notice"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Channels are where notices go.
type Channels struct{ DB *sqlite.DB }

// Channel is where messages go; its terms are JSON that the service knows.
type Channel struct {
	Name     string          `db:"name"`
	Terms    string          `db:"terms"`
	AddedAt  sqlite.Moment   `db:"added_at"`
	Revision sqlite.Revision `db:"revision"`
}

const channelRows = `SELECT channel.*, coalesce((SELECT number FROM revision
	WHERE of = 'channel/' || name), 0) AS revision FROM channel `

// List returns all channels by name.
func (s Channels) List(ctx context.Context) ([]Channel, error) {
	var out []Channel
	return out, s.DB.Read.SelectContext(ctx, &out, channelRows+`ORDER BY name`)
}

// Get returns the one with this name.
func (s Channels) Get(ctx context.Context, name string) (Channel, error) {
	var out Channel
	return out, sqlite.Row(s.DB.Read.GetContext(ctx, &out, channelRows+`WHERE name = ?`, name))
}

// Put stores a channel of a known revision, a new one included, with its sealed secret where there is a new one.
func (s Channels) Put(ctx context.Context, c Channel, secrets map[string][]byte, known sqlite.Revision) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "channel/"+c.Name, known); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO channel (name, terms, added_at)
			VALUES (:name, :terms, :added_at) ON CONFLICT DO UPDATE SET terms = excluded.terms`, c); err != nil {
			return err
		}
		return sqlite.PutSecrets(ctx, tx, secrets)
	})
}

// Remove deletes a channel with what is still to be sent over it.
func (s Channels) Remove(ctx context.Context, name string, purpose string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.RemoveSecrets(ctx, tx, []string{purpose}); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM delivery WHERE channel = ? AND message_id IS NULL`,
			name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE message SET next_at = 0, error = 'the channel was removed'
			WHERE channel = ? AND next_at > 0`, name); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM channel WHERE name = ?`, name))
	})
}

// NoticeRule is a rule by which somebody is told.
type NoticeRule struct {
	Name     string                   `db:"name"`
	Terms    sqlite.JSON[notice.Rule] `db:"terms"`
	AddedAt  sqlite.Moment            `db:"added_at"`
	Revision sqlite.Revision          `db:"revision"`
}

// Rules returns all rules by name.
func (s Channels) Rules(ctx context.Context) ([]NoticeRule, error) {
	var out []NoticeRule
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT notice_rule.*, coalesce((SELECT number FROM revision
		WHERE of = 'notice-rule/' || name), 0) AS revision FROM notice_rule ORDER BY name`)
}

// PutRule stores a rule of a known revision, a new one included.
func (s Channels) PutRule(ctx context.Context, r NoticeRule, known sqlite.Revision) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "notice-rule/"+r.Name, known); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO notice_rule (name, terms, added_at)
			VALUES (:name, :terms, :added_at) ON CONFLICT DO UPDATE SET terms = excluded.terms`, r)
		return err
	})
}

// RemoveRule deletes a rule and its matters; what was made by it is sent all the same.
func (s Channels) RemoveRule(ctx context.Context, name string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM notice_rule WHERE name = ?`, name))
	})
}
