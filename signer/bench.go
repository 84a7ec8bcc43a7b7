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
	"slices"
	"strings"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
)

// Bench is a small authority of your own: a root and one or two levels below it. What it signs is trusted only where
// its root is.
type Bench struct {
	levels   []level // root first
	leafDays int     // the longest life of a leaf
	now      func() time.Time
}

type level struct {
	certificate *cert.Certificate
	key         crypto.Signer
}

// backdated is how far before now a certificate begins to be valid: the clocks of devices run behind.
const backdated = 5 * time.Minute

// BenchPlan says what the authority is to be.
type BenchPlan struct {
	Names        []string
	Organization string
	Country      string
	RootDays     int
	BelowDays    int
	LeafDays     int
}

// UsualBench returns the plan of an authority for labs.
func UsualBench(organization string) BenchPlan {
	return BenchPlan{Names: []string{organization + " Bench Root", organization + " Bench Policy Authority",
		organization + " Bench Issuing Authority"}, Organization: organization,
		RootDays: 3650, BelowDays: 1825, LeafDays: 90}
}

// Limits of a bench. The period of a certificate ends with the year 9999 (RFC 5280, 4.1.2.5).
const (
	maxBenchDays = 36500
	maxLeafDays  = 3650
)

// Check returns what is wrong with a plan; nothing where it can be made.
func (p BenchPlan) Check() string {
	if len(p.Names) < 2 || len(p.Names) > 3 {
		return fmt.Sprintf("the number of levels is %d; it may be 2 or 3: a root, and one or two below it",
			len(p.Names))
	}
	for i, name := range p.Names {
		if strings.TrimSpace(name) == "" || slices.Contains(p.Names[:i], name) {
			return "each level needs a name of its own"
		}
		if found := (request.Subject{CommonName: name, Organization: p.Organization,
			Country: p.Country}).Check(); len(found) > 0 {
			return found[0].What
		}
	}
	if p.LeafDays < 1 || p.LeafDays > maxLeafDays || p.BelowDays < p.LeafDays || p.RootDays < p.BelowDays ||
		p.RootDays > maxBenchDays {
		return fmt.Sprintf("%d days for leaves, %d for the levels below the root and %d for the root do not fit: "+
			"leaves live up to %d days, and no level ends before what it signs", p.LeafDays, p.BelowDays, p.RootDays,
			maxLeafDays)
	}
	return ""
}

// NewBench makes the authority's keys and certificates. With a root, that of an earlier bench, the levels below are
// made again under it and the names and lifetime that the plan gives the root do not count.
func NewBench(p BenchPlan, root *Bench, clock func() time.Time) (*Bench, error) {
	b, now := &Bench{leafDays: p.LeafDays, now: clock}, clock()
	from := 0
	if root != nil {
		b.levels, from = append(b.levels, root.levels[0]), 1
	}
	last := len(p.Names) - 1
	for i := from; i <= last; i++ {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		days := p.BelowDays
		if i == 0 {
			days = p.RootDays
		}
		subject := pkix.Name{CommonName: p.Names[i]}
		if p.Organization != "" {
			subject.Organization = []string{p.Organization}
		}
		if p.Country != "" {
			subject.Country = []string{p.Country}
		}
		template := x509.Certificate{
			Subject:               subject,
			NotBefore:             now.Add(-backdated),
			NotAfter:              now.AddDate(0, 0, days),
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
			MaxPathLen:            last - i, // 0 at the level that issues (RFC 5280, 4.2.1.9)
			MaxPathLenZero:        i == last,
		}
		above := level{nil, key}
		if i > 0 {
			above = b.levels[i-1]
			if end := above.certificate.NotAfter; template.NotAfter.After(end) {
				template.NotAfter = end
			}
		}
		made, err := cert.Issue(rand.Reader, template, key.Public(), above.certificate, above.key)
		if err != nil {
			return nil, err
		}
		b.levels = append(b.levels, level{made, key})
	}
	return b, nil
}

// Levels returns the certificates of the authority, root first.
func (b *Bench) Levels() []*cert.Certificate {
	var out []*cert.Certificate
	for _, l := range b.levels {
		out = append(out, l.certificate)
	}
	return out
}

// Root returns the authority's root.
func (b *Bench) Root() *cert.Certificate { return b.levels[0].certificate }

// Submit accepts every request: it is signed when its answer is collected.
func (*Bench) Submit(context.Context, Errand) error { return nil }

// Terms returns what bench accepts: any name and key.
func (b *Bench) Terms() Terms {
	return Terms{Request: request.AnySigner, MaxDays: b.leafDays}
}

// Collect signs the request for its own names and key, for as long as the errand says, at most for its longest life
// and until the authority itself ends, for clients too where it asks for that. Nothing else is taken over from the
// request.
func (b *Bench) Collect(_ context.Context, e Errand) ([]*cert.Certificate, error) {
	r, now := e.Request, b.now()
	if len(r.Names()) == 0 {
		return nil, fmt.Errorf("bench signs no request without names")
	}
	days := b.leafDays
	if e.Days > 0 {
		days = min(days, e.Days)
	}
	last := len(b.levels) - 1
	end, above := now.AddDate(0, 0, days), b.levels[last].certificate.NotAfter
	if !above.After(now) {
		return nil, fmt.Errorf("the issuing authority of bench expired on %s; set bench up again and keep its root",
			above.UTC().Format(time.DateOnly))
	}
	if end.After(above) {
		end = above
	}
	template := x509.Certificate{
		Subject:               r.Subject,
		DNSNames:              r.DNSNames,
		IPAddresses:           append([]net.IP(nil), r.IPAddresses...),
		NotBefore:             now.Add(-backdated),
		NotAfter:              end,
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

type sealedBench struct {
	Levels   []sealedLevel `json:"levels"`
	LeafDays int           `json:"leaf_days"`
}

type sealedLevel struct {
	Certificate []byte `json:"certificate"` // DER
	Key         []byte `json:"key"`         // PKCS #8
}

// Marshal writes the authority with its keys, for the strongbox alone.
func (b *Bench) Marshal() ([]byte, error) {
	out := sealedBench{LeafDays: b.leafDays}
	for _, l := range b.levels {
		key, err := x509.MarshalPKCS8PrivateKey(l.key)
		if err != nil {
			return nil, err
		}
		out.Levels = append(out.Levels, sealedLevel{l.certificate.Raw, key})
	}
	return json.Marshal(out)
}

// OpenBench reads what Marshal wrote.
func OpenBench(material []byte, clock func() time.Time) (*Bench, error) {
	var in sealedBench
	if err := json.Unmarshal(material, &in); err != nil || len(in.Levels) < 2 || in.LeafDays < 1 {
		return nil, fmt.Errorf("the bench authority's keys are damaged: %v", err)
	}
	b := &Bench{leafDays: in.LeafDays, now: clock}
	for _, l := range in.Levels {
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
