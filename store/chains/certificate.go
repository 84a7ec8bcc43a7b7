package chains

import (
	"context"
	"crypto/sha1"
	"encoding/hex"

	"freshseal/core/pki/cert"

	"github.com/jmoiron/sqlx"
)

// KnownCertificate adds a certificate: its SHA-256, its DER, and 1 where it is self-signed, 0 where not, -1 where that
// is not known.
const KnownCertificate = `INSERT INTO certificate (sha256, der, self_signed) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`

// PutCertificates adds the certificates that are not known yet.
func PutCertificates(ctx context.Context, tx *sqlx.Tx, certificates []*cert.Certificate) error {
	for _, c := range certificates {
		if _, err := tx.ExecContext(ctx, KnownCertificate, c.SHA256, c.Raw, c.SelfSigned()); err != nil {
			return err
		}
	}
	return nil
}

// MostAuthorities is how many certificates the pool has at most: a world of public
// and private authorities is a few thousand.
const MostAuthorities = 10_000

func (s Chains) parsed(ctx context.Context, query string, args ...any) ([]*cert.Certificate, error) {
	var rows []KeptCertificate
	if err := s.DB.Read.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	out := make([]*cert.Certificate, 0, len(rows))
	for _, row := range rows {
		c, err := row.Parse()
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// KeptCertificate is a certificate as it is kept.
type KeptCertificate struct {
	DER        []byte `db:"der"`
	SelfSigned int    `db:"self_signed"` // -1: not known
}

// Parse reads the certificate again.
func (k KeptCertificate) Parse() (*cert.Certificate, error) {
	if k.SelfSigned < 0 {
		return cert.Parse(k.DER)
	}
	return cert.Again(k.DER, k.SelfSigned > 0)
}

// BySHA1 returns the SHA-256 of the certificate with a SHA-1; empty: none is known.
func BySHA1(ctx context.Context, read *sqlx.DB, fingerprint string) (string, error) {
	rows, err := read.QueryxContext(ctx, `SELECT der FROM certificate`)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	for rows.Next() {
		var der []byte
		if err := rows.Scan(&der); err != nil {
			return "", err
		}
		if sum := sha1.Sum(der); hex.EncodeToString(sum[:]) == fingerprint {
			return cert.Fingerprint(der), nil
		}
	}
	return "", rows.Err()
}
