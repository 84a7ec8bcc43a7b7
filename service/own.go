package service

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"freshseal/core/cert"
	"freshseal/store"
)

// ownLife is how long the self-made certificate lives; it is there to be
// replaced long before.
const ownLife = 2 * 365 * 24 * time.Hour

type ownMaterial struct {
	Certificate []byte `json:"certificate"` // DER
	Key         []byte `json:"key"`         // PKCS #8
}

// OwnCertificate is the certificate that the service itself serves: made at the
// first start, its key sealed.
func (s *Service) OwnCertificate(ctx context.Context) (tls.Certificate, error) {
	const purpose = "own/certificate"
	var own ownMaterial
	sealed, err := s.store.Secret(ctx, purpose)
	switch {
	case err == nil:
		material, err := s.box.Open(purpose, sealed)
		if err == nil {
			err = json.Unmarshal(material, &own)
		}
		if err != nil {
			return tls.Certificate{}, fmt.Errorf("opening the service's own key: %w", err)
		}
	case errors.Is(err, store.ErrNotFound):
		if own, err = makeOwn(s.now()); err != nil {
			return tls.Certificate{}, err
		}
		material, err := json.Marshal(own)
		if err != nil {
			return tls.Certificate{}, err
		}
		if err := s.store.PutSecret(ctx, purpose, s.box.Seal(purpose, material)); err != nil {
			return tls.Certificate{}, err
		}
	default:
		return tls.Certificate{}, err
	}
	key, err := x509.ParsePKCS8PrivateKey(own.Key)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("the service's own key is damaged: %w", err)
	}
	return tls.Certificate{Certificate: [][]byte{own.Certificate}, PrivateKey: key}, nil
}

func makeOwn(now time.Time) (ownMaterial, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return ownMaterial{}, err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "localhost"
	}
	template := x509.Certificate{
		Subject:   pkix.Name{CommonName: "Fresh Seal on " + host},
		NotBefore: now.Add(-5 * time.Minute), NotAfter: now.Add(ownLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, DNSNames: []string{host, "localhost"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	made, err := cert.Issue(rand.Reader, template, key.Public(), nil, key)
	if err != nil {
		return ownMaterial{}, fmt.Errorf("making the service's own certificate: %w", err)
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	return ownMaterial{made.Raw, pkcs8}, err
}
