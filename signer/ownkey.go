package signer

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"fmt"
	"net"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
)

// ownKeyDays is how long a self-signed certificate is valid where the policy says nothing.
const ownKeyDays = 397

// SelfSign makes the self-signed certificate of a request with its own key, for devices that can take nothing else.
// Whoever uses it has to trust it by its fingerprint. It is valid for so many days; 0: for 397.
func SelfSign(r request.Request, key crypto.Signer, days int, now time.Time) (*cert.Certificate, error) {
	if len(r.Names()) == 0 {
		return nil, fmt.Errorf("a certificate without names is not made")
	}
	if days == 0 {
		days = ownKeyDays
	}
	template := x509.Certificate{
		Subject:               r.Subject,
		DNSNames:              r.DNSNames,
		IPAddresses:           append([]net.IP(nil), r.IPAddresses...),
		NotBefore:             now.Add(-backdated),
		NotAfter:              now.AddDate(0, 0, days),
		KeyUsage:              x509.KeyUsageDigitalSignature,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true,
	}
	if r.PublicKeyAlgorithm == x509.RSA {
		template.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	made, err := cert.Issue(rand.Reader, template, key.Public(), nil, key)
	if err != nil {
		return nil, fmt.Errorf("signing for %v: %w", r.Names(), err)
	}
	return made, nil
}
