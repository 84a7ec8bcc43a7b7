package people

import (
	"context"

	"freshseal/store"
)

// storage is what this room needs of the store, so that its tests may have another one.
type storage struct {
	Audit    auditStore
	Outbox   outboxStore
	Sessions sessionsStore
	Users    usersStore
}

func storageOf(db *store.Store) storage {
	return storage{Audit: db.Audit, Outbox: db.Outbox, Sessions: db.Sessions, Users: db.Users}
}

type auditStore interface {
	Count(ctx context.Context, f store.AuditFilter) (int, error)
	Entry(ctx context.Context, id int64) (store.AuditEntry, error)
	Head(ctx context.Context) (store.AuditEntry, error)
	Page(ctx context.Context, f store.AuditFilter, p store.Page) ([]store.AuditEntry, string, error)
	Verify(ctx context.Context) (entries int, err error)
}

type outboxStore interface {
	Act(ctx context.Context, at store.Moment, who string, what string, about string) error
}

type sessionsStore interface {
	Add(ctx context.Context, session store.Session, seen store.User) error
	End(ctx context.Context, beginning string) error
	EndOf(ctx context.Context, user string) error
	Get(ctx context.Context, sha256 string, now store.Moment) (store.Session, error)
	Of(ctx context.Context, user string, kind string, now store.Moment) ([]store.Session, error)
	Tokens(ctx context.Context, now store.Moment) ([]store.Session, error)
}

type usersStore interface {
	Add(ctx context.Context, u store.User) error
	Change(ctx context.Context, u store.User) error
	Count(ctx context.Context) (int, error)
	Get(ctx context.Context, name string) (store.User, error)
	List(ctx context.Context) ([]store.User, error)
	PutView(ctx context.Context, v store.View, most int) error
	Remove(ctx context.Context, name string) error
	RemoveView(ctx context.Context, user string, page string, name string) error
	SetPassword(ctx context.Context, name string, password string, keep string) error
	Views(ctx context.Context, user string) ([]store.View, error)
}
