package notices

import (
	"context"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/store"
	"freshseal/store/events"
	"freshseal/store/messages"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Audit        auditStore
	Channels     channelsStore
	Notices      noticesStore
	Outbox       outboxStore
	Replacements replacementsStore
	Secrets      secretsStore
	Streams      streamsStore
}

func storageOf(db *store.Store) storage {
	return storage{Audit: db.Audit, Streams: db.Streams,
		Channels: db.Channels, Notices: db.Notices, Outbox: db.Outbox, Replacements: db.Replacements,
		Secrets: db.Secrets}
}

type auditStore interface {
	After(ctx context.Context, id int64, most int) ([]events.AuditEntry, error)
	Head(ctx context.Context) (events.AuditEntry, error)
}

type streamsStore interface {
	Get(ctx context.Context) (messages.Stream, error)
	HeadTold(ctx context.Context, at store.Moment) error
	Set(ctx context.Context, channel string, headChannel string) error
	Tried(ctx context.Context, channel string, sent int64, why string, at store.Moment) error
}

type channelsStore interface {
	Get(ctx context.Context, name string) (messages.Channel, error)
	List(ctx context.Context) ([]messages.Channel, error)
	Put(ctx context.Context, c messages.Channel, secrets map[string][]byte, known store.Revision) error
	PutRule(ctx context.Context, r messages.NoticeRule, known store.Revision) error
	Remove(ctx context.Context, name string, purpose string) error
	RemoveRule(ctx context.Context, name string) error
	Rules(ctx context.Context) ([]messages.NoticeRule, error)
}

type noticesStore interface {
	Acknowledge(ctx context.Context, a messages.Acknowledgement) error
	Acknowledgements(ctx context.Context, now store.Moment) ([]messages.Acknowledgement, error)
	Add(ctx context.Context, matters []messages.Matter, notices []messages.Notice, cursor int64) error
	Count(ctx context.Context, f messages.NoticeFilter) (int, error)
	Cursor(ctx context.Context) (int64, error)
	EndMessage(ctx context.Context, m messages.Message) error
	Forget(ctx context.Context, before store.Moment) error
	Matters(ctx context.Context, slots []int64) ([]messages.Matter, error)
	Pack(ctx context.Context, messages []messages.Message) error
	Page(ctx context.Context, f messages.NoticeFilter, p store.Page) ([]messages.Told, string, error)
	Queue(ctx context.Context) (waiting int, failed int, err error)
	SlotForRules(ctx context.Context, device string, name string) (messages.SlotForRules, error)
	SlotsForRules(ctx context.Context, conditions []due.Condition, until store.Moment, id int64,
		most int) ([]messages.SlotForRules, error)
	TakeMessages(ctx context.Context, now store.Moment, lease store.Moment, most int) ([]messages.Message, error)
	ThingMatters(ctx context.Context) ([]messages.Matter, error)
	ToPack(ctx context.Context, now store.Moment, most int) ([]messages.ToPack, error)
	Withdraw(ctx context.Context, slot int64) error
}

type outboxStore interface {
	Events(ctx context.Context, about string, after int64) ([]events.Event, error)
	Listen() (woken <-chan struct{}, leave func())
}

type replacementsStore interface {
	Aftermath(ctx context.Context, slotID int64, within time.Duration) (store.Aftermath, error)
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
}
