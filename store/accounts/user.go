// Package accounts stores people, their sessions and views, and the credentials that devices share.
package accounts

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Users are people with their views.
type Users struct{ DB *sqlite.DB }

// User is a person who may sign in.
type User struct {
	Name     string        `db:"name"`
	Password string        `db:"password"` // argon2id, PHC string
	Role     string        `db:"role"`
	AddedAt  sqlite.Moment `db:"added_at"`

	HasFactor bool `db:"has_factor"` // a second factor is in use
}

const userRows = `SELECT *, EXISTS (SELECT 1 FROM factor WHERE factor.user = user.name AND secret <> x'') AS has_factor
	FROM user `

// Session is a signed-in browser, a signed-in client or a token.
type Session struct {
	SHA256  string        `db:"sha256"` // of the bearer's secret
	User    string        `db:"user"`
	Kind    string        `db:"kind"`
	Role    string        `db:"role"`
	Label   string        `db:"label"` // of a token
	BeganAt sqlite.Moment `db:"began_at"`
	EndsAt  sqlite.Moment `db:"ends_at"`

	How         string                `db:"how"`    // it was signed in to: password, token
	Factor      string                `db:"factor"` // the second one that was given: code, recovery code
	From        string                `db:"started_from"`
	SeenAt      sqlite.Moment         `db:"seen_at"` // zero: not used yet
	SeenFrom    string                `db:"seen_from"`
	ConfirmedAt sqlite.Moment         `db:"confirmed_at"` // when a password or code was last given
	Networks    sqlite.JSON[[]string] `db:"networks"`     // from which a token may be used; none: from all
	Final       bool                  `db:"final"`        // a token that may do what cannot be taken back

	Now       string `db:"now"`        // the role that the user has now
	HasFactor bool   `db:"has_factor"` // the user has a second factor in use
}

// Add stores a user; ErrTaken where the name is.
func (s Users) Add(ctx context.Context, u User) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO user (name, password, role, added_at)
			VALUES (:name, :password, :role, :added_at)`, u)
		return sqlite.Taken(err)
	})
}

// Get returns the one with this name, or ErrNotFound.
func (s Users) Get(ctx context.Context, name string) (User, error) {
	var u User
	return u, sqlite.Row(s.DB.Read.GetContext(ctx, &u, userRows+`WHERE name = ?`, name))
}

// List returns all users by name.
func (s Users) List(ctx context.Context) ([]User, error) {
	var out []User
	return out, s.DB.Read.SelectContext(ctx, &out, userRows+`ORDER BY name`)
}

// Remove deletes a user and all their sessions. Before the change is committed, allowed is called with all users that
// are left; its error takes everything back and is returned.
func (s Users) Remove(ctx context.Context, name string, allowed func(left []User) error) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM user WHERE name = ?`, name)); err != nil {
			return err
		}
		return allow(ctx, tx, allowed)
	})
}

// Change gives a user another role or password and ends all sessions; allowed is as for Remove.
func (s Users) Change(ctx context.Context, u User, allowed func(left []User) error) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ?`, u.Name); err != nil {
			return err
		}
		if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE user SET role = :role, password = :password
			WHERE name = :name`, u)); err != nil {
			return err
		}
		return allow(ctx, tx, allowed)
	})
}

func allow(ctx context.Context, tx *sqlx.Tx, allowed func([]User) error) error {
	var left []User
	if err := tx.SelectContext(ctx, &left, userRows); err != nil {
		return err
	}
	return allowed(left)
}

// SetPassword changes a password and ends all sessions but one.
func (s Users) SetPassword(ctx context.Context, name, password, keep string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ? AND sha256 <> ?`, name, keep); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE user SET password = ? WHERE name = ?`, password, name))
	})
}

// Count returns the number of users.
func (s Users) Count(ctx context.Context) (int, error) {
	var n int
	return n, s.DB.Read.GetContext(ctx, &n, `SELECT count(*) FROM user`)
}

const sessionRows = `SELECT session.*, user.role AS now,
	EXISTS (SELECT 1 FROM factor WHERE factor.user = session.user AND secret <> x'') AS has_factor
	FROM session JOIN user ON user.name = session.user `
