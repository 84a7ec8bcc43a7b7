package sqlite

import (
	"context"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Revisions count the changes that people make.
type Revisions struct{ DB *DB }

// Revision is how often something was changed by people. Who changes it says which
// revision was looked at; Any changes it whatever it is.
type Revision = int64

// Any is every revision.
const Any Revision = -1

// ErrStale means that something is of another revision than the one looked at.
var ErrStale = errors.New("it was changed in the meantime")

// Revise counts a change of something, such as device/NAME. It returns ErrStale
// where the known revision is not the one that it has.
func Revise(ctx context.Context, tx *sqlx.Tx, of string, known Revision) error {
	var number Revision
	if err := Row(tx.GetContext(ctx, &number, `SELECT number FROM revision WHERE of = ?`, of)); err != nil &&
		!errors.Is(err, ErrNotFound) {
		return err
	}
	if known != Any && known != number {
		return ErrStale
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO revision (of, number) VALUES (?, ?) ON CONFLICT (of) DO UPDATE
		SET number = excluded.number`, of, number+1)
	return err
}

// Of returns the revision of one thing; 0: it was never changed.
func (s Revisions) Of(ctx context.Context, of string) (Revision, error) {
	var number Revision
	err := Row(s.DB.Read.GetContext(ctx, &number, `SELECT number FROM revision WHERE of = ?`, of))
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return number, err
}

// OfKind returns the revisions of all things of a kind, such as site, by name.
func (s Revisions) OfKind(ctx context.Context, kind string) (map[string]Revision, error) {
	var rows []struct {
		Of     string   `db:"of"`
		Number Revision `db:"number"`
	}
	err := s.DB.Read.SelectContext(ctx, &rows, `SELECT * FROM revision WHERE of >= ? AND of < ?`, kind+"/", kind+"0")
	out := map[string]Revision{}
	for _, row := range rows {
		out[strings.TrimPrefix(row.Of, kind+"/")] = row.Number
	}
	return out, err
}
