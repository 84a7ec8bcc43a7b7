package signer

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"net"
	"time"

	"freshseal/core/cert"
	"freshseal/core/request"
)

// Bench is an authority for labs: a root and two levels of intermediates. What
// it signs is trusted only where its root is.
type Bench struct {
	levels []level // root first
	now    func() time.Time
}

type level struct {
	certificate *cert.Certificate
	key         crypto.Signer
}

// Lifetimes of what bench signs.
const (
	benchRoot = 10 * 365 * 24 * time.Hour
	benchLeaf = 90 * 24 * time.Hour // the life of a leaf
	backdated = 5 * time.Minute     // boxes' clocks run behind
)

// NewBench makes the authority's keys and certificates.
func NewBench(organization string, clock func() time.Time) (*Bench, error) {
	b, now := &Bench{now: clock}, clock()
	for i, name := range []string{"Bench Root", "Bench Policy Authority", "Bench Issuing Authority"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		template := x509.Certificate{
			Subject:               pkix.Name{Organization: []string{organization}, CommonName: organization + " " + name},
			NotBefore:             now.Add(-backdated),
			NotAfter:              now.Add(benchRoot / time.Duration(i+1)),
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
			MaxPathLen:            2 - i,
			MaxPathLenZero:        i == 2,
		}
		above := level{nil, key}
		if i > 0 {
			above = b.levels[i-1]
		}
		made, err := cert.Issue(rand.Reader, template, key.Public(), above.certificate, above.key)
		if err != nil {
			return nil, err
		}
		b.levels = append(b.levels, level{made, key})
	}
	return b, nil
}

// Root is the authority's root.
func (b *Bench) Root() *cert.Certificate { return b.levels[0].certificate }

// Submit accepts every request: it is signed when its answer is collected.
func (*Bench) Submit(context.Context, Errand) error { return nil }

// Terms are what bench accepts: any name and key.
func (*Bench) Terms() Terms {
	return Terms{Request: request.AnySigner, MaxDays: int(benchLeaf / (24 * time.Hour))}
}

// Collect signs the request for its own names and key, for as long as the errand says and at most for benchLeaf, for clients too where it asks for that. Nothing
// else is taken over from the request.
func (b *Bench) Collect(_ context.Context, e Errand) ([]*cert.Certificate, error) {
	r, now := e.Request, b.now()
	if len(r.Names()) == 0 {
		return nil, fmt.Errorf("bench signs no request without names")
	}
	life := benchLeaf
	if wanted := time.Duration(e.Days) * 24 * time.Hour; wanted > 0 {
		life = min(life, wanted)
	}
	template := x509.Certificate{
		Subject:               r.Subject,
		DNSNames:              r.DNSNames,
		IPAddresses:           append([]net.IP(nil), r.IPAddresses...),
		NotBefore:             now.Add(-backdated),
		NotAfter:              now.Add(life),
		KeyUsage:              x509.KeyUsageDigitalSignature,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true,
	}
	if r.ForClients() {
		template.ExtKeyUsage = append(template.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
	}
	if r.PublicKeyAlgorithm == x509.RSA {
		template.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	last := len(b.levels) - 1
	leaf, err := cert.Issue(rand.Reader, template, r.PublicKey, b.levels[last].certificate, b.levels[last].key)
	if err != nil {
		return nil, fmt.Errorf("signing for %v: %w", r.Names(), err)
	}
	out := []*cert.Certificate{leaf}
	for i := last; i > 0; i-- {
		out = append(out, b.levels[i].certificate)
	}
	return out, nil
}

type sealedLevel struct {
	Certificate []byte `json:"certificate"` // DER
	Key         []byte `json:"key"`         // PKCS #8
}

// Marshal writes the authority with its keys, for the strongbox alone.
func (b *Bench) Marshal() ([]byte, error) {
	var out []sealedLevel
	for _, l := range b.levels {
		key, err := x509.MarshalPKCS8PrivateKey(l.key)
		if err != nil {
			return nil, err
		}
		out = append(out, sealedLevel{l.certificate.Raw, key})
	}
	return json.Marshal(out)
}

// OpenBench reads what Marshal wrote.
func OpenBench(material []byte, clock func() time.Time) (*Bench, error) {
	var in []sealedLevel
	if err := json.Unmarshal(material, &in); err != nil || len(in) < 2 {
		return nil, fmt.Errorf("the bench authority's keys are damaged: %v", err)
	}
	b := &Bench{now: clock}
	for _, l := range in {
		c, err := cert.Parse(l.Certificate)
		if err != nil {
			return nil, err
		}
		key, err := x509.ParsePKCS8PrivateKey(l.Key)
		if err != nil {
			return nil, fmt.Errorf("the bench authority's keys are damaged: %w", err)
		}
		b.levels = append(b.levels, level{c, key.(crypto.Signer)})
	}
	return b, nil
}
