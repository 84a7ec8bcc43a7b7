package accounts

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Sessions are who is signed in, tokens included.
type Sessions struct{ DB *sqlite.DB }

// Add adds a session and deletes those that have expired. It is ErrStale where
// the user is not any more as looked at.
func (s Sessions) Add(ctx context.Context, session Session, seen User) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		var same bool
		if err := tx.GetContext(ctx, &same, `SELECT EXISTS (SELECT 1 FROM user WHERE name = ? AND password = ?
			AND role = ?)`, seen.Name, seen.Password, seen.Role); err != nil {
			return err
		}
		if !same {
			return sqlite.ErrStale
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE ends_at < ?`, session.BeganAt); err != nil {
			return err
		}
		if session.Networks.V == nil {
			session.Networks.V = []string{}
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO session (sha256, user, kind, role, label, began_at, ends_at,
			how, factor, started_from, seen_at, seen_from, confirmed_at, networks, final)
			VALUES (:sha256, :user, :kind, :role, :label, :began_at, :ends_at, :how, :factor, :started_from, :seen_at,
			:seen_from, :confirmed_at, :networks, :final)`, session)
		return err
	})
}

// Seen is the last use of a session.
type Seen struct {
	At   sqlite.Moment
	From string
}

// SetSeen records the last uses of sessions, by their digests.
func (s Sessions) SetSeen(ctx context.Context, seen map[string]Seen) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		for digest, last := range seen {
			if _, err := tx.ExecContext(ctx, `UPDATE session SET seen_at = ?, seen_from = ? WHERE sha256 = ?`, last.At,
				last.From, digest); err != nil {
				return err
			}
		}
		return nil
	})
}

// Confirm records that the user of a session gave a password or a code again; factor is the second factor that was
// given, nothing leaves it as it was.
func (s Sessions) Confirm(ctx context.Context, sha256, factor string, at sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE session SET confirmed_at = ?1,
			factor = CASE WHEN ?2 = '' THEN factor ELSE ?2 END WHERE sha256 = ?3`, at, factor, sha256))
	})
}

// SignedIn returns the consoles and clients that people have signed in with and that have not ended, oldest first: of
// one user, or of all.
func (s Sessions) SignedIn(ctx context.Context, user string, now sqlite.Moment) ([]Session, error) {
	var out []Session
	return out, s.DB.Read.SelectContext(ctx, &out, sessionRows+`WHERE (?1 = '' OR session.user = ?1)
		AND kind IN ('console', 'client') AND label = '' AND ends_at >= ?2 ORDER BY began_at, sha256`, user, now)
}

// Get finds one that has not ended.
func (s Sessions) Get(ctx context.Context, sha256 string, now sqlite.Moment) (Session, error) {
	var session Session
	return session, sqlite.Row(s.DB.Read.GetContext(ctx, &session, sessionRows+`WHERE sha256 = ? AND ends_at >= ?`,
		sha256, now))
}

// Tokens returns the clients' sessions that have not ended, oldest first.
func (s Sessions) Tokens(ctx context.Context, now sqlite.Moment) ([]Session, error) {
	var out []Session
	return out, s.DB.Read.SelectContext(ctx, &out, sessionRows+`WHERE kind = 'client' AND ends_at >= ?
		ORDER BY began_at, sha256`, now)
}

// Of returns the sessions of one kind of a user that have not ended, oldest first.
func (s Sessions) Of(ctx context.Context, user, kind string, now sqlite.Moment) ([]Session, error) {
	var out []Session
	return out, s.DB.Read.SelectContext(ctx, &out, sessionRows+`WHERE session.user = ? AND kind = ? AND ends_at >= ?
		ORDER BY began_at, sha256`, user, kind, now)
}

// End deletes the sessions whose digest has this prefix.
func (s Sessions) End(ctx context.Context, beginning string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM session WHERE substr(sha256, 1, length(?1)) = ?1`,
			beginning))
	})
}

// EndOf deletes all sessions of a user.
func (s Sessions) EndOf(ctx context.Context, user string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ?`, user)
		return err
	})
}

// ThatEnd returns those of programs and calendars that end by themselves.
func (s Sessions) ThatEnd(ctx context.Context, now sqlite.Moment) ([]Session, error) {
	var out []Session
	return out, s.DB.Read.SelectContext(ctx, &out, sessionRows+`WHERE kind <> 'console' AND ends_at >= ?
		ORDER BY ends_at`, now)
}

// EndSignedIn ends the sessions that a user has signed in to; tokens and calendars go on.
func (s Sessions) EndSignedIn(ctx context.Context, user string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error { return endSignedIn(ctx, tx, user, "") })
}

// endSignedIn is EndSignedIn within a transaction; all but one, given as its digest.
func endSignedIn(ctx context.Context, tx *sqlx.Tx, user, keep string) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE user = ? AND kind IN ('console', 'client') AND label = ''
		AND sha256 <> ?`, user, keep)
	return err
}

// SetEnd sets when a session ends.
func (s Sessions) SetEnd(ctx context.Context, sha256 string, ends sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE session SET ends_at = ? WHERE sha256 = ?`, ends, sha256))
	})
}
