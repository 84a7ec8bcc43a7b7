package faulty

import (
	"context"
	"database/sql/driver"
	"errors"
	"strings"

	"modernc.org/sqlite"
)

// wrapped is SQLite's driver between whose statements a disk may fail.
type wrapped struct {
	inner *sqlite.Driver
	disk  *Disk
}

func (w wrapped) Open(name string) (driver.Conn, error) {
	inner, err := w.inner.Open(name)
	if err != nil {
		return nil, err
	}
	whole, ok := inner.(sqliteConn)
	if !ok {
		return nil, errors.Join(errors.New("SQLite's driver has other interfaces than before"), inner.Close())
	}
	return &conn{whole, w.disk}, nil
}

// sqliteConn is what database/sql uses of a connection of SQLite's driver.
type sqliteConn interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.Pinger
}

type conn struct {
	sqliteConn
	disk *Disk
}

func (c *conn) BeginTx(ctx context.Context, options driver.TxOptions) (driver.Tx, error) {
	if err := c.disk.next("BEGIN"); err != nil {
		return nil, err
	}
	inner, err := c.sqliteConn.BeginTx(ctx, options)
	return transaction{inner, c.disk}, err
}

func (c *conn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	if err := c.disk.next(query); err != nil {
		return nil, err
	}
	return c.sqliteConn.ExecContext(ctx, query, args)
}

func (c *conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	if err := c.disk.next(query); err != nil {
		return nil, err
	}
	inner, err := c.sqliteConn.QueryContext(ctx, query, args)
	return readRows(inner, c.disk, query), err
}

func (c *conn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	if err := c.disk.next("preparing " + query); err != nil {
		return nil, err
	}
	inner, err := c.sqliteConn.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	whole, ok := inner.(sqliteStmt)
	if !ok {
		return nil, errors.Join(errors.New("SQLite's driver has other interfaces than before"), inner.Close())
	}
	return statement{whole, c.disk, query}, nil
}

type sqliteStmt interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
}

type statement struct {
	sqliteStmt
	disk  *Disk
	query string
}

func (s statement) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	if err := s.disk.next(s.query); err != nil {
		return nil, err
	}
	return s.sqliteStmt.ExecContext(ctx, args)
}

func (s statement) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	if err := s.disk.next(s.query); err != nil {
		return nil, err
	}
	inner, err := s.sqliteStmt.QueryContext(ctx, args)
	return readRows(inner, s.disk, s.query), err
}

type transaction struct {
	driver.Tx
	disk *Disk
}

// Commit takes everything back where it is the one that fails.
func (t transaction) Commit() error {
	if err := t.disk.next("COMMIT"); err != nil {
		return errors.Join(err, t.Rollback())
	}
	return t.Tx.Commit()
}

// rows may fail at the first row, as where a page of the file cannot be read.
type rows struct {
	driver.Rows
	disk  *Disk
	query string
	begun bool
}

func readRows(inner driver.Rows, disk *Disk, query string) driver.Rows {
	if inner == nil {
		return nil
	}
	return &rows{Rows: inner, disk: disk, query: query}
}

func (r *rows) Next(to []driver.Value) error {
	if !r.begun {
		r.begun = true
		if err := r.disk.next("reading rows of " + r.query); err != nil {
			return err
		}
	}
	return r.Rows.Next(to)
}

// counts reports whether a statement may fail: settings of a connection change nothing in the file.
func counts(query string) bool { return !strings.HasPrefix(query, "PRAGMA") }
