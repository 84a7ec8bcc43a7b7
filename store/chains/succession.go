package chains

import (
	"context"

	"freshseal/core/pki/cert"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Succession is the service's own certificates, each endorsed by the one before.
type Succession struct{ DB *sqlite.DB }

// Succeed stores the service's own sealed certificate and, where it follows
// another, the endorsement by that one, in one transaction.
func (s Succession) Succeed(ctx context.Context, purpose string, sealed []byte, e *cert.Endorsement,
	at sqlite.Moment) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if e != nil {
			_, err := tx.ExecContext(ctx, `INSERT INTO succession (old_der, new_sha256, signature, at)
				VALUES (?, ?, ?, ?)`, e.Old, e.NewSHA256, e.Signature, at)
			if err != nil {
				return err
			}
		}
		return sqlite.PutSecret(ctx, tx, purpose, sealed)
	})
}

// Get returns the newest endorsements, newest first.
func (s Succession) Get(ctx context.Context, most int) ([]cert.Endorsement, error) {
	var rows []struct {
		Old       []byte `db:"old_der"`
		NewSHA256 string `db:"new_sha256"`
		Signature []byte `db:"signature"`
	}
	err := s.DB.Read.SelectContext(ctx, &rows, `SELECT old_der, new_sha256, signature FROM succession ORDER BY id DESC
		LIMIT ?`, most)
	out := make([]cert.Endorsement, 0, len(rows))
	for _, row := range rows {
		out = append(out, cert.Endorsement{Old: row.Old, NewSHA256: row.NewSHA256, Signature: row.Signature})
	}
	return out, err
}
