// Package cert reads the facts of an X.509 certificate (RFC 5280) that an
// administrator cares for: who, for which names, until when, with which key.
//
//	Certificate ::= SEQUENCE { tbsCertificate, signatureAlgorithm, signatureValue }
//
// Start with Parse. Two certificates are the same when their SHA256 is.
package cert

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"strings"
	"time"
)

// MaxSize is the maximum size of a certificate in bytes of DER. Real ones have one to four kilobytes.
const MaxSize = 256 << 10

// Certificate is one certificate and its facts, in about a third of the memory
// that x509.Certificate takes: piles hold thousands. It is never changed after
// Parse. The fields bear the names that they have in crypto/x509.
type Certificate struct {
	Raw                     []byte // the DER; the other raw fields are parts of it
	RawTBSCertificate       []byte
	RawSubjectPublicKeyInfo []byte
	RawSubject, RawIssuer   []byte
	Signature               []byte
	SignatureAlgorithm      x509.SignatureAlgorithm
	Version                 int
	SerialNumber            *big.Int
	NotBefore, NotAfter     time.Time

	KeyUsage           x509.KeyUsage
	ExtKeyUsage        []x509.ExtKeyUsage
	UnknownExtKeyUsage []asn1.ObjectIdentifier
	MaxPathLen         int // -1: any number
	SubjectKeyId       []byte
	AuthorityKeyId     []byte
	DNSNames           []string
	IPAddresses        []net.IP
	Revocable          bool  // it says where its revocation can be looked up: a list, or OCSP
	NamesPolicy        bool  // it names a certificate policy
	Rare               *Rare // what few certificates have; never nil

	SHA256  string // of the DER, 64 lower-case hexadecimal digits
	Refused string // why strict readers refuse it; empty for all but a few old ones

	commonName, subject   string
	subjectKey, issuerKey string // see NameKey
	keyKind               KeyKind
	keyBits               int
	authority, selfSigned bool
}

// Rare is what authorities have, and some leaves.
type Rare struct {
	EmailAddresses              []string
	URIs                        []*url.URL
	UnhandledCriticalExtensions []asn1.ObjectIdentifier
	DirectoryNames              [][]string // among the alternative names; see RDNKeys
	Permitted, Excluded         Subtrees   // name constraints
	ExplicitPolicy              int        // after how many certificates a policy must be named; -1: never
}

// nothing is what most leaves have that is rare.
var nothing = &Rare{ExplicitPolicy: -1}

// Parse reads one certificate from its DER; bytes after it are an error. What
// strict readers refuse is read as far as it goes; see Refused.
func Parse(der []byte) (*Certificate, error) { return parse(der, read) }

// ParseStrict is Parse without the lenient fallback, which takes many times as long on what it accepts.
func ParseStrict(der []byte) (*Certificate, error) {
	return parse(der, func(der []byte) (*x509.Certificate, string, error) {
		x, err := x509.ParseCertificate(der)
		return x, "", err
	})
}

// Again is Parse for a certificate that was parsed before, when it was found to be
// self-signed or not: that costs a signature check, and is not done again.
func Again(der []byte, selfSigned bool) (*Certificate, error) {
	c, err := unsigned(der, read)
	if err == nil {
		c.selfSigned = selfSigned
	}
	return c, err
}

func parse(der []byte, read func([]byte) (*x509.Certificate, string, error)) (*Certificate, error) {
	c, err := unsigned(der, read)
	if err == nil {
		c.selfSigned = c.SelfIssued() && c.SignedBy(c) == nil
	}
	return c, err
}

// unsigned parses all but whether the certificate is self-signed.
func unsigned(der []byte, read func([]byte) (*x509.Certificate, string, error)) (*Certificate, error) {
	if len(der) > MaxSize {
		return nil, fmt.Errorf("a certificate of %d bytes is longer than the %d that are taken", len(der), MaxSize)
	}
	x, refused, err := read(der)
	if err != nil {
		return nil, err
	}
	c := &Certificate{
		Raw: x.Raw, RawTBSCertificate: x.RawTBSCertificate, RawSubjectPublicKeyInfo: x.RawSubjectPublicKeyInfo,
		RawSubject: x.RawSubject, RawIssuer: x.RawIssuer,
		Signature: x.Signature, SignatureAlgorithm: x.SignatureAlgorithm, Version: x.Version,
		SerialNumber: x.SerialNumber, NotBefore: x.NotBefore, NotAfter: x.NotAfter,
		KeyUsage: x.KeyUsage, ExtKeyUsage: x.ExtKeyUsage, UnknownExtKeyUsage: x.UnknownExtKeyUsage, MaxPathLen: -1,
		SubjectKeyId: x.SubjectKeyId, AuthorityKeyId: x.AuthorityKeyId,
		DNSNames: x.DNSNames, IPAddresses: x.IPAddresses, Rare: rare(x),
		Revocable: len(x.CRLDistributionPoints)+len(x.OCSPServer) > 0, NamesPolicy: len(x.Policies) > 0,
		SHA256: Fingerprint(der), Refused: refused, commonName: x.Subject.CommonName, subject: NameText(x.Subject),
		authority: x.BasicConstraintsValid && x.IsCA,
	}
	c.subjectKey, c.issuerKey = NameKey(x.RawSubject), NameKey(x.RawIssuer)
	c.keyKind, c.keyBits = measure(x.PublicKey)
	if x.MaxPathLen > 0 || x.MaxPathLenZero {
		c.MaxPathLen = x.MaxPathLen
	}
	return c, nil
}

// read has crypto/x509 read a certificate, mended where it must be.
func read(der []byte) (x *x509.Certificate, refused string, err error) {
	x, err = x509.ParseCertificate(der)
	if err == nil {
		return x, "", nil
	}
	refused = strings.TrimPrefix(err.Error(), "x509: ")
	if x, err = mended(der); err != nil {
		return nil, "", fmt.Errorf("reading certificate: %s", refused)
	}
	return x, refused, nil
}

func rare(x *x509.Certificate) *Rare {
	policy := -1
	if x.RequireExplicitPolicy > 0 || x.RequireExplicitPolicyZero {
		policy = x.RequireExplicitPolicy
	}
	r := &Rare{EmailAddresses: x.EmailAddresses, URIs: x.URIs,
		UnhandledCriticalExtensions: x.UnhandledCriticalExtensions, ExplicitPolicy: policy}
	r.addConstraints(x)
	if policy < 0 &&
		len(r.EmailAddresses)+len(r.URIs)+len(r.UnhandledCriticalExtensions)+len(r.DirectoryNames) == 0 &&
		r.Permitted.empty() && r.Excluded.empty() {
		return nothing
	}
	return r
}

// X509 returns the certificate as crypto/x509 has it, read again.
func (c *Certificate) X509() *x509.Certificate {
	x, _, err := read(c.Raw)
	if err != nil {
		panic(err) // it was read before
	}
	return x
}

// Fingerprint returns the SHA-256 of DER as 64 lower-case hexadecimal digits.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// SHA1 returns the older fingerprint, which some boxes still show.
func (c *Certificate) SHA1() string {
	sum := sha1.Sum(c.Raw)
	return hex.EncodeToString(sum[:])
}

// SelfSigned reports whether the certificate is signed with its own key.
func (c *Certificate) SelfSigned() bool { return c.selfSigned }

// Subject returns the subject's distinguished name in the form of RFC 4514.
func (c *Certificate) Subject() string { return c.subject }

// Issuer returns the issuer's distinguished name in the form of RFC 4514.
func (c *Certificate) Issuer() string { return NameText(c.X509().Issuer) }

// IssuerName returns what people call the issuer: its common name, else its organisation, else its whole name.
func (c *Certificate) IssuerName() string {
	issuer := c.X509().Issuer
	switch {
	case issuer.CommonName != "":
		return issuer.CommonName
	case len(issuer.Organization) > 0:
		return issuer.Organization[0]
	}
	return c.Issuer()
}

// CommonName returns the subject's common name, which may be empty.
func (c *Certificate) CommonName() string { return c.commonName }

// ShortName returns what people call the certificate: its common name, else its
// organisation, else its whole subject.
func (c *Certificate) ShortName() string {
	if c.commonName != "" {
		return c.commonName
	}
	if o := c.X509().Subject.Organization; len(o) > 0 {
		return o[0]
	}
	return c.subject
}

// Names returns the subject alternative names of any kind, as text.
func (c *Certificate) Names() []string {
	names := append([]string{}, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	names = append(names, c.Rare.EmailAddresses...)
	for _, u := range c.Rare.URIs {
		names = append(names, u.String())
	}
	return names
}

// Serial returns the serial number in hexadecimal.
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

// SignatureText names the signature's algorithm: "ECDSA-SHA256".
func (c *Certificate) SignatureText() string { return c.SignatureAlgorithm.String() }

// IsAuthority reports whether the certificate may sign others.
func (c *Certificate) IsAuthority() bool { return c.authority }

// Within reports whether the certificate is valid at that time.
func (c *Certificate) Within(at time.Time) bool {
	return !at.Before(c.NotBefore) && !at.After(c.NotAfter)
}

// Matches reports whether a client who types this name or address accepts the
// certificate for it (RFC 9525: subject alternative names alone).
func (c *Certificate) Matches(name string) bool {
	names := x509.Certificate{DNSNames: c.DNSNames, IPAddresses: c.IPAddresses}
	return names.VerifyHostname(strings.TrimSuffix(name, ".")) == nil
}

// SameKey reports whether the certificate was made for this public key, given as the
// DER of its SubjectPublicKeyInfo.
func (c *Certificate) SameKey(spki []byte) bool {
	return bytes.Equal(c.RawSubjectPublicKeyInfo, spki)
}

// PEM returns the certificate in the text form of RFC 7468, with LF line ends.
func (c *Certificate) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}
