// Package messages stores rules of notices, the notices made by them, the messages that wait to be sent, and channels.
package messages

import (
	"context"
	"fmt"
	"strings"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Notices are who is told what.
type Notices struct{ DB *sqlite.DB }

// SlotForRules is what rules must know of a slot.
type SlotForRules struct {
	ID       int64                 `db:"id"`
	Device   string                `db:"device"`
	Name     string                `db:"name"`
	Site     string                `db:"site"`
	Family   string                `db:"family"`
	Owner    string                `db:"owner"`
	Tags     sqlite.JSON[[]string] `db:"tags"`
	Base     due.Condition         `db:"base"`
	NotAfter sqlite.Moment         `db:"not_after"`
	Overdue  sqlite.Moment         `db:"overdue_from"`
	Due      sqlite.Moment         `db:"due_from"`
	ReadAt   sqlite.Moment         `db:"read_at"`
	Subject  string                `db:"subject"`
	Findings sqlite.Findings       `db:"findings"`

	InstalledAt sqlite.Moment `db:"installed_at"` // when a replacement of it was last sealed or reverted
}

const slotsForRules = `SELECT slot.id, device.name AS device, slot.name, device.site, device.family, device.owner,
	device.tags, slot.base, slot.not_after, slot.overdue_from, slot.due_from, slot.read_at, slot.subject,
	slot.findings, slot.installed_at
	FROM slot JOIN device ON device.id = slot.device_id WHERE slot.read_at > 0 AND `

// SlotsForRules returns the next slots after one that have one of these conditions, expire before a moment, or have a
// matter.
func (s Notices) SlotsForRules(ctx context.Context, conditions []due.Condition, until sqlite.Moment, id int64,
	most int) ([]SlotForRules, error) {
	anyOf := append([]due.Condition{""}, conditions...) // IN needs one at least
	query, args, err := sqlx.In(slotsForRules+`slot.id > ? AND (slot.condition IN (?) OR slot.not_after > 0
		AND slot.not_after < ? OR EXISTS (SELECT 1 FROM matter WHERE slot_id = slot.id)) ORDER BY slot.id LIMIT ?`,
		id, anyOf, until, most)
	if err != nil {
		return nil, err
	}
	var out []SlotForRules
	return out, s.DB.Read.SelectContext(ctx, &out, query, args...)
}

// SlotForRules returns one of them by its device's name and its own.
func (s Notices) SlotForRules(ctx context.Context, device, name string) (SlotForRules, error) {
	var out SlotForRules
	return out, sqlite.Row(s.DB.Read.GetContext(ctx, &out, slotsForRules+`device.name = ? AND slot.name = ?`, device,
		name))
}

// Matter is what was told of a slot, or of something else, by a rule.
type Matter struct {
	Rule  string                     `db:"rule"`
	Slot  int64                      `db:"slot_id"`
	State sqlite.JSON[notice.Matter] `db:"state"`

	Thing string                    `db:"thing"` // what it is about instead of a slot, and of what kind that is
	Of    sqlite.JSON[notice.Thing] `db:"of"`
}

// ThingMatters returns those about what is no slot.
func (s Notices) ThingMatters(ctx context.Context) ([]Matter, error) {
	var out []Matter
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM thing_matter ORDER BY rule, thing`)
}

// Matters returns those of some slots.
func (s Notices) Matters(ctx context.Context, slots []int64) ([]Matter, error) {
	if len(slots) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT * FROM matter WHERE slot_id IN (?)`, slots)
	if err != nil {
		return nil, err
	}
	var out []Matter
	return out, s.DB.Read.SelectContext(ctx, &out, query, args...)
}

// Acknowledgement is that somebody knows of a slot.
type Acknowledgement struct {
	SlotID int64         `db:"slot_id"`
	By     string        `db:"by"`
	Reason string        `db:"reason"`
	At     sqlite.Moment `db:"at"`
	Until  sqlite.Moment `db:"until"`
	Worst  int           `db:"worst"`

	Device string `db:"device"`
	Slot   string `db:"name"`
}

// Acknowledgements returns those that have not ended.
func (s Notices) Acknowledgements(ctx context.Context, now sqlite.Moment) ([]Acknowledgement, error) {
	var out []Acknowledgement
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT acknowledgement.*, device.name AS device, slot.name
		FROM acknowledgement JOIN slot ON slot.id = slot_id JOIN device ON device.id = slot.device_id WHERE until > ?
		ORDER BY until, slot_id`, now)
}

// Acknowledge stores that somebody knows of a slot.
func (s Notices) Acknowledge(ctx context.Context, a Acknowledgement) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO acknowledgement (slot_id, by, reason, at, until, worst)
			VALUES (:slot_id, :by, :reason, :at, :until, :worst)
			ON CONFLICT DO UPDATE SET by = excluded.by, reason = excluded.reason, at = excluded.at,
			until = excluded.until, worst = excluded.worst`, a)
		return err
	})
}

// Withdraw takes back that somebody knows of a slot.
func (s Notices) Withdraw(ctx context.Context, slot int64) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM acknowledgement WHERE slot_id = ?`, slot))
	})
}

// Notice is one that was made.
type Notice struct {
	ID     string                   `db:"id"`
	Rule   string                   `db:"rule"`
	Slot   string                   `db:"slot"`
	Kind   notice.Kind              `db:"kind"`
	Stage  string                   `db:"stage"`
	Item   sqlite.JSON[notice.Item] `db:"item"`
	MadeAt sqlite.Moment            `db:"made_at"`

	Channels []string      `db:"-"`
	DueAt    sqlite.Moment `db:"-"`
}

// Cursor returns up to where the outbox was looked at.
func (s Notices) Cursor(ctx context.Context) (int64, error) {
	var id int64
	return id, s.DB.Read.GetContext(ctx, &id, `SELECT event FROM notice_cursor`)
}

// Add stores what the matters are now, the notices that follow and up to where the outbox was looked at, all or
// nothing: so nothing is lost and nothing is made twice, whenever the service is killed. A matter without a stage is
// forgotten; one of a slot or a rule that is gone is passed over.
func (s Notices) Add(ctx context.Context, matters []Matter, notices []Notice, cursor int64) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		for _, m := range matters {
			if m.Thing != "" {
				if err := putThingMatter(ctx, tx, m); err != nil {
					return err
				}
				continue
			}
			if len(m.State.V.Told) == 0 {
				if _, err := tx.NamedExecContext(ctx, `DELETE FROM matter WHERE rule = :rule AND slot_id = :slot_id`,
					m); err != nil {
					return err
				}
				continue
			}
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO matter (rule, slot_id, state)
				SELECT :rule, :slot_id, :state
				WHERE EXISTS (SELECT 1 FROM notice_rule WHERE name = :rule) AND EXISTS (SELECT 1 FROM slot
				WHERE id = :slot_id)
				ON CONFLICT DO UPDATE SET state = excluded.state`, m); err != nil {
				return err
			}
		}
		for _, n := range notices {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO notice (id, rule, slot, kind, stage, item, made_at)
				VALUES (:id, :rule, :slot, :kind, :stage, :item, :made_at)`, n); err != nil {
				return err
			}
			for _, channel := range n.Channels {
				if _, err := tx.ExecContext(ctx, `INSERT INTO delivery (notice_id, channel, due_at) VALUES (?, ?, ?)`,
					n.ID, channel, n.DueAt); err != nil {
					return err
				}
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE notice_cursor SET event = ? WHERE event < ?`, cursor, cursor)
		return err
	})
}

func putThingMatter(ctx context.Context, tx *sqlx.Tx, m Matter) error {
	statement := `INSERT INTO thing_matter (rule, thing, state, of) SELECT :rule, :thing, :state, :of WHERE EXISTS
		(SELECT 1 FROM notice_rule WHERE name = :rule)
		ON CONFLICT DO UPDATE SET state = excluded.state`
	if len(m.State.V.Told) == 0 {
		statement = `DELETE FROM thing_matter WHERE rule = :rule AND thing = :thing`
	}
	_, err := tx.NamedExecContext(ctx, statement, m)
	return err
}

// ToPack is a notice that is to be sent over a channel and is in no message yet.
type ToPack struct {
	Notice  string                   `db:"notice_id"`
	Channel string                   `db:"channel"`
	Item    sqlite.JSON[notice.Item] `db:"item"`
}

// ToPack returns the notices whose time has come, oldest first.
func (s Notices) ToPack(ctx context.Context, now sqlite.Moment, most int) ([]ToPack, error) {
	var out []ToPack
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT notice_id, channel, item FROM delivery
		JOIN notice ON notice.id = notice_id WHERE message_id IS NULL AND due_at <= ?
		ORDER BY due_at, made_at, notice_id LIMIT ?`, now, most)
}

// Message is one that is to be sent, or was.
type Message struct {
	ID       string                      `db:"id"`
	Channel  string                      `db:"channel"`
	People   string                      `db:"people"`
	Body     sqlite.JSON[notice.Message] `db:"body"`
	MadeAt   sqlite.Moment               `db:"made_at"`
	Attempts int                         `db:"attempts"`
	NextAt   sqlite.Moment               `db:"next_at"`
	SentAt   sqlite.Moment               `db:"sent_at"`
	Error    string                      `db:"error"`

	Notices []string `db:"-"` // that are in it
}

// Pack puts notices into messages, each into one.
func (s Notices) Pack(ctx context.Context, messages []Message) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		for _, m := range messages {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO message (id, channel, people, body, made_at, attempts,
				next_at, sent_at, error)
				VALUES (:id, :channel, :people, :body, :made_at, 0, :made_at, 0, '')`, m); err != nil {
				return err
			}
			for _, id := range m.Notices {
				if _, err := tx.ExecContext(ctx, `UPDATE delivery SET message_id = ? WHERE notice_id = ?
					AND channel = ? AND message_id IS NULL`, m.ID, id, m.Channel); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// TakeMessages takes messages that are to be sent now, and notes that they are tried: if nobody says what became of
// it until the lease ends, they are tried again.
func (s Notices) TakeMessages(ctx context.Context, now, lease sqlite.Moment, most int) ([]Message, error) {
	var out []Message
	return out, s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := tx.SelectContext(ctx, &out, `SELECT * FROM message WHERE next_at > 0 AND next_at <= ?
			ORDER BY next_at, id LIMIT ?`, now, most); err != nil {
			return err
		}
		for i, m := range out {
			out[i].Attempts++
			if _, err := tx.ExecContext(ctx, `UPDATE message SET attempts = attempts + 1, next_at = ? WHERE id = ?`,
				lease, m.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// EndMessage stores what became of a message: sent, to be tried again, or given up.
func (s Notices) EndMessage(ctx context.Context, m Message) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE message SET next_at = :next_at, sent_at = :sent_at,
			error = :error WHERE id = :id`, m))
	})
}

// Told is a notice with what became of it.
type Told struct {
	Notice
	Sent    int    `db:"sent"`    // over how many channels
	Waiting int    `db:"waiting"` // over how many it is still to go
	Failed  int    `db:"failed"`  // over how many it never went
	Error   string `db:"error"`   // of the last try
	Over    string `db:"over"`    // the channels
}

var toldList = sqlite.List[Told]{
	Columns: `*`,
	From: `(SELECT notice.*,
		(SELECT count(*) FROM delivery JOIN message ON message.id = message_id WHERE notice_id = notice.id
		AND sent_at > 0) AS sent,
		(SELECT count(*) FROM delivery LEFT JOIN message ON message.id = message_id WHERE notice_id = notice.id
		AND (message_id IS NULL OR next_at > 0)) AS waiting,
		(SELECT count(*) FROM delivery JOIN message ON message.id = message_id WHERE notice_id = notice.id
		AND sent_at = 0 AND next_at = 0) AS failed,
		coalesce((SELECT error FROM delivery JOIN message ON message.id = message_id WHERE notice_id = notice.id
		AND error <> '' LIMIT 1), '') AS error,
		coalesce((SELECT group_concat(channel, ' ') FROM delivery WHERE notice_id = notice.id), '') AS over
		FROM notice)`,
	Orders: map[string][]string{"made_at": {"made_at", "id"}}, Natural: "made_at",
	Keyed: func(t Told) map[string]any {
		at, _ := t.MadeAt.Value()
		return map[string]any{"made_at": at, "id": t.ID}
	},
}

// NoticeFilter narrows a list of notices.
type NoticeFilter struct {
	Rule string
	Slot string
}

func (f NoticeFilter) narrowings() []sqlite.Narrowing {
	return sqlite.Narrow(map[string]string{"rule = ?": f.Rule, "slot = ?": f.Slot})
}

// Page returns a page of notices.
func (s Notices) Page(ctx context.Context, f NoticeFilter, p sqlite.Page) ([]Told, string, error) {
	return toldList.Page(ctx, s.DB, p, f.narrowings()...)
}

// Count returns how many notices fit a filter.
func (s Notices) Count(ctx context.Context, f NoticeFilter) (int, error) {
	return toldList.Count(ctx, s.DB, f.narrowings()...)
}

// Queue returns how many notices are to be sent, and how many messages could not be.
func (s Notices) Queue(ctx context.Context) (waiting, failed int, err error) {
	if err = s.DB.Read.GetContext(ctx, &waiting, `SELECT (SELECT count(*) FROM delivery WHERE message_id IS NULL) +
		(SELECT count(*) FROM message WHERE next_at > 0)`); err != nil {
		return 0, 0, err
	}
	return waiting, failed, s.DB.Read.GetContext(ctx, &failed, `SELECT count(*) FROM message WHERE next_at = 0
		AND sent_at = 0`)
}

// Forget removes notices and messages that are older than this and need nobody any more.
func (s Notices) Forget(ctx context.Context, before sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		for _, statement := range []string{
			`DELETE FROM notice WHERE made_at < ? AND NOT EXISTS (SELECT 1 FROM delivery LEFT
				JOIN message ON message.id = message_id WHERE notice_id = notice.id AND (message_id IS NULL
				OR next_at > 0))`,
			`DELETE FROM message WHERE made_at < ? AND next_at = 0 AND NOT EXISTS (SELECT 1 FROM delivery
				WHERE message_id = message.id)`,
		} {
			if _, err := tx.ExecContext(ctx, statement, before); err != nil {
				return fmt.Errorf("%s: %w", strings.Fields(statement)[2], err)
			}
		}
		return nil
	})
}
