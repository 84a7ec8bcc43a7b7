// Package store keeps everything that outlives a process in one SQLite file.
// One connection writes, a pool of others reads; every change is one short
// transaction. SQL stands nowhere else.
package store

import (
	"context"
	"embed"
	"errors"
	"io/fs"
	"time"

	"freshseal/core/judgement/roster"
	"freshseal/store/accounts"
	"freshseal/store/chains"
	"freshseal/store/events"
	"freshseal/store/found"
	"freshseal/store/issuance"
	"freshseal/store/messages"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database: a part for each noun.
type Store struct {
	*db
	Devices      Devices
	Slots        Slots
	Readings     Readings
	Chains       chains.Chains
	Replacements Replacements
	Requests     Requests
	Journal      Journal
	Tasks        Tasks
	Batches      Batches
	Pins         Pins
	Succession   chains.Succession
	Signers      issuance.Signers
	Parcels      Parcels
	Secrets      sqlite.Secrets
	Policies     Policies
	Sites        Sites
	Credentials  accounts.Credentials
	Users        accounts.Users
	Factors      accounts.Factors
	Sessions     accounts.Sessions
	Audit        events.Audit
	Notices      messages.Notices
	Channels     messages.Channels
	Streams      messages.Streams
	Outbox       events.Outbox
	Discoveries  found.Discoveries
	Reports      Reports
	Revisions    sqlite.Revisions
}

// db is what the parts share: the database, and what lists are made from.
type db struct {
	*sqlite.DB
	roster *roster.Roster
}

// The parts.
type (
	// Devices are devices with their access.
	Devices struct{ *db }
	// Slots are slots: their lists, counts and places.
	Slots struct{ *db }
	// Readings are what slots served, how it was judged, and when each is read next.
	Readings struct{ *db }
	// Replacements are replacements and where they stand.
	Replacements struct{ *db }
	// Requests are requests that were asked for again.
	Requests struct{ *db }
	// Journal is the steps of replacements, and the files that are kept of devices.
	Journal struct{ *db }
	// Tasks are what people do.
	Tasks struct{ *db }
	// Batches are replacements of many slots.
	Batches struct{ *db }
	// Pins are who recorded a fingerprint, and which of them are pending.
	Pins struct{ *db }
	// Parcels are requests that went out together, and certificates that match none.
	Parcels struct{ *db }
	// Sites are places with a way in.
	Sites struct{ *db }
	// Reports are counts for forecasts and sheets.
	Reports struct{ *db }
)

func newStore(d *db) *Store {
	s := &Store{db: d}
	s.Devices = Devices{d}
	s.Slots = Slots{d}
	s.Readings = Readings{d}
	s.Chains = chains.Chains{DB: d.DB}
	s.Replacements = Replacements{d}
	s.Requests = Requests{d}
	s.Journal = Journal{d}
	s.Tasks = Tasks{d}
	s.Batches = Batches{d}
	s.Pins = Pins{d}
	s.Succession = chains.Succession{DB: d.DB}
	s.Signers = issuance.Signers{DB: d.DB}
	s.Parcels = Parcels{d}
	s.Secrets = sqlite.Secrets{DB: d.DB}
	s.Policies = Policies{DB: d.DB}
	s.Sites = Sites{d}
	s.Credentials = accounts.Credentials{DB: d.DB}
	s.Users = accounts.Users{DB: d.DB}
	s.Factors = accounts.Factors{DB: d.DB}
	s.Sessions = accounts.Sessions{DB: d.DB}
	s.Audit = events.Audit{DB: d.DB}
	s.Notices = messages.Notices{DB: d.DB}
	s.Channels = messages.Channels{DB: d.DB}
	s.Streams = messages.Streams{DB: d.DB}
	s.Outbox = events.Outbox{DB: d.DB}
	s.Discoveries = found.Discoveries{DB: d.DB}
	s.Reports = Reports{d}
	s.Revisions = sqlite.Revisions{DB: d.DB}
	return s
}

// What all parts of the store share (package sqlite).
type (
	Moment      = sqlite.Moment
	JSON[T any] = sqlite.JSON[T]
	Page        = sqlite.Page
	Revision    = sqlite.Revision
)

// Any is every revision.
const Any = sqlite.Any

// What callers decide by.
var (
	ErrNotFound = sqlite.ErrNotFound
	ErrTaken    = sqlite.ErrTaken
	ErrTooMany  = sqlite.ErrTooMany
	ErrStale    = sqlite.ErrStale
	ErrNewer    = sqlite.ErrNewer
	ErrCursor   = sqlite.ErrCursor
	ErrSort     = sqlite.ErrSort
)

// At makes a Moment.
func At(t time.Time) Moment { return sqlite.At(t) }

// Open opens the database file; it creates the file or migrates it first.
func Open(ctx context.Context, file string) (*Store, error) { return OpenBy(ctx, "sqlite", file) }

// OpenBy is Open by another driver of database/sql, such as one with faults (package faulty).
func OpenBy(ctx context.Context, driver, file string) (*Store, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	d, err := sqlite.Open(ctx, driver, file, files)
	if err != nil {
		return nil, err
	}
	s := newStore(&db{DB: d, roster: roster.New()})
	d.Touched = func(ctx context.Context, tx *sqlx.Tx) (func(), error) { return s.touched(ctx, tx, nil) }
	if err := s.fill(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// KeyAudit sets the key that chains the entries of the audit log. It must be set before anything is written.
func (s *Store) KeyAudit(key []byte) { s.AuditKey = key }

func (s *db) change(ctx context.Context, f func(tx *sqlx.Tx) error) error { return s.DB.Change(ctx, f) }

// changeConditions is change for what readings and judgements change of slots: f returns what the roster must know of
// that.
func (s *db) changeConditions(ctx context.Context, f func(tx *sqlx.Tx) ([]roster.Reading, error)) error {
	return s.DB.ChangeThen(ctx, func(tx *sqlx.Tx) (func(), error) {
		readings, err := f(tx)
		if err != nil {
			return nil, err
		}
		return s.touched(ctx, tx, readings)
	})
}

// touched returns the function that tells the roster what a change has touched.
func (s *db) touched(ctx context.Context, tx *sqlx.Tx, readings []roster.Reading) (func(), error) {
	touched, err := news(ctx, tx)
	touched.Readings = readings
	return func() { s.roster.Put(touched) }, err
}
