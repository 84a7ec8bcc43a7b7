package store

import (
	"context"

	"freshseal/core/cert"

	"github.com/jmoiron/sqlx"
)

// Aside is a certificate that matches no pending request.
type Aside struct {
	SHA256 string `db:"sha256"`
	Why    string `db:"why"`
	CameAt Moment `db:"came_at"`
	CameBy string `db:"came_by"`
	DER    []byte `db:"der"`
}

// PutAside keeps a certificate that matches no pending request; one that is kept already stays as it is.
func (s Parcels) PutAside(ctx context.Context, leaf *cert.Certificate, a Aside) error {
	a.SHA256 = leaf.SHA256
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := putCertificates(ctx, tx, []*cert.Certificate{leaf}); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO aside (sha256, why, came_at, came_by) VALUES (:sha256, :why, :came_at, :came_by)
			ON CONFLICT (sha256) DO UPDATE SET why = excluded.why`, a)
		return err
	})
}

// Asides returns the certificates that match no pending request, newest first.
func (s Parcels) Asides(ctx context.Context) ([]Aside, error) {
	var out []Aside
	return out, s.read.SelectContext(ctx, &out, `SELECT aside.*, certificate.der FROM aside JOIN certificate USING (sha256) ORDER BY came_at DESC, sha256`)
}

// RemoveAside deletes a certificate that matches no pending request.
func (s Parcels) RemoveAside(ctx context.Context, sha256 string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `DELETE FROM aside WHERE sha256 = ?`, sha256))
	})
}
