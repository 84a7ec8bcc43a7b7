package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// User is somebody who may sign in.
type User struct {
	Name     string `db:"name"`
	Password string `db:"password"` // argon2id, PHC string
	AddedAt  Moment `db:"added_at"`
}

// Session is a signed-in browser or a client's token.
type Session struct {
	SHA256  string `db:"sha256"` // of the bearer's secret
	User    string `db:"user"`
	Kind    string `db:"kind"`
	BeganAt Moment `db:"began_at"`
	EndsAt  Moment `db:"ends_at"`
}

// AddUser keeps a user; ErrTaken where the name is.
func (s *Store) AddUser(ctx context.Context, u User) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO user (name, password, added_at) VALUES (:name, :password, :added_at)`, u)
		return taken(err)
	})
}

// User finds one by name.
func (s *Store) User(ctx context.Context, name string) (User, error) {
	var u User
	return u, one(s.read.GetContext(ctx, &u, `SELECT * FROM user WHERE name = ?`, name))
}

// CountUsers says how many there are.
func (s *Store) CountUsers(ctx context.Context) (int, error) {
	var n int
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM user`)
}

// AddSession keeps a session and forgets those that have ended.
func (s *Store) AddSession(ctx context.Context, session Session) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE ends_at < ?`, session.BeganAt); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO session (sha256, user, kind, began_at, ends_at)
			VALUES (:sha256, :user, :kind, :began_at, :ends_at)`, session)
		return err
	})
}

// Session finds one that has not ended.
func (s *Store) Session(ctx context.Context, sha256 string, now Moment) (Session, error) {
	var session Session
	return session, one(s.read.GetContext(ctx, &session, `SELECT * FROM session WHERE sha256 = ? AND ends_at >= ?`, sha256, now))
}

// EndSession forgets one.
func (s *Store) EndSession(ctx context.Context, sha256 string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `DELETE FROM session WHERE sha256 = ?`, sha256))
	})
}
