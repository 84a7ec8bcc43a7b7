// Package sqlite opens the database file and has what all parts of the store share: changes in one transaction, who
// listens to them, pages of lists, moments and JSON in columns, revisions, sealed secrets, backups.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"sync"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// What callers decide by.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("taken")
	ErrTooMany  = errors.New("there are too many")
	ErrNewer    = errors.New("the database was written by another version of the program")
)

// DB is the database file: one connection writes, a pool of others reads.
type DB struct {
	Read     *sqlx.DB
	AuditKey []byte // the key that chains the entries of the audit log; set before anything is written

	// Touched, where it is set, is called at the end of each change, in its transaction. What it returns is called
	// after the commit and before the next change commits.
	Touched func(ctx context.Context, tx *sqlx.Tx) (committed func(), err error)

	file  string
	write *sqlx.DB

	durable  sync.Mutex // held while the writer syncs each commit
	applying sync.Mutex // held while a change is committed and its committed function runs

	listening sync.Mutex // guards listeners and told
	listeners map[chan struct{}]struct{}
	told      int64 // the newest event that listeners were woken for
}

// Open opens the database file; it creates the file or migrates it first.
func Open(ctx context.Context, driver, file string, migrations fs.FS) (*DB, error) {
	// Created here, so that its secrets, sealed as they are, are the owner's alone.
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	f.Close()
	write, err := sqlx.Open(driver, dsn(file, "&_pragma=journal_size_limit(67108864)&_txlock=immediate"))
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	write.SetMaxOpenConns(1)
	if err := migrate(ctx, write, migrations); err != nil {
		return nil, errors.Join(err, write.Close())
	}
	read, err := sqlx.Open(driver, dsn(file, "&mode=ro&_pragma=query_only(1)"))
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	read.SetMaxOpenConns(4)
	return &DB{Read: read, file: file, write: write, listeners: map[chan struct{}]struct{}{}}, nil
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

func migrate(ctx context.Context, db *sqlx.DB, files fs.FS) error {
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

// Close closes all connections, readers first.
func (d *DB) Close() error { return errors.Join(d.Read.Close(), d.write.Close()) }

// Change runs f in one transaction of the writer.
func (d *DB) Change(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return d.ChangeThen(ctx, func(tx *sqlx.Tx) (func(), error) {
		if err := f(tx); err != nil || d.Touched == nil {
			return nil, err
		}
		return d.Touched(ctx, tx)
	})
}

// Durably is Change whose effect is on the disk before it returns (SQLite's synchronous=FULL), whatever becomes of
// the machine.
func (d *DB) Durably(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	d.durable.Lock()
	defer d.durable.Unlock()
	if _, err := d.write.ExecContext(ctx, `PRAGMA synchronous=FULL`); err != nil {
		return err
	}
	err := d.Change(ctx, f)
	_, back := d.write.ExecContext(context.WithoutCancel(ctx), `PRAGMA synchronous=NORMAL`)
	return errors.Join(err, back)
}

// ChangeThen is Change with a function of its own for after the commit: f returns it; Touched is not called.
func (d *DB) ChangeThen(ctx context.Context, f func(tx *sqlx.Tx) (committed func(), err error)) error {
	tx, err := d.write.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	committed, err := f(tx)
	if err != nil {
		return err
	}
	var newest int64
	if err := tx.GetContext(ctx, &newest, `SELECT coalesce(max(id), 0) FROM outbox`); err != nil {
		return err
	}
	// Taken before the commit, after which the next change begins: the functions run in the order of the changes.
	d.applying.Lock()
	defer d.applying.Unlock()
	if err := tx.Commit(); err != nil {
		return err
	}
	if committed != nil {
		committed()
	}
	d.wake(newest)
	return nil
}

// Taken turns a broken uniqueness into ErrTaken.
func Taken(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && (e.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE ||
		e.Code() == sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY) {
		return ErrTaken
	}
	return err
}

// Listen returns a channel that is woken when something happened, and the way to
// leave. It carries no news itself: whoever is woken reads the outbox, so that
// nothing is lost and nobody has to keep up.
func (d *DB) Listen() (woken <-chan struct{}, leave func()) {
	d.listening.Lock()
	defer d.listening.Unlock()
	c := make(chan struct{}, 1)
	d.listeners[c] = struct{}{}
	return c, func() {
		d.listening.Lock()
		defer d.listening.Unlock()
		delete(d.listeners, c)
	}
}

// wake wakes those who listen, where there is an event that they were not woken for.
func (d *DB) wake(newest int64) {
	d.listening.Lock()
	defer d.listening.Unlock()
	if newest == d.told {
		return
	}
	d.told = newest
	for c := range d.listeners {
		select {
		case c <- struct{}{}:
		default: // woken already
		}
	}
}

// Row turns the absence of a row into ErrNotFound.
func Row(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Changed turns a change of no row into ErrNotFound.
func Changed(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}
