package store

import (
	"context"

	"freshseal/core/judgement/notice"

	"github.com/jmoiron/sqlx"
)

// Channel is where messages go; its terms are JSON that the service knows.
type Channel struct {
	Name     string   `db:"name"`
	Terms    string   `db:"terms"`
	AddedAt  Moment   `db:"added_at"`
	Revision Revision `db:"revision"`
}

const channelRows = `SELECT channel.*, coalesce((SELECT number FROM revision
	WHERE of = 'channel/' || name), 0) AS revision FROM channel `

// List are all channels by name.
func (s Channels) List(ctx context.Context) ([]Channel, error) {
	var out []Channel
	return out, s.read.SelectContext(ctx, &out, channelRows+`ORDER BY name`)
}

// Get is the one with this name.
func (s Channels) Get(ctx context.Context, name string) (Channel, error) {
	var out Channel
	return out, one(s.read.GetContext(ctx, &out, channelRows+`WHERE name = ?`, name))
}

// Put keeps a channel of a known revision, a new one included, with its sealed secret where there is a new one.
func (s Channels) Put(ctx context.Context, c Channel, secrets map[string][]byte, known Revision) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "channel/"+c.Name, known); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO channel (name, terms, added_at)
			VALUES (:name, :terms, :added_at) ON CONFLICT DO UPDATE SET terms = excluded.terms`, c); err != nil {
			return err
		}
		return putSecrets(ctx, tx, secrets)
	})
}

// Remove forgets a channel with what is still to be sent over it.
func (s Channels) Remove(ctx context.Context, name string, purpose string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := removeSecrets(ctx, tx, []string{purpose}); err != nil {
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
		return changed(tx.ExecContext(ctx, `DELETE FROM channel WHERE name = ?`, name))
	})
}

// NoticeRule is a rule by which somebody is told.
type NoticeRule struct {
	Name     string            `db:"name"`
	Terms    JSON[notice.Rule] `db:"terms"`
	AddedAt  Moment            `db:"added_at"`
	Revision Revision          `db:"revision"`
}

// Rules are all rules by name.
func (s Channels) Rules(ctx context.Context) ([]NoticeRule, error) {
	var out []NoticeRule
	return out, s.read.SelectContext(ctx, &out, `SELECT notice_rule.*, coalesce((SELECT number FROM revision
		WHERE of = 'notice-rule/' || name), 0) AS revision FROM notice_rule ORDER BY name`)
}

// PutRule keeps a rule of a known revision, a new one included.
func (s Channels) PutRule(ctx context.Context, r NoticeRule, known Revision) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "notice-rule/"+r.Name, known); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO notice_rule (name, terms, added_at)
			VALUES (:name, :terms, :added_at) ON CONFLICT DO UPDATE SET terms = excluded.terms`, r)
		return err
	})
}

// RemoveRule forgets a rule and its matters; what was made by it is sent all the same.
func (s Channels) RemoveRule(ctx context.Context, name string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `DELETE FROM notice_rule WHERE name = ?`, name))
	})
}
