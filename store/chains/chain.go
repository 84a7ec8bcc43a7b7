// Package chains stores certificates: what came with which leaf, the roots of trust groups, the intermediates from
// which chains are completed, what is known of revocation, and the service's own certificates.
package chains

import (
	"context"
	"errors"

	"freshseal/core/pki/cert"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Chains are certificates, and the roots and intermediates from which chains are completed.
type Chains struct{ DB *sqlite.DB }

// NoteChain stores what a leaf came with. A leaf that came alone tells nothing.
func NoteChain(ctx context.Context, tx *sqlx.Tx, chain []string) error {
	if len(chain) < 2 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO chain_of (leaf, chain) VALUES (?, ?) ON CONFLICT DO UPDATE
		SET chain = excluded.chain WHERE chain <> excluded.chain`, chain[0], sqlite.JSON[[]string]{V: chain})
	return err
}

// Of finds a certificate by its fingerprint and, behind it, what it was last seen
// or signed with. It is ErrNotFound where the certificate is unknown.
func (s Chains) Of(ctx context.Context, sha256 string) ([]*cert.Certificate, error) {
	chain := sqlite.JSON[[]string]{V: []string{sha256}}
	if err := sqlite.Row(s.DB.Read.GetContext(ctx, &chain, `SELECT chain FROM chain_of WHERE leaf = ?`,
		sha256)); err != nil &&
		!errors.Is(err, sqlite.ErrNotFound) {
		return nil, err
	}
	return s.Certificates(ctx, chain.V)
}

// Certificates finds certificates by their fingerprints, in that order.
func (s Chains) Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error) {
	out := make([]*cert.Certificate, 0, len(fingerprints))
	for _, sha256 := range fingerprints {
		var row KeptCertificate
		if err := sqlite.Row(s.DB.Read.GetContext(ctx, &row, `SELECT der, self_signed FROM certificate
			WHERE sha256 = ?`,
			sha256)); err != nil {
			return nil, err
		}
		c, err := row.Parse()
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
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := PutCertificates(ctx, tx, certificates); err != nil {
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
			return sqlite.ErrTooMany
		}
		return nil
	})
}

// Authorities returns the certificates of that pool.
func (s Chains) Authorities(ctx context.Context) ([]*cert.Certificate, error) {
	return s.parsed(ctx, `SELECT der, self_signed FROM certificate JOIN authority USING (sha256)`)
}

// AddAnchors adds trusted roots to a trust group of a known revision.
func (s Chains) AddAnchors(ctx context.Context, trustGroup string, at sqlite.Moment, certificates []*cert.Certificate,
	known sqlite.Revision) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "trust-group/"+trustGroup, known); err != nil {
			return err
		}
		if err := PutCertificates(ctx, tx, certificates); err != nil {
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
func (s Chains) RemoveAnchor(ctx context.Context, trustGroup, sha256 string, known sqlite.Revision) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "trust-group/"+trustGroup, known); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM anchor WHERE trust_group = ? AND sha256 = ?`, trustGroup,
			sha256))
	})
}

// CountAnchors returns how many roots each trust group trusts.
func (s Chains) CountAnchors(ctx context.Context) (map[string]int, error) {
	return s.DB.Counts(ctx, `SELECT trust_group AS name, count(*) AS count FROM anchor GROUP BY trust_group`)
}

// Anchors returns the trusted roots of a trust group.
func (s Chains) Anchors(ctx context.Context, trustGroup string) ([]*cert.Certificate, error) {
	return s.parsed(ctx, `SELECT der, self_signed FROM certificate JOIN anchor USING (sha256) WHERE trust_group = ?
		ORDER BY added_at, sha256`, trustGroup)
}

// CountAuthorities returns how many certificates the pool of authorities has.
func (s Chains) CountAuthorities(ctx context.Context) (int, error) {
	var n int
	return n, s.DB.Read.GetContext(ctx, &n, `SELECT count(*) FROM authority`)
}

// RemoveAuthority takes a certificate out of that pool.
func (s Chains) RemoveAuthority(ctx context.Context, sha256 string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM authority WHERE sha256 = ?`, sha256))
	})
}
