package sqlite

import (
	"context"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Backup writes a whole copy of the database into a new file while the service
// goes on; the copy is as of one moment.
func (d *DB) Backup(ctx context.Context, file string) error {
	db, err := sqlx.Open("sqlite", dsn(d.file, "")) // the readers' own connections may not do this
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `VACUUM INTO ?`, file)
	return errors.Join(err, db.Close())
}

// CheckFile verifies that a file is an intact database of this program.
func CheckFile(ctx context.Context, file string) error {
	db, err := sqlx.Open("sqlite", fileURL(file)+"?mode=ro&immutable=1")
	if err != nil {
		return err
	}
	defer db.Close()
	var verdict string
	if err := db.GetContext(ctx, &verdict, `PRAGMA integrity_check(1)`); err != nil {
		return fmt.Errorf("it is no database: %w", err)
	}
	if verdict != "ok" {
		return fmt.Errorf("it is damaged: %s", verdict)
	}
	var tables int
	if err := db.GetContext(ctx, &tables, `SELECT count(*) FROM sqlite_master
		WHERE name IN ('device', 'replacement', 'audit')`); err != nil || tables != 3 {
		return errors.New("it is a database of something else")
	}
	return nil
}

// NoRoom reports whether an error comes from a disk that is full, read-only or failing.
func NoRoom(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_IOERR:
		return true
	}
	return false
}

// Busy reports whether an error comes from another program that holds the database, such as one that copies it.
func Busy(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code()&0xff == sqlite3.SQLITE_BUSY || e.Code()&0xff == sqlite3.SQLITE_LOCKED)
}

// Touch writes something, and so finds out whether the database can be written.
func (d *DB) Touch(ctx context.Context) error {
	return d.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO counter (name, last) VALUES ('touched', 1)
			ON CONFLICT (name) DO UPDATE SET last = last + 1`)
		return err
	})
}

// Checkpoint brings what lies in the write-ahead log of a database that nobody uses
// into its one file.
func Checkpoint(ctx context.Context, file string) error {
	db, err := sqlx.Open("sqlite", dsn(file, ""))
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
	return errors.Join(err, db.Close())
}
