package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// User is a person who may sign in.
type User struct {
	Name     string `db:"name"`
	Password string `db:"password"` // argon2id, PHC string
	Role     string `db:"role"`
	AddedAt  Moment `db:"added_at"`
}

// Session is a signed-in browser or a client's token.
type Session struct {
	SHA256  string `db:"sha256"` // of the bearer's secret
	User    string `db:"user"`
	Kind    string `db:"kind"`
	Role    string `db:"role"`
	Label   string `db:"label"`
	BeganAt Moment `db:"began_at"`
	EndsAt  Moment `db:"ends_at"`
	Now     string `db:"now"` // the role that the user has now
}

// AddUser keeps a user; ErrTaken where the name is.
func (s *Store) AddUser(ctx context.Context, u User) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO user (name, password, role, added_at) VALUES (:name, :password, :role, :added_at)`, u)
		return taken(err)
	})
}

// User returns the one with this name, or ErrNotFound.
func (s *Store) User(ctx context.Context, name string) (User, error) {
	var u User
	return u, one(s.read.GetContext(ctx, &u, `SELECT * FROM user WHERE name = ?`, name))
}

// Users returns all users by name.
func (s *Store) Users(ctx context.Context) ([]User, error) {
	var out []User
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM user ORDER BY name`)
}

// RemoveUser deletes a user and all their sessions; it returns ErrTaken for the last admin.
func (s *Store) RemoveUser(ctx context.Context, name string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var others int
		if err := tx.GetContext(ctx, &others, `SELECT count(*) FROM user WHERE role = 'admin' AND name <> ?`, name); err != nil {
			return err
		}
		if others == 0 {
			return ErrTaken
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM user WHERE name = ?`, name))
	})
}

// ChangeUser gives a user another role or password and ends all sessions. The
// last admin stays one: that is ErrTaken.
func (s *Store) ChangeUser(ctx context.Context, u User) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ?`, u.Name); err != nil {
			return err
		}
		if err := changed(tx.NamedExecContext(ctx, `UPDATE user SET role = :role, password = :password WHERE name = :name`, u)); err != nil {
			return err
		}
		var admins int
		if err := tx.GetContext(ctx, &admins, `SELECT count(*) FROM user WHERE role = 'admin'`); err != nil {
			return err
		}
		if admins == 0 {
			return ErrTaken
		}
		return nil
	})
}

// SetPassword changes a password and ends all sessions but one.
func (s *Store) SetPassword(ctx context.Context, name, password, keep string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ? AND sha256 <> ?`, name, keep); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `UPDATE user SET password = ? WHERE name = ?`, password, name))
	})
}

// CountUsers says how many there are.
func (s *Store) CountUsers(ctx context.Context) (int, error) {
	var n int
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM user`)
}

// AddSession adds a session and deletes those that have expired. It is ErrStale where
// the user is not any more as looked at.
func (s *Store) AddSession(ctx context.Context, session Session, seen User) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var same bool
		if err := tx.GetContext(ctx, &same, `SELECT EXISTS (SELECT 1 FROM user WHERE name = ? AND password = ? AND role = ?)`, seen.Name, seen.Password, seen.Role); err != nil {
			return err
		}
		if !same {
			return ErrStale
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE ends_at < ?`, session.BeganAt); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO session (sha256, user, kind, role, label, began_at, ends_at)
			VALUES (:sha256, :user, :kind, :role, :label, :began_at, :ends_at)`, session)
		return err
	})
}

const sessionRows = `SELECT session.*, user.role AS now FROM session JOIN user ON user.name = session.user `

// Session finds one that has not ended.
func (s *Store) Session(ctx context.Context, sha256 string, now Moment) (Session, error) {
	var session Session
	return session, one(s.read.GetContext(ctx, &session, sessionRows+`WHERE sha256 = ? AND ends_at >= ?`, sha256, now))
}

// Tokens returns the clients' sessions that have not ended, oldest first.
func (s *Store) Tokens(ctx context.Context, now Moment) ([]Session, error) {
	var out []Session
	return out, s.read.SelectContext(ctx, &out, sessionRows+`WHERE kind = 'client' AND ends_at >= ? ORDER BY began_at, sha256`, now)
}

// SessionsOf are the sessions of one kind of a user that have not ended, oldest first.
func (s *Store) SessionsOf(ctx context.Context, user, kind string, now Moment) ([]Session, error) {
	var out []Session
	return out, s.read.SelectContext(ctx, &out, sessionRows+`WHERE session.user = ? AND kind = ? AND ends_at >= ? ORDER BY began_at, sha256`, user, kind, now)
}

// EndSession deletes the sessions whose digest has this prefix.
func (s *Store) EndSession(ctx context.Context, beginning string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `DELETE FROM session WHERE substr(sha256, 1, length(?1)) = ?1`, beginning))
	})
}

// EndSessionsOf deletes all sessions of a user.
func (s *Store) EndSessionsOf(ctx context.Context, user string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ?`, user)
		return err
	})
}
