// Package store keeps everything that outlives a process in one SQLite file.
// One connection writes, a pool of others reads; every change is one short
// transaction. SQL stands nowhere else.
package store

import (
	"context"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"sync"
	"time"

	"freshseal/core/judgement/roster"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database: a part for each noun.
type Store struct {
	*db
	Devices      Devices
	Slots        Slots
	Readings     Readings
	Chains       Chains
	Replacements Replacements
	Requests     Requests
	Journal      Journal
	Tasks        Tasks
	Batches      Batches
	Pins         Pins
	Succession   Succession
	Signers      Signers
	Parcels      Parcels
	Secrets      Secrets
	Policies     Policies
	Sites        Sites
	Credentials  Credentials
	Users        Users
	Sessions     Sessions
	Audit        Audit
	Notices      Notices
	Channels     Channels
	Outbox       Outbox
	Discoveries  Discoveries
	Reports      Reports
	Revisions    Revisions
}

// db is what the parts share: the connections, what lists are made from, and who listens.
type db struct {
	file        string
	write, read *sqlx.DB

	listening sync.Mutex
	listeners map[chan struct{}]struct{}
	told      int64 // the newest event that listeners were woken for

	roster   *roster.Roster // what lists are made from
	durable  sync.Mutex     // held while the writer syncs each commit
	applying sync.Mutex     // held while a change is committed and told to the roster

	auditKey []byte // with which entries of the audit log are chained

	all *Store // for a part that needs another one
}

// The parts.
type (
	// Devices are devices with their access.
	Devices struct{ *db }
	// Slots are slots: their lists, counts and places.
	Slots struct{ *db }
	// Readings are what slots served, how it was judged, and when each is read next.
	Readings struct{ *db }
	// Chains are certificates, and the roots and intermediates from which chains are completed.
	Chains struct{ *db }
	// Replacements are replacements and where they stand.
	Replacements struct{ *db }
	// Requests are requests that were asked for anew.
	Requests struct{ *db }
	// Journal is the steps of replacements, and the files that are kept of devices.
	Journal struct{ *db }
	// Tasks are what people do.
	Tasks struct{ *db }
	// Batches are replacements of many slots.
	Batches struct{ *db }
	// Pins are who recorded a fingerprint, and which of them are pending.
	Pins struct{ *db }
	// Succession is the service's own certificates, each endorsed by the one before.
	Succession struct{ *db }
	// Signers are signers, their answers and the domains that were proven to them.
	Signers struct{ *db }
	// Parcels are requests that went out together, and certificates that match none.
	Parcels struct{ *db }
	// Secrets are sealed secrets by purpose.
	Secrets struct{ *db }
	// Policies are the rules of each scope.
	Policies struct{ *db }
	// Sites are places with a way in.
	Sites struct{ *db }
	// Credentials are users with secrets that devices share.
	Credentials struct{ *db }
	// Users are people with their views.
	Users struct{ *db }
	// Sessions are who is signed in, tokens included.
	Sessions struct{ *db }
	// Audit is who did what, each entry chained to the one before.
	Audit struct{ *db }
	// Notices are who is told of what.
	Notices struct{ *db }
	// Channels are where notices go.
	Channels struct{ *db }
	// Outbox is what happened, for those who listen.
	Outbox struct{ *db }
	// Discoveries are what was found on networks.
	Discoveries struct{ *db }
	// Reports are counts for forecasts and sheets.
	Reports struct{ *db }
	// Revisions count the changes that people make.
	Revisions struct{ *db }
)

func newStore(d *db) *Store {
	s := &Store{db: d}
	d.all = s
	s.Devices = Devices{d}
	s.Slots = Slots{d}
	s.Readings = Readings{d}
	s.Chains = Chains{d}
	s.Replacements = Replacements{d}
	s.Requests = Requests{d}
	s.Journal = Journal{d}
	s.Tasks = Tasks{d}
	s.Batches = Batches{d}
	s.Pins = Pins{d}
	s.Succession = Succession{d}
	s.Signers = Signers{d}
	s.Parcels = Parcels{d}
	s.Secrets = Secrets{d}
	s.Policies = Policies{d}
	s.Sites = Sites{d}
	s.Credentials = Credentials{d}
	s.Users = Users{d}
	s.Sessions = Sessions{d}
	s.Audit = Audit{d}
	s.Notices = Notices{d}
	s.Channels = Channels{d}
	s.Outbox = Outbox{d}
	s.Discoveries = Discoveries{d}
	s.Reports = Reports{d}
	s.Revisions = Revisions{d}
	return s
}

// What callers decide by.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("taken")
	ErrNewer    = errors.New("the database was written by another version of the program")
)

// Open opens the database file, making it or bringing it up to date first.
func Open(ctx context.Context, file string) (*Store, error) {
	// Made here, so that its secrets, sealed as they are, are the owner's alone.
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	f.Close()
	write, err := sqlx.Open("sqlite", dsn(file, "&_pragma=journal_size_limit(67108864)&_txlock=immediate"))
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	write.SetMaxOpenConns(1)
	if err := migrate(ctx, write); err != nil {
		return nil, errors.Join(err, write.Close())
	}
	read, err := sqlx.Open("sqlite", dsn(file, "&mode=ro&_pragma=query_only(1)"))
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	read.SetMaxOpenConns(4)
	s := newStore(&db{file: file, write: write, read: read, listeners: map[chan struct{}]struct{}{},
		roster: roster.New()})
	if err := s.fill(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func fileURL(file string) string {
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath()}
	return u.String()
}

func dsn(file, more string) string {
	return fileURL(file) +
		"?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(1)" +
		more
}

func migrate(ctx context.Context, db *sqlx.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, files, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return fmt.Errorf("reading the migrations: %w", err)
	}
	sources := p.ListSources()
	if has, err := p.GetDBVersion(ctx); err != nil {
		return fmt.Errorf("reading the version of the database: %w", err)
	} else if knows := sources[len(sources)-1].Version; has > knows {
		return fmt.Errorf("%w: it has schema %d, and this one knows %d", ErrNewer, has, knows)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	return nil
}

// KeyAudit gives the key with which entries of the audit log are chained. It comes
// before anything is written.
func (s *Store) KeyAudit(key []byte) { s.auditKey = key }

// Close ends all connections, readers first.
func (s *Store) Close() error { return errors.Join(s.read.Close(), s.write.Close()) }

// change runs f in one transaction of the writer.
func (s *db) change(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return s.changeConditions(ctx, func(tx *sqlx.Tx) ([]roster.Reading, error) { return nil, f(tx) })
}

// durably is change whose effect is on the disk before it returns (SQLite's synchronous=FULL), whatever becomes of
// the machine.
func (s *db) durably(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	s.durable.Lock()
	defer s.durable.Unlock()
	if _, err := s.write.ExecContext(ctx, `PRAGMA synchronous=FULL`); err != nil {
		return err
	}
	err := s.change(ctx, f)
	_, back := s.write.ExecContext(context.WithoutCancel(ctx), `PRAGMA synchronous=NORMAL`)
	return errors.Join(err, back)
}

// changeConditions is change for what readings and judgements change of slots: f returns what the roster must know of
// that.
func (s *db) changeConditions(ctx context.Context, f func(tx *sqlx.Tx) ([]roster.Reading, error)) error {
	tx, err := s.write.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	readings, err := f(tx)
	if err != nil {
		return err
	}
	var newest int64
	if err := tx.GetContext(ctx, &newest, `SELECT coalesce(max(id), 0) FROM outbox`); err != nil {
		return err
	}
	touched, err := news(ctx, tx)
	if err != nil {
		return err
	}
	touched.Readings = readings
	// before the commit, after which the next change begins: the roster hears of changes in their order
	s.applying.Lock()
	defer s.applying.Unlock()
	if err := tx.Commit(); err != nil {
		return err
	}
	s.roster.Put(touched)
	s.wake(newest)
	return nil
}

// taken turns a broken uniqueness into ErrTaken.
func taken(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && (e.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE ||
		e.Code() == sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY) {
		return ErrTaken
	}
	return err
}

// Moment is a time kept as milliseconds since 1970; the zero time is 0.
type Moment struct{ time.Time }

// At makes a Moment.
func At(t time.Time) Moment { return Moment{t.UTC().Truncate(time.Millisecond)} }

// Value writes the moment for SQL.
func (m Moment) Value() (driver.Value, error) { return m.milliseconds(), nil }

func (m Moment) milliseconds() int64 {
	if m.IsZero() {
		return 0
	}
	return m.UnixMilli()
}

// Scan reads the moment from SQL.
func (m *Moment) Scan(from any) error {
	ms, ok := from.(int64)
	if !ok {
		return fmt.Errorf("a time is kept as %T", from)
	}
	m.Time = time.Time{}
	if ms != 0 {
		m.Time = time.UnixMilli(ms).UTC()
	}
	return nil
}

// JSON is a value kept as JSON text.
type JSON[T any] struct{ V T }

// Value writes the value for SQL.
func (j JSON[T]) Value() (driver.Value, error) { return j.text() }

// text is the value as it is kept.
func (j JSON[T]) text() (string, error) {
	text, err := json.Marshal(j.V)
	return string(text), err
}

// Scan reads the value from SQL.
func (j *JSON[T]) Scan(from any) error {
	switch text := from.(type) {
	case string:
		return json.Unmarshal([]byte(text), &j.V)
	case []byte:
		return json.Unmarshal(text, &j.V)
	}
	return fmt.Errorf("JSON is kept as %T", from)
}
