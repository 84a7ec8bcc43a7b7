// Package faulty is the store on a disk that fails when a test says so. Every runs something with each of its
// statements failing in turn, and sees that it is reported, and that nothing is half written.
package faulty

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"freshseal/store"

	"modernc.org/sqlite"
)

// ErrDisk is the error of a statement that fails.
var ErrDisk = errors.New("the disk failed")

// Disk is a disk with one database.
type Disk struct {
	name string // of its driver

	lock   sync.Mutex // guards the rest
	left   int        // statements until the one that fails; 0: none fails
	failed string     // the statement that failed
}

var drivers struct {
	sync.Mutex
	made int
}

// Open opens a new database on a disk of its own; the test closes it.
func Open(t testing.TB) (*store.Store, *Disk) {
	t.Helper()
	drivers.Lock()
	drivers.made++
	d := &Disk{name: fmt.Sprintf("sqlite-faulty-%d", drivers.made)}
	drivers.Unlock()
	sql.Register(d.name, wrapped{&sqlite.Driver{}, d})
	s, err := store.OpenBy(t.Context(), d.name, filepath.Join(t.TempDir(), "faulty.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, d
}

// FailAt has the n-th statement from now on fail, once; 0: none.
func (d *Disk) FailAt(n int) {
	d.lock.Lock()
	defer d.lock.Unlock()
	d.left, d.failed = n, ""
}

// Failed returns the statement that failed since FailAt; empty: none did.
func (d *Disk) Failed() string {
	d.lock.Lock()
	defer d.lock.Unlock()
	return d.failed
}

func (d *Disk) next(query string) error {
	if !counts(query) {
		return nil
	}
	d.lock.Lock()
	defer d.lock.Unlock()
	if d.left == 0 {
		return nil
	}
	if d.left--; d.left > 0 {
		return nil
	}
	d.failed = strings.Join(strings.Fields(query), " ")
	return ErrDisk
}

// mostStatements is where a test has gone wrong that still meets a failing statement.
const mostStatements = 500

// Every runs act again and again, with its first statement failing, then its second, until none fails. Each failure
// must be told of, and leave the database as it was.
func Every(t *testing.T, s *store.Store, d *Disk, act func() error) {
	t.Helper()
	every(t, s, d, true, act)
}

// EachTold is Every for what makes several changes, one after another, and may be called again after any of them.
func EachTold(t *testing.T, s *store.Store, d *Disk, act func() error) {
	t.Helper()
	every(t, s, d, false, act)
}

// Says is EachTold for what answers: if nothing failed, the answer has the wanted words in it.
func Says(t *testing.T, s *store.Store, d *Disk, want string, ask func() (any, error)) {
	t.Helper()
	EachTold(t, s, d, func() error {
		got, err := ask()
		if text := fmt.Sprintf("%+v", got); err == nil && !strings.Contains(text, want) {
			t.Errorf("%s, want %s", text, want)
		}
		return err
	})
}

func every(t *testing.T, s *store.Store, d *Disk, whole bool, act func() error) {
	t.Helper()
	for n := 1; n < mostStatements; n++ {
		before := Contents(t, s)
		d.FailAt(n)
		err := act()
		failed := d.Failed()
		d.FailAt(0)
		switch {
		case failed == "" && err != nil:
			t.Fatalf("with nothing failing: %v", err)
		case failed == "":
			return
		case err == nil:
			t.Fatalf("statement %d failed, and nobody was told: %s", n, failed)
		case whole && Contents(t, s) != before:
			t.Fatalf("statement %d failed, and something was written: %s", n, failed)
		}
	}
	t.Fatalf("there is no end after %d statements", mostStatements)
}

// Contents returns a digest of all tables.
func Contents(t testing.TB, s *store.Store) string {
	t.Helper()
	var tables []string
	if err := s.Read.SelectContext(t.Context(), &tables, `SELECT name FROM sqlite_master WHERE type = 'table'
		AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name`); err != nil {
		t.Fatal(err)
	}
	all := sha256.New()
	for _, table := range tables {
		rows, err := s.Read.QueryxContext(t.Context(), `SELECT * FROM "`+table+`"`)
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			values, err := rows.SliceScan()
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(all, "%s %v\n", table, values)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			t.Fatal(err)
		}
	}
	return hex.EncodeToString(all.Sum(nil))
}
