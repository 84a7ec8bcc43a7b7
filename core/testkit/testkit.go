// Package testkit makes authorities and certificates for the tests of core.
package testkit

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"testing"
	"time"

	"freshseal/core/pki/cert"
)

// Now is when the tests of core happen.
var Now = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// Change alters a template before it is signed.
type Change func(*x509.Certificate)

// Signer is a certificate with its key.
type Signer struct {
	*cert.Certificate
	Key crypto.Signer
}

// Root makes a root authority.
func Root(t testing.TB, name string, changes ...Change) Signer {
	t.Helper()
	return sign(t, name, true, nil, NewKey(t), changes)
}

// Below makes an authority under this one.
func (s Signer) Below(t testing.TB, name string, changes ...Change) Signer {
	t.Helper()
	return sign(t, name, true, &s, NewKey(t), changes)
}

// Cross signs another authority's name and key.
func (s Signer) Cross(t testing.TB, other Signer, changes ...Change) Signer {
	t.Helper()
	return sign(t, other.CommonName(), true, &s, other.Key, changes)
}

// Leaf makes a server's certificate for a name.
func (s Signer) Leaf(t testing.TB, name string, changes ...Change) Signer {
	t.Helper()
	return sign(t, name, false, &s, NewKey(t), changes)
}

// NewKey makes a key.
func NewKey(t testing.TB) crypto.Signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func sign(t testing.TB, name string, authority bool, above *Signer, key crypto.Signer, changes []Change) Signer {
	t.Helper()
	template := x509.Certificate{
		Subject: pkix.Name{CommonName: name}, NotBefore: Now.AddDate(0, -1, 0), NotAfter: Now.AddDate(0, 2, 0),
		BasicConstraintsValid: true, IsCA: authority, KeyUsage: x509.KeyUsageDigitalSignature,
	}
	if authority {
		template.KeyUsage, template.NotAfter = x509.KeyUsageCertSign, Now.AddDate(5, 0, 0)
	} else {
		template.DNSNames, template.ExtKeyUsage = []string{name}, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	}
	for _, change := range changes {
		change(&template)
	}
	signWith, issuer := key, (*cert.Certificate)(nil)
	if above != nil {
		signWith, issuer = above.Key, above.Certificate
	}
	c, err := cert.Issue(rand.Reader, template, key.Public(), issuer, signWith)
	if err != nil {
		t.Fatal(err)
	}
	return Signer{c, key}
}
