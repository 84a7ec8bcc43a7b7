package notices

import (
	"context"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/store"
)

// storage is what this room needs of the store, so that its tests may have another one.
type storage struct {
	Channels     channelsStore
	Notices      noticesStore
	Outbox       outboxStore
	Replacements replacementsStore
	Secrets      secretsStore
}

func storageOf(db *store.Store) storage {
	return storage{Channels: db.Channels, Notices: db.Notices, Outbox: db.Outbox, Replacements: db.Replacements,
		Secrets: db.Secrets}
}

type channelsStore interface {
	Get(ctx context.Context, name string) (store.Channel, error)
	List(ctx context.Context) ([]store.Channel, error)
	Put(ctx context.Context, c store.Channel, secrets map[string][]byte, known store.Revision) error
	PutRule(ctx context.Context, r store.NoticeRule, known store.Revision) error
	Remove(ctx context.Context, name string, purpose string) error
	RemoveRule(ctx context.Context, name string) error
	Rules(ctx context.Context) ([]store.NoticeRule, error)
}

type noticesStore interface {
	Acknowledge(ctx context.Context, a store.Acknowledgement) error
	Acknowledgements(ctx context.Context, now store.Moment) ([]store.Acknowledgement, error)
	Add(ctx context.Context, matters []store.Matter, notices []store.Notice, cursor int64) error
	Count(ctx context.Context, f store.NoticeFilter) (int, error)
	Cursor(ctx context.Context) (int64, error)
	EndMessage(ctx context.Context, m store.Message) error
	Forget(ctx context.Context, before store.Moment) error
	Matters(ctx context.Context, slots []int64) ([]store.Matter, error)
	Pack(ctx context.Context, messages []store.Message) error
	Page(ctx context.Context, f store.NoticeFilter, p store.Page) ([]store.Told, string, error)
	Queue(ctx context.Context) (waiting int, failed int, err error)
	SlotForRules(ctx context.Context, device string, name string) (store.SlotForRules, error)
	SlotsForRules(ctx context.Context, now store.Moment, conditions []due.Condition, until store.Moment, id int64,
		most int) ([]store.SlotForRules, error)
	TakeMessages(ctx context.Context, now store.Moment, lease store.Moment, most int) ([]store.Message, error)
	ThingMatters(ctx context.Context) ([]store.Matter, error)
	ToPack(ctx context.Context, now store.Moment, most int) ([]store.ToPack, error)
	Withdraw(ctx context.Context, slot int64) error
}

type outboxStore interface {
	Events(ctx context.Context, about string, after int64) ([]store.Event, error)
	Listen() (woken <-chan struct{}, leave func())
}

type replacementsStore interface {
	Aftermath(ctx context.Context, slotID int64, within time.Duration) (store.Aftermath, error)
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
}
