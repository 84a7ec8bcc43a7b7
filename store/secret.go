package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Put keeps a sealed secret under its purpose, in place of an older one.
func (s Secrets) Put(ctx context.Context, purpose string, sealed []byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return putSecret(ctx, tx, purpose, sealed) })
}

func putSecret(ctx context.Context, tx *sqlx.Tx, purpose string, sealed []byte) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO secret (purpose, sealed) VALUES (?, ?)
		ON CONFLICT (purpose) DO UPDATE SET sealed = excluded.sealed`, purpose, sealed)
	return err
}

func putSecrets(ctx context.Context, tx *sqlx.Tx, secrets map[string][]byte) error {
	for purpose, sealed := range secrets {
		if err := putSecret(ctx, tx, purpose, sealed); err != nil {
			return err
		}
	}
	return nil
}

func removeSecrets(ctx context.Context, tx *sqlx.Tx, purposes []string) error {
	for _, purpose := range purposes {
		if _, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE purpose = ?`, purpose); err != nil {
			return err
		}
	}
	return nil
}

// Get finds a sealed secret by its purpose.
func (s Secrets) Get(ctx context.Context, purpose string) ([]byte, error) {
	var sealed []byte
	return sealed, one(s.read.GetContext(ctx, &sealed, `SELECT sealed FROM secret WHERE purpose = ?`, purpose))
}

// Remove deletes secrets.
func (s Secrets) Remove(ctx context.Context, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return removeSecrets(ctx, tx, purposes) })
}
