package sqlite

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Secrets are sealed secrets by purpose.
type Secrets struct{ DB *DB }

// Put stores a sealed secret under its purpose, in place of an older one.
func (s Secrets) Put(ctx context.Context, purpose string, sealed []byte) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error { return PutSecret(ctx, tx, purpose, sealed) })
}

// PutSecret is Secrets.Put within a change.
func PutSecret(ctx context.Context, tx *sqlx.Tx, purpose string, sealed []byte) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO secret (purpose, sealed) VALUES (?, ?)
		ON CONFLICT (purpose) DO UPDATE SET sealed = excluded.sealed`, purpose, sealed)
	return err
}

// PutSecrets stores sealed secrets by purpose, in place of older ones.
func PutSecrets(ctx context.Context, tx *sqlx.Tx, secrets map[string][]byte) error {
	for purpose, sealed := range secrets {
		if err := PutSecret(ctx, tx, purpose, sealed); err != nil {
			return err
		}
	}
	return nil
}

// RemoveSecrets removes the secrets of these purposes; that there is none is no error.
func RemoveSecrets(ctx context.Context, tx *sqlx.Tx, purposes []string) error {
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
	return sealed, Row(s.DB.Read.GetContext(ctx, &sealed, `SELECT sealed FROM secret WHERE purpose = ?`, purpose))
}

// Remove deletes secrets.
func (s Secrets) Remove(ctx context.Context, purposes ...string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error { return RemoveSecrets(ctx, tx, purposes) })
}
