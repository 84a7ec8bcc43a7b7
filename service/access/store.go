package access

import (
	"context"

	"freshseal/store"
	"freshseal/store/accounts"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Credentials credentialsStore
	Devices     devicesStore
	Secrets     secretsStore
	Sites       sitesStore
}

func storageOf(db *store.Store) storage {
	return storage{Credentials: db.Credentials, Devices: db.Devices, Secrets: db.Secrets, Sites: db.Sites}
}

type credentialsStore interface {
	Add(ctx context.Context, c accounts.Credential, secrets map[string][]byte) error
	Change(ctx context.Context, c accounts.Credential, secrets map[string][]byte, known store.Revision,
		purposes ...string) error
	Get(ctx context.Context, name string) (accounts.Credential, error)
	List(ctx context.Context) ([]accounts.Credential, error)
	Remove(ctx context.Context, name string, purposes ...string) error
}

type devicesStore interface {
	Access(ctx context.Context, deviceIDs ...int64) (map[int64][]store.Access, error)
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
}

type sitesStore interface {
	Add(ctx context.Context, site store.Site, secrets map[string][]byte) error
	Change(ctx context.Context, site store.Site, secrets map[string][]byte, known store.Revision) error
	Get(ctx context.Context, name string) (store.Site, error)
	List(ctx context.Context) ([]store.Site, error)
	NamedSite(ctx context.Context, name string) (store.Site, error)
	NamedSites(ctx context.Context) ([]store.Site, error)
	Remove(ctx context.Context, name string, purposes ...string) error
}
