package store

import (
	"context"
	"errors"

	"github.com/jmoiron/sqlx"

	"freshseal/core/cert"
)

// noteChain keeps what a leaf came with. A leaf that came alone tells nothing.
func noteChain(ctx context.Context, tx *sqlx.Tx, chain []string) error {
	if len(chain) < 2 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO chain_of (leaf, chain) VALUES (?, ?) ON CONFLICT DO UPDATE SET chain = excluded.chain WHERE chain <> excluded.chain`, chain[0], JSON[[]string]{chain})
	return err
}

// ChainOf finds a certificate by its fingerprint and, behind it, what it was last seen
// or signed with. It is ErrNotFound where the certificate is unknown.
func (s *Store) ChainOf(ctx context.Context, sha256 string) ([]*cert.Certificate, error) {
	chain := JSON[[]string]{[]string{sha256}}
	if err := one(s.read.GetContext(ctx, &chain, `SELECT chain FROM chain_of WHERE leaf = ?`, sha256)); err != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	return s.Certificates(ctx, chain.V)
}
