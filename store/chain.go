package store

import (
	"context"
	"errors"

	"github.com/jmoiron/sqlx"

	"freshseal/core/pki/cert"
)

// noteChain keeps what a leaf came with. A leaf that came alone tells nothing.
func noteChain(ctx context.Context, tx *sqlx.Tx, chain []string) error {
	if len(chain) < 2 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO chain_of (leaf, chain) VALUES (?, ?) ON CONFLICT DO UPDATE
		SET chain = excluded.chain WHERE chain <> excluded.chain`, chain[0], JSON[[]string]{chain})
	return err
}

// Of finds a certificate by its fingerprint and, behind it, what it was last seen
// or signed with. It is ErrNotFound where the certificate is unknown.
func (s Chains) Of(ctx context.Context, sha256 string) ([]*cert.Certificate, error) {
	chain := JSON[[]string]{[]string{sha256}}
	if err := one(s.read.GetContext(ctx, &chain, `SELECT chain FROM chain_of WHERE leaf = ?`, sha256)); err != nil &&
		!errors.Is(err, ErrNotFound) {
		return nil, err
	}
	return s.Certificates(ctx, chain.V)
}

// Certificates finds certificates by their fingerprints, in that order.
func (s Chains) Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error) {
	out := make([]*cert.Certificate, 0, len(fingerprints))
	for _, sha256 := range fingerprints {
		var row keptCertificate
		if err := one(s.read.GetContext(ctx, &row, `SELECT der, self_signed FROM certificate WHERE sha256 = ?`,
			sha256)); err != nil {
			return nil, err
		}
		c, err := row.parse()
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// AddAuthorities puts authorities into the pool that chains are completed from. It is
// ErrTooMany, and nothing is added, where that were more than MostAuthorities.
func (s Chains) AddAuthorities(ctx context.Context, certificates []*cert.Certificate) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := putCertificates(ctx, tx, certificates); err != nil {
			return err
		}
		for _, c := range certificates {
			if _, err := tx.ExecContext(ctx, `INSERT INTO authority (sha256) VALUES (?) ON CONFLICT DO NOTHING`,
				c.SHA256); err != nil {
				return err
			}
		}
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM authority`); err != nil {
			return err
		}
		if n > MostAuthorities {
			return ErrTooMany
		}
		return nil
	})
}

// Authorities returns the certificates of that pool.
func (s Chains) Authorities(ctx context.Context) ([]*cert.Certificate, error) {
	return s.parsed(ctx, `SELECT der, self_signed FROM certificate JOIN authority USING (sha256)`)
}

// AddAnchors adds trusted roots to a trust group of a known revision.
func (s Chains) AddAnchors(ctx context.Context, trustGroup string, at Moment, certificates []*cert.Certificate,
	known Revision) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "trust-group/"+trustGroup, known); err != nil {
			return err
		}
		if err := putCertificates(ctx, tx, certificates); err != nil {
			return err
		}
		for _, c := range certificates {
			if _, err := tx.ExecContext(ctx, `INSERT INTO anchor (trust_group, sha256, added_at) VALUES (?, ?, ?)
				ON CONFLICT DO NOTHING`, trustGroup, c.SHA256, at); err != nil {
				return err
			}
		}
		return nil
	})
}

// RemoveAnchor takes a trusted root from a trust group of a known revision.
func (s Chains) RemoveAnchor(ctx context.Context, trustGroup, sha256 string, known Revision) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "trust-group/"+trustGroup, known); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM anchor WHERE trust_group = ? AND sha256 = ?`, trustGroup,
			sha256))
	})
}

// CountAnchors says how many roots each trust group trusts.
func (s Chains) CountAnchors(ctx context.Context) (map[string]int, error) {
	return s.counts(ctx, `SELECT trust_group AS name, count(*) AS count FROM anchor GROUP BY trust_group`)
}

// Anchors returns the trusted roots of a trust group.
func (s Chains) Anchors(ctx context.Context, trustGroup string) ([]*cert.Certificate, error) {
	return s.parsed(ctx, `SELECT der, self_signed FROM certificate JOIN anchor USING (sha256) WHERE trust_group = ?
		ORDER BY added_at, sha256`, trustGroup)
}

// CountAuthorities says how many certificates the pool of authorities has.
func (s Chains) CountAuthorities(ctx context.Context) (int, error) {
	var n int
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM authority`)
}

// RemoveAuthority takes a certificate out of that pool.
func (s Chains) RemoveAuthority(ctx context.Context, sha256 string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `DELETE FROM authority WHERE sha256 = ?`, sha256))
	})
}
