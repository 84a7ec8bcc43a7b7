package accounts

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// View is a filter of a list that a user keeps under a name.
type View struct {
	User  string `db:"user"`
	Page  string `db:"page"` // of the console
	Name  string `db:"name"`
	Query string `db:"query"` // as it stands in the page's address
}

// Views returns those of a user, by page and name.
func (s Users) Views(ctx context.Context, user string) ([]View, error) {
	var out []View
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM view WHERE user = ? ORDER BY page, name`, user)
}

// PutView stores a view, in the place of one of the same name. ErrTaken says that the
// user has most views already.
func (s Users) PutView(ctx context.Context, v View, most int) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO view (user, page, name, query)
			VALUES (:user, :page, :name, :query)
			ON CONFLICT (user, page, name) DO UPDATE SET query = excluded.query`, v); err != nil {
			return err
		}
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM view WHERE user = ?`, v.User); err != nil {
			return err
		}
		if n > most {
			return sqlite.ErrTaken
		}
		return nil
	})
}

// RemoveView removes one.
func (s Users) RemoveView(ctx context.Context, user, page, name string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM view WHERE user = ? AND page = ? AND name = ?`, user,
			page,
			name))
	})
}
