package replace

import (
	"context"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store"
	"freshseal/store/issuance"
)

// Storage is what this package needs of the store, so that its tests may replace it.
type Storage struct {
	Batches      batchesStore
	Chains       chainsStore
	Devices      devicesStore
	Journal      journalStore
	Parcels      parcelsStore
	Pins         pinsStore
	Replacements replacementsStore
	Requests     requestsStore
	Secrets      secretsStore
	Signers      signersStore
	Sites        sitesStore
	Slots        slotsStore
	Tasks        tasksStore
}

// StorageOf returns the parts of a store that this package needs.
func StorageOf(db *store.Store) Storage {
	return Storage{Batches: db.Batches, Chains: db.Chains, Devices: db.Devices, Journal: db.Journal,
		Parcels: db.Parcels, Pins: db.Pins, Replacements: db.Replacements, Requests: db.Requests, Secrets: db.Secrets,
		Signers: db.Signers, Sites: db.Sites, Slots: db.Slots, Tasks: db.Tasks}
}

type batchesStore interface {
	Add(ctx context.Context, b store.Batch, items []store.BatchItem) (id int64, err error)
	Count(ctx context.Context) (int, error)
	CountItems(ctx context.Context, id int64) ([]store.ItemCount, error)
	CountItemsOf(ctx context.Context, f store.ItemFilter) (int, error)
	End(ctx context.Context, id int64, at store.Moment) error
	Get(ctx context.Context, id int64) (store.Batch, error)
	ItemPage(ctx context.Context, f store.ItemFilter, p store.Page) ([]store.BatchItem, string, error)
	Open(ctx context.Context) ([]store.Batch, error)
	Page(ctx context.Context, p store.Page) ([]store.Batch, string, error)
	RefuseItem(ctx context.Context, item store.BatchItem) error
	Stop(ctx context.Context, id int64, by string, at store.Moment) error
}

type chainsStore interface {
	Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error)
}

type devicesStore interface {
	Get(ctx context.Context, name string) (store.Device, error)
}

type journalStore interface {
	BeginStep(ctx context.Context, step store.Step) (int64, error)
	EndStep(ctx context.Context, step store.Step) error
	KeptFile(ctx context.Context, replacement int64, name string) (store.KeptFile, error)
	KeptFiles(ctx context.Context, replacement int64) ([]store.KeptFile, error)
	Steps(ctx context.Context, replacementID int64) ([]store.Step, error)
	Took(ctx context.Context, family string, name string, most int) ([]int64, error)
}

type parcelsStore interface {
	Get(ctx context.Context, id int64) (store.Parcel, []store.Replacement, error)
}

type pinsStore interface {
	Add(ctx context.Context, p store.Pin) (int64, error)
	Confirm(ctx context.Context, id int64, by string, note string, at store.Moment) error
	Get(ctx context.Context, id int64) (store.Pin, error)
	List(ctx context.Context, slots ...int64) ([]store.Pin, error)
	Remove(ctx context.Context, id int64) error
	Update(ctx context.Context, id int64) (store.PinUpdate, error)
	Updates(ctx context.Context, replacementID int64) ([]store.PinUpdate, error)
}

type replacementsStore interface {
	Add(ctx context.Context, r store.Replacement, slotIDs []int64, p replacement.Progress, yaml string,
		of *store.BatchItem) (int64, error)
	CountOf(ctx context.Context, f store.ReplacementFilter) (int, error)
	Entries(ctx context.Context, id int64) ([]replacement.Entry, error)
	Get(ctx context.Context, id int64) (store.Replacement, error)
	In(ctx context.Context, state replacement.State) ([]store.Replacement, error)
	Of(ctx context.Context, deviceID int64) ([]store.Replacement, error)
	Page(ctx context.Context, f store.ReplacementFilter, p store.Page) ([]store.Replacement, string, error)
	Retry(ctx context.Context, r store.Replacement, slotIDs []int64, p replacement.Progress, yaml string,
		over func(id int64) ([]store.Step, map[string][]byte, error),
		seal func(stepID int64, text []byte) []byte) (int64, error)
	SetApproved(ctx context.Context, id int64, by string, what string) error
	SetClosed(ctx context.Context, id int64, as string) error
	SetGoAhead(ctx context.Context, id int64, anyTime string) error
	SetLeftover(ctx context.Context, id int64, what string, at store.Moment, due store.Moment) error
	SetPaused(ctx context.Context, id int64, by string) error
	SetTidied(ctx context.Context, ids []int64) error
	Targets(ctx context.Context, ids ...int64) (map[int64][]store.Target, error)
}

type requestsStore interface {
	AskAgain(ctx context.Context, id int64, signer string, plan request.Plan, old store.Obsolete,
		secret string) (r store.Replacement, action replacement.Action, err error)
	ObsoleteOf(ctx context.Context, replacementID int64) ([]store.Obsolete, error)
	TakeKey(ctx context.Context, id int64, old store.Obsolete, made request.Request, purpose string,
		sealed []byte) error
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
}

type signersStore interface {
	ProvenTo(ctx context.Context, signer string) (map[string]issuance.Proven, error)
	UnusedAnswers(ctx context.Context, id int64) ([]issuance.UnusedAnswer, error)
}

type sitesStore interface {
	Get(ctx context.Context, name string) (store.Site, error)
}

type slotsStore interface {
	Names(now store.Moment, f store.SlotFilter) []store.SlotName
	Peers(ctx context.Context, slot store.Slot, cluster string) ([]store.Slot, error)
}

type tasksStore interface {
	EndProof(ctx context.Context, step store.Step, signer string, domains []string, by string) error
	AddNote(ctx context.Context, stepID int64, n store.Note) error
	Count(ctx context.Context, replacementID int64) (int, error)
	End(ctx context.Context, step store.Step, e replacement.Event) (action replacement.Action, err error)
	Get(ctx context.Context, stepID int64) (store.Task, error)
	Open(ctx context.Context) ([]store.Task, error)
	Page(ctx context.Context, replacementID int64, p store.Page) ([]store.Task, string, error)
	Take(ctx context.Context, stepID int64, by string) error
}
