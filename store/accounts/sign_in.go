package accounts

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
)

// SignInPolicy returns the rules for signing in as JSON; nothing where none were set.
func (s Sessions) SignInPolicy(ctx context.Context) (text string, err error) {
	err = s.DB.Read.GetContext(ctx, &text, `SELECT text FROM sign_in_policy`)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return text, err
}

// SetSignInPolicy stores the rules for signing in.
func (s Sessions) SetSignInPolicy(ctx context.Context, text string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO sign_in_policy (id, text) VALUES (1, ?1)
			ON CONFLICT (id) DO UPDATE SET text = ?1`, text)
		return err
	})
}
