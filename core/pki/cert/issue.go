package cert

import (
	"crypto"
	"crypto/sha1"
	"crypto/x509"
	"fmt"
	"io"
	"math/big"
)

// Issue signs a template for a public key with the issuer's key; without an
// issuer the certificate is self-signed. The serial number has 127 random bits
// (RFC 5280, 4.1.2.2), the key identifiers are those of RFC 5280, 4.2.1.1 and
// 4.2.1.2.
func Issue(random io.Reader, template x509.Certificate, public crypto.PublicKey, issuer *Certificate,
	key crypto.Signer) (*Certificate, error) {
	bits := make([]byte, 16)
	if _, err := io.ReadFull(random, bits); err != nil {
		return nil, err
	}
	bits[0] = bits[0]&0x7f | 0x40 // positive, and always of the same length
	spki, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, fmt.Errorf("issuing a certificate: %w", err)
	}
	id := sha1.Sum(spki)
	template.SerialNumber, template.SubjectKeyId = new(big.Int).SetBytes(bits), id[:]
	parent := &template
	if issuer != nil {
		parent = issuer.X509()
	}
	template.AuthorityKeyId = parent.SubjectKeyId
	der, err := x509.CreateCertificate(random, &template, parent, public, key)
	if err != nil {
		return nil, fmt.Errorf("issuing a certificate: %w", err)
	}
	return Parse(der)
}
