package report

import (
	"context"

	"freshseal/core/judgement/due"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/issuance"
	"freshseal/store/messages"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Chains       chainsStore
	Devices      devicesStore
	Notices      noticesStore
	Parcels      parcelsStore
	Pins         pinsStore
	Readings     readingsStore
	Replacements replacementsStore
	Reports      reportsStore
	Sessions     sessionsStore
	Sites        sitesStore
	Slots        slotsStore
	Tasks        tasksStore
}

func storageOf(db *store.Store) storage {
	return storage{Chains: db.Chains, Devices: db.Devices, Notices: db.Notices, Parcels: db.Parcels, Pins: db.Pins,
		Readings: db.Readings, Replacements: db.Replacements, Reports: db.Reports, Sessions: db.Sessions,
		Sites: db.Sites, Slots: db.Slots, Tasks: db.Tasks}
}

type chainsStore interface {
	Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error)
}

type devicesStore interface {
	Get(ctx context.Context, name string) (store.Device, error)
}

type noticesStore interface {
	Acknowledgements(ctx context.Context, now store.Moment) ([]messages.Acknowledgement, error)
}

type parcelsStore interface {
	CountUnpacked(ctx context.Context) (map[string]int, error)
}

type pinsStore interface {
	CountUpdates(ctx context.Context) (int, error)
}

type readingsStore interface {
	CountDue(ctx context.Context, now store.Moment) (int, error)
}

type replacementsStore interface {
	Count(ctx context.Context) (map[replacement.State]int, map[replacement.WaitingFor]int, error)
}

type reportsStore interface {
	AheadOf(ctx context.Context, id int64, most int) ([]store.Ahead, error)
	EndsByMonth(until store.Moment) []store.EndsIn
	EndsByWeek(from store.Moment, weeks int) []store.EndsAt
	Proofs(ctx context.Context) ([]issuance.Proven, error)
	SealedBetween(ctx context.Context, from store.Moment, until store.Moment, site string) ([]store.Sealed, error)
	StatesThen(ctx context.Context, then store.Moment, id int64, most int) ([]store.StateThen, error)
	TookSince(ctx context.Context, since store.Moment, most int) ([]store.Took, error)
	Uppers() map[string]int
}

type sessionsStore interface {
	ThatEnd(ctx context.Context, now store.Moment) ([]accounts.Session, error)
}

type sitesStore interface {
	List(ctx context.Context) ([]store.Site, error)
}

type slotsStore interface {
	CountBySite() []store.SiteSlots
	CountConditions() map[due.Condition]int
	CountEnds(moments []store.Moment) []int
	FirstEnds() map[string]store.Moment
}

type tasksStore interface {
	Open(ctx context.Context) ([]store.Task, error)
}
