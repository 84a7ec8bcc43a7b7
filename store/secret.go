package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// PutSecret keeps a sealed secret under its purpose, in place of an older one.
func (s *Store) PutSecret(ctx context.Context, purpose string, sealed []byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return putSecret(ctx, tx, purpose, sealed) })
}

func putSecret(ctx context.Context, tx *sqlx.Tx, purpose string, sealed []byte) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO secret (purpose, sealed) VALUES (?, ?)
		ON CONFLICT (purpose) DO UPDATE SET sealed = excluded.sealed`, purpose, sealed)
	return err
}

// Secret finds a sealed secret by its purpose.
func (s *Store) Secret(ctx context.Context, purpose string) ([]byte, error) {
	var sealed []byte
	return sealed, one(s.read.GetContext(ctx, &sealed, `SELECT sealed FROM secret WHERE purpose = ?`, purpose))
}
