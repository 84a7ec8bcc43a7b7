package signing

import (
	"context"

	"freshseal/core/judgement/answer"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/store"
	"freshseal/store/issuance"
)

// storage is what this package needs of the store, so that its tests may replace it.
type storage struct {
	Chains       chainsStore
	Devices      devicesStore
	Parcels      parcelsStore
	Replacements replacementsStore
	Requests     requestsStore
	Secrets      secretsStore
	Signers      signersStore
	Slots        slotsStore
}

func storageOf(db *store.Store) storage {
	return storage{Chains: db.Chains, Devices: db.Devices, Parcels: db.Parcels, Replacements: db.Replacements,
		Requests: db.Requests, Secrets: db.Secrets, Signers: db.Signers, Slots: db.Slots}
}

type chainsStore interface {
	AddAuthorities(ctx context.Context, certificates []*cert.Certificate) error
	Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error)
}

type devicesStore interface {
	Get(ctx context.Context, name string) (store.Device, error)
}

type parcelsStore interface {
	Add(ctx context.Context, signer string, by string, at store.Moment, only []int64) (id int64,
		packed []store.Replacement, err error)
	Count(ctx context.Context) (n int, err error)
	Get(ctx context.Context, id int64) (store.Parcel, []store.Replacement, error)
	HandOver(ctx context.Context, p store.Parcel) error
	Open(ctx context.Context) ([]store.Parcel, error)
	Page(ctx context.Context, p store.Page) ([]store.Parcel, string, error)
}

type replacementsStore interface {
	Accept(ctx context.Context, id int64, path []*cert.Certificate, learnt *issuance.Learnt,
		at store.Moment) (r store.Replacement, action replacement.Action, err error)
	ByKey(ctx context.Context, spki string) ([]store.Replacement, error)
	Get(ctx context.Context, id int64) (store.Replacement, error)
	In(ctx context.Context, state replacement.State) ([]store.Replacement, error)
	ProcedureText(ctx context.Context, sha256 string) (string, error)
}

type requestsStore interface {
	ObsoleteByKey(ctx context.Context, spki string) (store.Obsolete, error)
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
	Put(ctx context.Context, purpose string, sealed []byte) error
}

type signersStore interface {
	PutUnmatched(ctx context.Context, leaf *cert.Certificate, a issuance.Unmatched) error
	RemoveUnmatched(ctx context.Context, sha256 string) error
	Unmatched(ctx context.Context) ([]issuance.Unmatched, error)
	Habits(ctx context.Context) (map[string]answer.Habits, error)
	Issuers(ctx context.Context) (map[string][]issuance.SignerIssuer, error)
	List(ctx context.Context) ([]issuance.Signer, error)
	Put(ctx context.Context, signer issuance.Signer, known store.Revision) error
	PutIssuer(ctx context.Context, i issuance.SignerIssuer) error
	PutUnusedAnswer(ctx context.Context, leaf *cert.Certificate, a issuance.UnusedAnswer, offered bool) error
	Remove(ctx context.Context, name string) error
	RemoveIssuer(ctx context.Context, signer string, spki string) error
	UnusedAnswers(ctx context.Context, id int64) ([]issuance.UnusedAnswer, error)
}

type slotsStore interface {
	Get(ctx context.Context, device string, name string) (store.Slot, error)
	List(ctx context.Context) ([]store.Slot, error)
}
