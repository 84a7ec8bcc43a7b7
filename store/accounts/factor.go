package accounts

import (
	"context"
	"slices"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Factors are the second factors of users.
type Factors struct{ DB *sqlite.DB }

// Factor is the second factor of a user.
type Factor struct {
	User     string                `db:"user"`
	Secret   []byte                `db:"secret"`  // sealed; empty: none is in use
	Pending  []byte                `db:"pending"` // sealed; of one that is being set up
	Step     int64                 `db:"step"`    // time step of the last code that was used
	Recovery sqlite.JSON[[]string] `db:"recovery"`
	AddedAt  sqlite.Moment         `db:"added_at"`
}

// Get returns that of a user, or ErrNotFound.
func (s Factors) Get(ctx context.Context, user string) (Factor, error) {
	var f Factor
	return f, sqlite.Row(s.DB.Read.GetContext(ctx, &f, `SELECT * FROM factor WHERE user = ?`, user))
}

// SetPending stores the sealed secret of an authenticator that is being set up. What is in use stays in use.
func (s Factors) SetPending(ctx context.Context, user string, sealed []byte, at sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO factor (user, secret, pending, step, recovery, added_at)
			VALUES (?1, x'', ?2, 0, '[]', ?3) ON CONFLICT (user) DO UPDATE SET pending = ?2`, user, sealed, at)
		return err
	})
}

// TakePending puts a pending authenticator into use, with new recovery codes, given as digests, and ends all sessions
// but one. It is ErrStale where the pending one is not the one that was looked at.
func (s Factors) TakePending(ctx context.Context, seen Factor, step int64, recovery []string, keep string,
	at sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Changed(tx.ExecContext(ctx, `UPDATE factor SET secret = pending, pending = x'', step = ?,
			recovery = ?, added_at = ? WHERE user = ? AND pending = ? AND pending <> x''`, step,
			sqlite.JSON[[]string]{V: recovery}, at, seen.User, seen.Pending)); err != nil {
			return stale(err)
		}
		return endSignedIn(ctx, tx, seen.User, keep)
	})
}

// SetRecovery puts other recovery codes, given as digests, in the place of those of a user.
func (s Factors) SetRecovery(ctx context.Context, user string, digests []string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE factor SET recovery = ? WHERE user = ? AND secret <> x''`,
			sqlite.JSON[[]string]{V: digests}, user))
	})
}

// Use records that the code of a time step was used. It is ErrStale where that or a later one was used before, or
// another authenticator is in use by now.
func (s Factors) Use(ctx context.Context, seen Factor, step int64) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return stale(sqlite.Changed(tx.ExecContext(ctx, `UPDATE factor SET step = ? WHERE user = ? AND secret = ?
			AND step < ?`, step, seen.User, seen.Secret, step)))
	})
}

// UseRecovery removes a recovery code, given as its digest. It is ErrStale where there is none like it (any more).
func (s Factors) UseRecovery(ctx context.Context, user, digest string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		var left sqlite.JSON[[]string]
		if err := sqlite.Row(tx.GetContext(ctx, &left, `SELECT recovery FROM factor WHERE user = ?`,
			user)); err != nil {
			return stale(err)
		}
		at := slices.Index(left.V, digest)
		if at < 0 {
			return sqlite.ErrStale
		}
		left.V = slices.Delete(left.V, at, at+1)
		_, err := tx.ExecContext(ctx, `UPDATE factor SET recovery = ? WHERE user = ?`, left, user)
		return err
	})
}

// Remove removes that of a user, and ends all sessions but one.
func (s Factors) Remove(ctx context.Context, user, keep string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM factor WHERE user = ?
			AND secret <> x''`, user)); err != nil {
			return err
		}
		return endSignedIn(ctx, tx, user, keep)
	})
}

// stale makes ErrStale of ErrNotFound.
func stale(err error) error {
	if err == sqlite.ErrNotFound {
		return sqlite.ErrStale
	}
	return err
}
