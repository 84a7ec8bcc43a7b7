package engine

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
	Chains       chainsStore
	Devices      devicesStore
	Journal      journalStore
	Pins         pinsStore
	Replacements replacementsStore
	Requests     requestsStore
	Secrets      secretsStore
	Signers      signersStore
	Sites        sitesStore
	Slots        slotsStore
	Tasks        tasksStore
}

// StorageOf returns the parts of a store that the engine needs.
func StorageOf(db *store.Store) Storage {
	return Storage{Chains: db.Chains, Devices: db.Devices, Journal: db.Journal,
		Pins: db.Pins, Replacements: db.Replacements, Requests: db.Requests, Secrets: db.Secrets,
		Signers: db.Signers, Sites: db.Sites, Slots: db.Slots, Tasks: db.Tasks}
}

type chainsStore interface {
	AddAuthorities(ctx context.Context, certificates []*cert.Certificate) error
	Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error)
}

type devicesStore interface {
	Get(ctx context.Context, name string) (store.Device, error)
	MovePins(ctx context.Context, link string, from string, to string, deviceID int64, addresses []string,
		slots []int64) error
}

type journalStore interface {
	BeginStep(ctx context.Context, step store.Step) (int64, error)
	EndStep(ctx context.Context, step store.Step) error
	SetCaptured(ctx context.Context, step store.Step) error
	ShowStep(ctx context.Context, step store.Step, at store.Moment) error
	Steps(ctx context.Context, replacementID int64) ([]store.Step, error)
}

type pinsStore interface {
	List(ctx context.Context, slots ...int64) ([]store.Pin, error)
	TellRoots(ctx context.Context, id int64, at store.Moment) (pending int, err error)
}

type replacementsStore interface {
	Advance(ctx context.Context, id int64, e replacement.Event, at store.Moment) (r store.Replacement,
		action replacement.Action, err error)
	AtGates(ctx context.Context) ([]store.AtGate, error)
	ByKey(ctx context.Context, spki string) ([]store.Replacement, error)
	Get(ctx context.Context, id int64) (store.Replacement, error)
	In(ctx context.Context, state replacement.State) ([]store.Replacement, error)
	Installs(ctx context.Context, slotID int64) ([]store.Install, error)
	KeptOf(ctx context.Context, slotID int64, but int64) ([]int64, error)
	KeptUntil(ctx context.Context, at store.Moment) ([]int64, error)
	Of(ctx context.Context, deviceID int64) ([]store.Replacement, error)
	ProcedureText(ctx context.Context, sha256 string) (string, error)
	SetApproved(ctx context.Context, id int64, by string, what string) error
	SetKeeps(ctx context.Context, ids []int64, until store.Moment) error
	SetLeftover(ctx context.Context, id int64, what string, at store.Moment, due store.Moment) error
	SetOld(ctx context.Context, id int64, slotID int64, sha256 string) error
	SetOpens(ctx context.Context, id int64, opens store.Moment, closed string) error
	SetPath(ctx context.Context, id int64, path []*cert.Certificate) error
	SetRequest(ctx context.Context, id int64, r request.Request) error
	SetStood(ctx context.Context, id int64, rows []store.Stood) error
	SetTidied(ctx context.Context, ids []int64) error
	Stood(ctx context.Context, id int64) ([]store.Stood, error)
	Targets(ctx context.Context, ids ...int64) (map[int64][]store.Target, error)
	TookLive(ctx context.Context, family string, most int) ([]int64, error)
	Touching(ctx context.Context, deviceID int64, cluster string, but int64) (int64, error)
}

type requestsStore interface {
	ObsoleteOf(ctx context.Context, replacementID int64) ([]store.Obsolete, error)
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
	Put(ctx context.Context, purpose string, sealed []byte) error
	Remove(ctx context.Context, purposes ...string) error
}

type signersStore interface {
	PutUnusedAnswer(ctx context.Context, leaf *cert.Certificate, a issuance.UnusedAnswer, offered bool) error
}

type sitesStore interface {
	NamedSite(ctx context.Context, name string) (store.Site, error)
}

type slotsStore interface {
	Get(ctx context.Context, device string, name string) (store.Slot, error)
	Of(ctx context.Context, device string) ([]store.Slot, error)
	SetInstalled(ctx context.Context, slotID int64, sha256 string, signer string, at store.Moment) error
}

type tasksStore interface {
	ForgetFiles(ctx context.Context, replacementID int64) error
}
