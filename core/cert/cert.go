// Package cert reads the facts of an X.509 certificate (RFC 5280) that an
// administrator cares for: who, for which names, until when, with which key.
//
//	Certificate ::= SEQUENCE { tbsCertificate, signatureAlgorithm, signatureValue }
//
// Start with Parse. Two certificates are the same when their SHA256 is.
package cert

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"strings"
	"time"
)

// MaxSize is the most bytes of DER that are taken for one certificate. Real
// ones have one to four kilobytes.
const MaxSize = 256 << 10

// Certificate is one certificate and its facts. It is never changed after Parse.
type Certificate struct {
	*x509.Certificate
	SHA256  string // of the DER, 64 lower-case hexadecimal digits
	Refused string // why strict readers refuse it; empty for all but a few old ones

	selfSigned bool
}

// Parse reads one certificate from its DER; bytes after it are an error. What
// strict readers refuse is read as far as it goes; see Refused.
func Parse(der []byte) (*Certificate, error) {
	if len(der) > MaxSize {
		return nil, fmt.Errorf("a certificate of %d bytes is longer than the %d that are taken", len(der), MaxSize)
	}
	c := &Certificate{SHA256: Fingerprint(der)}
	var err error
	if c.Certificate, err = x509.ParseCertificate(der); err != nil {
		c.Refused = strings.TrimPrefix(err.Error(), "x509: ")
		if c.Certificate, err = mended(der); err != nil {
			return nil, fmt.Errorf("reading certificate: %s", c.Refused)
		}
	}
	x := c.Certificate
	c.selfSigned = bytes.Equal(x.RawSubject, x.RawIssuer) && c.SignedBy(c) == nil
	return c, nil
}

// Fingerprint is the SHA-256 of DER as 64 lower-case hexadecimal digits.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// SHA1 is the older fingerprint, which some boxes still show.
func (c *Certificate) SHA1() string {
	sum := sha1.Sum(c.Raw)
	return hex.EncodeToString(sum[:])
}

// SelfSigned says that the certificate is signed with its own key.
func (c *Certificate) SelfSigned() bool { return c.selfSigned }

// Subject is the subject's distinguished name in the form of RFC 4514.
func (c *Certificate) Subject() string { return c.Certificate.Subject.String() }

// Issuer is the issuer's distinguished name in the form of RFC 4514.
func (c *Certificate) Issuer() string { return c.Certificate.Issuer.String() }

// CommonName is the subject's common name, which may be empty.
func (c *Certificate) CommonName() string { return c.Certificate.Subject.CommonName }

// ShortName is what people call the certificate: its common name, else its
// organisation, else its whole subject.
func (c *Certificate) ShortName() string {
	if c.CommonName() != "" {
		return c.CommonName()
	}
	if o := c.Certificate.Subject.Organization; len(o) > 0 {
		return o[0]
	}
	return c.Subject()
}

// Names are the subject alternative names of any kind, as text.
func (c *Certificate) Names() []string {
	names := append([]string{}, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	names = append(names, c.EmailAddresses...)
	for _, u := range c.URIs {
		names = append(names, u.String())
	}
	return names
}

// Serial is the serial number in hexadecimal.
func (c *Certificate) Serial() string { return SerialText(c.SerialNumber) }

// SerialText writes a serial number as people compare them: hexadecimal
// digits, two by two, negative ones with their sign.
func SerialText(n *big.Int) string {
	digits := new(big.Int).Abs(n).Text(16)
	if len(digits)%2 == 1 {
		digits = "0" + digits
	}
	if n.Sign() < 0 {
		return "-" + digits
	}
	return digits
}

// Key names the kind and size of the public key: "ECDSA P-256", "RSA 2048".
func (c *Certificate) Key() string { return KeyText(c.PublicKey) }

// KeyText names the kind and size of a public key.
func KeyText(public any) string {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", k.N.BitLen())
	case *ecdsa.PublicKey:
		return "ECDSA " + k.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return "of an unknown kind"
}

// SignatureText names the signature's algorithm: "ECDSA-SHA256".
func (c *Certificate) SignatureText() string { return c.SignatureAlgorithm.String() }

// IsAuthority says that the certificate may sign others.
func (c *Certificate) IsAuthority() bool { return c.BasicConstraintsValid && c.IsCA }

// Within says that the certificate is valid at that time.
func (c *Certificate) Within(at time.Time) bool {
	return !at.Before(c.NotBefore) && !at.After(c.NotAfter)
}

// Matches says that a client who types this name or address accepts the
// certificate for it (RFC 9525: subject alternative names alone).
func (c *Certificate) Matches(name string) bool {
	return c.VerifyHostname(strings.TrimSuffix(name, ".")) == nil
}

// SameKey says that the certificate was made for this public key, given as the
// DER of its SubjectPublicKeyInfo.
func (c *Certificate) SameKey(spki []byte) bool {
	return bytes.Equal(c.RawSubjectPublicKeyInfo, spki)
}

// PEM is the certificate in the text form of RFC 7468, with LF line ends.
func (c *Certificate) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}
