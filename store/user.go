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

// Add keeps a user; ErrTaken where the name is.
func (s Users) Add(ctx context.Context, u User) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO user (name, password, role, added_at)
			VALUES (:name, :password, :role, :added_at)`, u)
		return taken(err)
	})
}

// Get returns the one with this name, or ErrNotFound.
func (s Users) Get(ctx context.Context, name string) (User, error) {
	var u User
	return u, one(s.read.GetContext(ctx, &u, `SELECT * FROM user WHERE name = ?`, name))
}

// List returns all users by name.
func (s Users) List(ctx context.Context) ([]User, error) {
	var out []User
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM user ORDER BY name`)
}

// Remove deletes a user and all their sessions; it returns ErrTaken for the last admin.
func (s Users) Remove(ctx context.Context, name string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var others int
		if err := tx.GetContext(ctx, &others, `SELECT count(*) FROM user WHERE role = 'admin' AND name <> ?`,
			name); err != nil {
			return err
		}
		if others == 0 {
			return ErrTaken
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM user WHERE name = ?`, name))
	})
}

// Change gives a user another role or password and ends all sessions. The
// last admin stays one: that is ErrTaken.
func (s Users) Change(ctx context.Context, u User) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ?`, u.Name); err != nil {
			return err
		}
		if err := changed(tx.NamedExecContext(ctx, `UPDATE user SET role = :role, password = :password
			WHERE name = :name`, u)); err != nil {
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
func (s Users) SetPassword(ctx context.Context, name, password, keep string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ? AND sha256 <> ?`, name, keep); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `UPDATE user SET password = ? WHERE name = ?`, password, name))
	})
}

// Count says how many there are.
func (s Users) Count(ctx context.Context) (int, error) {
	var n int
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM user`)
}

const sessionRows = `SELECT session.*, user.role AS now FROM session JOIN user ON user.name = session.user `
