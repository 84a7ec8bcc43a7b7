package store

import (
	"context"

	"freshseal/core/pki/cert"

	"github.com/jmoiron/sqlx"
)

// Succeed keeps the service's own sealed certificate and, where it follows
// another, the endorsement by that one, in one transaction.
func (s Succession) Succeed(ctx context.Context, purpose string, sealed []byte, e *cert.Endorsement, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if e != nil {
			_, err := tx.ExecContext(ctx, `INSERT INTO succession (old_der, new_sha256, signature, at)
				VALUES (?, ?, ?, ?)`, e.Old, e.NewSHA256, e.Signature, at)
			if err != nil {
				return err
			}
		}
		return putSecret(ctx, tx, purpose, sealed)
	})
}

// Get are the newest endorsements, newest first.
func (s Succession) Get(ctx context.Context, most int) ([]cert.Endorsement, error) {
	var rows []struct {
		Old       []byte `db:"old_der"`
		NewSHA256 string `db:"new_sha256"`
		Signature []byte `db:"signature"`
	}
	err := s.read.SelectContext(ctx, &rows, `SELECT old_der, new_sha256, signature FROM succession ORDER BY id DESC
		LIMIT ?`, most)
	out := make([]cert.Endorsement, 0, len(rows))
	for _, row := range rows {
		out = append(out, cert.Endorsement{Old: row.Old, NewSHA256: row.NewSHA256, Signature: row.Signature})
	}
	return out, err
}
