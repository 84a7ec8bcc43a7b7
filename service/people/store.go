package people

import (
	"context"

	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/events"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Audit    auditStore
	Factors  factorsStore
	Outbox   outboxStore
	Sessions sessionsStore
	Users    usersStore
}

func storageOf(db *store.Store) storage {
	return storage{Audit: db.Audit, Factors: db.Factors, Outbox: db.Outbox, Sessions: db.Sessions, Users: db.Users}
}

type auditStore interface {
	Count(ctx context.Context, f events.AuditFilter) (int, error)
	Entry(ctx context.Context, id int64) (events.AuditEntry, error)
	Head(ctx context.Context) (events.AuditEntry, error)
	Page(ctx context.Context, f events.AuditFilter, p store.Page) ([]events.AuditEntry, string, error)
	Verify(ctx context.Context) (entries int, err error)
	Walk(ctx context.Context, look func(events.AuditEntry) error) error
}

type outboxStore interface {
	Act(ctx context.Context, at store.Moment, who string, what string, about string) error
}

type factorsStore interface {
	Get(ctx context.Context, user string) (accounts.Factor, error)
	Remove(ctx context.Context, user string, keep string) error
	SetPending(ctx context.Context, user string, sealed []byte, at store.Moment) error
	SetRecovery(ctx context.Context, user string, digests []string) error
	TakePending(ctx context.Context, seen accounts.Factor, step int64, recovery []string, keep string,
		at store.Moment) error
	Use(ctx context.Context, seen accounts.Factor, step int64) error
	UseRecovery(ctx context.Context, user string, digest string) error
}

type sessionsStore interface {
	Add(ctx context.Context, session accounts.Session, seen accounts.User) error
	Confirm(ctx context.Context, sha256 string, factor string, at store.Moment) error
	End(ctx context.Context, beginning string) error
	EndOf(ctx context.Context, user string) error
	EndSignedIn(ctx context.Context, user string) error
	Get(ctx context.Context, sha256 string, now store.Moment) (accounts.Session, error)
	Of(ctx context.Context, user string, kind string, now store.Moment) ([]accounts.Session, error)
	SetEnd(ctx context.Context, sha256 string, ends store.Moment) error
	SetSeen(ctx context.Context, seen map[string]accounts.Seen) error
	SetSignInPolicy(ctx context.Context, text string) error
	SignInPolicy(ctx context.Context) (text string, err error)
	SignedIn(ctx context.Context, user string, now store.Moment) ([]accounts.Session, error)
	Tokens(ctx context.Context, now store.Moment) ([]accounts.Session, error)
}

type usersStore interface {
	Add(ctx context.Context, u accounts.User) error
	Change(ctx context.Context, u accounts.User, allowed func(left []accounts.User) error) error
	Count(ctx context.Context) (int, error)
	Get(ctx context.Context, name string) (accounts.User, error)
	List(ctx context.Context) ([]accounts.User, error)
	PutView(ctx context.Context, v accounts.View, most int) error
	Remove(ctx context.Context, name string, allowed func(left []accounts.User) error) error
	RemoveView(ctx context.Context, user string, page string, name string) error
	SetPassword(ctx context.Context, name string, password string, keep string) error
	Views(ctx context.Context, user string) ([]accounts.View, error)
}
