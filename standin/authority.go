package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"time"

	"freshseal/core/pki/cert"
)

// Authority is a certificate authority of the made-up world.
type Authority struct {
	Certificate *cert.Certificate
	Key         *ecdsa.PrivateKey
}

// Wanted says what a certificate is to be like. Times count from now.
type Wanted struct {
	Subject     pkix.Name
	Names       []string // DNS names and addresses
	Begins      time.Duration
	Ends        time.Duration
	IsAuthority bool
}

// NewAuthority makes an authority: a root, or below another one.
func NewAuthority(name string, above *Authority, random io.Reader, now time.Time) (*Authority, error) {
	key, err := NewKey(random)
	if err != nil {
		return nil, err
	}
	c, err := Issue(Wanted{Subject: pkix.Name{Organization: []string{"Tidewrack Ferries"}, CommonName: name},
		Begins: -3 * 365 * Day, Ends: 6 * 365 * Day, IsAuthority: true}, above, key, random, now)
	return &Authority{c, key}, err
}

// PEM returns the authority's certificate.
func (a *Authority) PEM() []byte { return a.Certificate.PEM() }

// WithKey returns the authority's certificate and key; the made-up world has no
// better place for them than a file.
func (a *Authority) WithKey() []byte {
	der, err := x509.MarshalPKCS8PrivateKey(a.Key)
	if err != nil {
		panic(err) // a P-256 key can always be written
	}
	return append(a.PEM(), PemOf("PRIVATE KEY", der)...)
}

// OpenAuthorities reads a root and an intermediate, each followed by its key.
func OpenAuthorities(text []byte) (root, middle *Authority, err error) {
	var found []*Authority
	for len(found) < 2 {
		certificate, rest := pem.Decode(text)
		if certificate == nil {
			return nil, nil, errors.New("the authority's file is damaged")
		}
		key, rest := pem.Decode(rest)
		if key == nil {
			return nil, nil, errors.New("the authority's file is damaged")
		}
		text = rest
		c, err := cert.Parse(certificate.Bytes)
		if err != nil {
			return nil, nil, err
		}
		k, err := x509.ParsePKCS8PrivateKey(key.Bytes)
		if err != nil {
			return nil, nil, err
		}
		found = append(found, &Authority{c, k.(*ecdsa.PrivateKey)})
	}
	return found[0], found[1], nil
}

// Issue makes a key and a certificate, signed by the authority or, where it is
// nil, by the key itself as factories do. Both come as PEM.
func (a *Authority) Issue(w Wanted, random io.Reader, now time.Time) (certificate, key []byte, err error) {
	made, err := NewKey(random)
	if err != nil {
		return nil, nil, err
	}
	c, err := Issue(w, a, made, random, now)
	if err != nil {
		return nil, nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(made)
	return c.PEM(), PemOf("PRIVATE KEY", pkcs8), err
}

// Issue signs a certificate; above is nil for one that is signed with its own key.
func Issue(w Wanted, above *Authority, key *ecdsa.PrivateKey, random io.Reader,
	now time.Time) (*cert.Certificate, error) {
	if above == nil {
		above = &Authority{Key: key}
	}
	return Signed(w, above, key.Public(), random, now)
}

// Signed makes a certificate for a public key, signed by an authority; one without a certificate signs its own.
func Signed(w Wanted, by *Authority, public crypto.PublicKey, random io.Reader,
	now time.Time) (*cert.Certificate, error) {
	template := x509.Certificate{
		Subject: w.Subject, NotBefore: now.Add(w.Begins), NotAfter: now.Add(w.Ends),
		BasicConstraintsValid: true, IsCA: w.IsAuthority, KeyUsage: x509.KeyUsageDigitalSignature,
	}
	if w.IsAuthority {
		template.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
	} else {
		template.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	}
	for _, name := range w.Names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	return cert.Issue(random, template, public, by.Certificate, by.Key)
}

const Day = 24 * time.Hour

// NewKey makes a P-256 key of this randomness. crypto/ecdsa's own way to make
// keys takes no other randomness than the system's.
func NewKey(random io.Reader) (*ecdsa.PrivateKey, error) {
	for {
		scalar := make([]byte, 32)
		if _, err := io.ReadFull(random, scalar); err != nil {
			return nil, err
		}
		if key, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), scalar); err == nil {
			return key, nil // the others, one in 2³², lie outside the group
		}
	}
}

// OrSystem returns the system's randomness if none is given.
func OrSystem(random io.Reader) io.Reader {
	if random == nil {
		return rand.Reader
	}
	return random
}
