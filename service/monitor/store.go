package monitor

import (
	"context"
	"time"

	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/store"
	"freshseal/store/chains"
	"freshseal/store/events"
	"freshseal/store/issuance"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Chains       chainsStore
	Devices      devicesStore
	Outbox       outboxStore
	Policies     policiesStore
	Readings     readingsStore
	Replacements replacementsStore
	Revisions    revisionsStore
	Signers      signersStore
	Slots        slotsStore
}

func storageOf(db *store.Store) storage {
	return storage{Chains: db.Chains, Devices: db.Devices, Outbox: db.Outbox, Policies: db.Policies,
		Readings: db.Readings, Replacements: db.Replacements, Revisions: db.Revisions, Signers: db.Signers,
		Slots: db.Slots}
}

type chainsStore interface {
	ForgetRevocations(ctx context.Context, since store.Moment) error
	Revocations(ctx context.Context) ([]chains.Revocation, error)
	SetRevocation(ctx context.Context, r chains.Revocation) error
	AddAnchors(ctx context.Context, trustGroup string, at store.Moment, certificates []*cert.Certificate,
		known store.Revision) error
	Anchors(ctx context.Context, trustGroup string) ([]*cert.Certificate, error)
	Authorities(ctx context.Context) ([]*cert.Certificate, error)
	Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error)
	CountAnchors(ctx context.Context) (map[string]int, error)
	RemoveAnchor(ctx context.Context, trustGroup string, sha256 string, known store.Revision) error
	RemoveAuthority(ctx context.Context, sha256 string) error
}

type devicesStore interface {
	Get(ctx context.Context, name string) (store.Device, error)
}

type outboxStore interface {
	Events(ctx context.Context, about string, after int64) ([]events.Event, error)
	Forget(ctx context.Context, before store.Moment) error
	LastEvent(ctx context.Context) (int64, error)
	Listen() (woken <-chan struct{}, leave func())
}

type policiesStore interface {
	List(ctx context.Context) (map[string]policy.Rules, error)
	Set(ctx context.Context, scope string, rules policy.Rules, known store.Revision) error
}

type readingsStore interface {
	Add(ctx context.Context, readings []store.NewReading) (late []int, err error)
	Hasten(ctx context.Context, now store.Moment, within time.Duration) error
	SetJudgements(ctx context.Context, slots []store.Slot, at store.Moment) error
	TakeDue(ctx context.Context, now store.Moment, lease time.Duration, most int,
		leftOut []string) ([]store.SlotToRead, error)
	TouchAll(ctx context.Context, seen []store.Seen) error
}

type replacementsStore interface {
	Aftermath(ctx context.Context, slotID int64, within time.Duration) (store.Aftermath, error)
	In(ctx context.Context, state replacement.State) ([]store.Replacement, error)
	Stood(ctx context.Context, id int64) ([]store.Stood, error)
	Targets(ctx context.Context, ids ...int64) (map[int64][]store.Target, error)
}

type revisionsStore interface {
	Of(ctx context.Context, of string) (store.Revision, error)
	OfKind(ctx context.Context, kind string) (map[string]store.Revision, error)
}

type signersStore interface {
	List(ctx context.Context) ([]issuance.Signer, error)
}

type slotsStore interface {
	Turn(ctx context.Context, now store.Moment) error
	After(ctx context.Context, id int64, most int) ([]store.Slot, error)
	ByID(ctx context.Context, ids []int64) ([]store.Slot, error)
	CountAll(ctx context.Context) (int, error)
	CountAt(ctx context.Context, site string) (int, error)
	Get(ctx context.Context, device string, name string) (store.Slot, error)
	ToRead(ctx context.Context, site *string, id int64, most int) ([]store.SlotToRead, error)
}
