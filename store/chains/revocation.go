package chains

import (
	"context"

	"freshseal/core/pki/revocation"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Revocation is what was last found out about the revocation of a certificate.
type Revocation struct {
	SHA256    string                            `db:"sha256"`
	Answer    sqlite.JSON[revocation.Statement] `db:"answer"`
	Source    string                            `db:"source"` // the address that said it
	Failed    string                            `db:"failed"` // why nothing was found out
	Since     sqlite.Moment                     `db:"since"`  // of this state
	CheckedAt sqlite.Moment                     `db:"checked_at"`
	NextAt    sqlite.Moment                     `db:"next_at"`
}

// Revocations returns all that are kept.
func (s Chains) Revocations(ctx context.Context) ([]Revocation, error) {
	var out []Revocation
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM revocation`)
}

// SetRevocation stores what was found out. Where it is what was known before, Since stays.
func (s Chains) SetRevocation(ctx context.Context, r Revocation) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO revocation (sha256, answer, source, failed, since, checked_at,
			next_at)
			VALUES (:sha256, :answer, :source, :failed, :checked_at, :checked_at, :next_at)
			ON CONFLICT DO UPDATE SET answer = excluded.answer, source = excluded.source, failed = excluded.failed,
			checked_at = excluded.checked_at, next_at = excluded.next_at,
				since = CASE WHEN (failed = '') = (excluded.failed = '')
				AND answer ->> 'status' IS excluded.answer ->> 'status' THEN since ELSE excluded.checked_at END`, r)
		return err
	})
}

// ForgetRevocations removes what is kept of certificates that nobody asked about since then.
func (s Chains) ForgetRevocations(ctx context.Context, since sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM revocation WHERE checked_at < ?`, since)
		return err
	})
}
