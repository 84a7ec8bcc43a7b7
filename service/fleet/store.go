package fleet

import (
	"context"

	"freshseal/core/pki/cert"
	"freshseal/store"
	"freshseal/store/found"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Chains       chainsStore
	Devices      devicesStore
	Discoveries  discoveriesStore
	Readings     readingsStore
	Replacements replacementsStore
	Secrets      secretsStore
	Sites        sitesStore
	Slots        slotsStore
}

func storageOf(db *store.Store) storage {
	return storage{Chains: db.Chains, Devices: db.Devices, Discoveries: db.Discoveries, Readings: db.Readings,
		Replacements: db.Replacements, Secrets: db.Secrets, Sites: db.Sites, Slots: db.Slots}
}

type chainsStore interface {
	Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error)
	Of(ctx context.Context, sha256 string) ([]*cert.Certificate, error)
}

type devicesStore interface {
	Access(ctx context.Context, deviceIDs ...int64) (map[int64][]store.Access, error)
	Add(ctx context.Context, devices []store.NewDevice) error
	Apply(ctx context.Context, i store.Inventory) error
	Change(ctx context.Context, e store.DeviceEdit) error
	Count(f store.DeviceFilter) int
	CountFamilies() map[string]int
	Get(ctx context.Context, name string) (store.Device, error)
	Names(f store.DeviceFilter) []string
	Page(ctx context.Context, f store.DeviceFilter, p store.Page) ([]store.Device, string, error)
	Remove(ctx context.Context, name string, purposes ...string) error
	SlotsOfDevices(ctx context.Context, ids []int64) (map[int64][]store.Slot, error)
}

type discoveriesStore interface {
	Add(ctx context.Context, t found.Discovery, keep int) (found.Discovery, error)
	AddFinds(ctx context.Context, taking int64, done int, finds []found.Find) error
	End(ctx context.Context, id int64, at store.Moment, why string) error
	Finds(ctx context.Context, taking int64) ([]found.Find, error)
	Get(ctx context.Context, id int64) (found.Discovery, error)
	List(ctx context.Context) ([]found.Discovery, error)
	Remove(ctx context.Context, id int64) error
}

type readingsStore interface {
	Of(ctx context.Context, slotID int64, most int) ([]store.Reading, error)
}

type replacementsStore interface {
	Installs(ctx context.Context, slotID int64) ([]store.Install, error)
	List(ctx context.Context, slotID int64, most int) ([]store.Replacement, error)
	Page(ctx context.Context, f store.ReplacementFilter, p store.Page) ([]store.Replacement, string, error)
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
}

type sitesStore interface {
	Get(ctx context.Context, name string) (store.Site, error)
}

type slotsStore interface {
	Places(ctx context.Context) (map[string]string, error)
	Add(ctx context.Context, device string, slot store.Slot, secrets map[string][]byte) error
	Change(ctx context.Context, e store.SlotEdit) error
	Count(now store.Moment, f store.SlotFilter) int
	CountAt(ctx context.Context, site string) (int, error)
	Dates(ctx context.Context, from, until store.Moment, site string, lockingOut []string,
		most int) ([]store.Date, map[int64]store.SlotRow, error)
	Urgent(ctx context.Context, now store.Moment, lockingOut []string, most int) (store.Urgent, error)
	Due(ctx context.Context, before store.Moment, site string, lockingOut []string,
		most int) ([]store.DueRow, int, error)
	Facets() store.Facets
	Get(ctx context.Context, device string, name string) (store.Slot, error)
	Move(ctx context.Context, slotID int64, address string, port int) error
	Of(ctx context.Context, device string) ([]store.Slot, error)
	Page(ctx context.Context, now store.Moment, f store.SlotFilter, p store.Page) ([]store.SlotRow, string, error)
	Remove(ctx context.Context, slot store.Slot, purposes ...string) error
	ThatServed(ctx context.Context, fingerprint string, most int) ([]store.Served, error)
}
