package issuance

import (
	"context"

	"freshseal/core/pki/cert"
	"freshseal/store/chains"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Unmatched is a certificate that matches no pending request.
type Unmatched struct {
	SHA256 string        `db:"sha256"`
	Why    string        `db:"why"`
	CameAt sqlite.Moment `db:"came_at"`
	CameBy string        `db:"came_by"`
	DER    []byte        `db:"der"`
}

// PutUnmatched stores a certificate that matches no pending request; one that is kept already stays as it is.
func (s Signers) PutUnmatched(ctx context.Context, leaf *cert.Certificate, a Unmatched) error {
	a.SHA256 = leaf.SHA256
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := chains.PutCertificates(ctx, tx, []*cert.Certificate{leaf}); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO unmatched (sha256, why, came_at, came_by)
			VALUES (:sha256, :why, :came_at, :came_by)
			ON CONFLICT (sha256) DO UPDATE SET why = excluded.why`, a)
		return err
	})
}

// Unmatched returns the certificates that match no pending request, newest first.
func (s Signers) Unmatched(ctx context.Context) ([]Unmatched, error) {
	var out []Unmatched
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT unmatched.*, certificate.der FROM unmatched
		JOIN certificate USING (sha256) ORDER BY came_at DESC, sha256`)
}

// RemoveUnmatched deletes a certificate that matches no pending request.
func (s Signers) RemoveUnmatched(ctx context.Context, sha256 string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM unmatched WHERE sha256 = ?`, sha256))
	})
}
