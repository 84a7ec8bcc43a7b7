package chain

import (
	"bytes"
	"slices"

	"freshseal/core/cert"
)

// Pool is a set of certificates from which paths are built. It remembers who
// signed whom, so that each signature is checked once. It is not safe for use
// by several goroutines at once.
type Pool struct {
	bySubject map[string][]*cert.Certificate
	has       map[string]bool
	signed    map[[2]string]bool
	all       []*cert.Certificate
}

// NewPool makes a pool of these certificates.
func NewPool(certificates ...*cert.Certificate) *Pool {
	p := &Pool{bySubject: map[string][]*cert.Certificate{}, has: map[string]bool{}, signed: map[[2]string]bool{}}
	p.Add(certificates...)
	return p
}

// Add puts certificates in; those already there are passed over.
func (p *Pool) Add(certificates ...*cert.Certificate) {
	for _, c := range certificates {
		if p.has[c.SHA256] {
			continue
		}
		p.has[c.SHA256] = true
		p.all = append(p.all, c)
		p.bySubject[c.SubjectKey()] = append(p.bySubject[c.SubjectKey()], c)
	}
}

// Has says that this very certificate is in the pool.
func (p *Pool) Has(c *cert.Certificate) bool { return p.has[c.SHA256] }

// All are the certificates in the order in which they came.
func (p *Pool) All() []*cert.Certificate { return p.all }

// Issuers are the certificates of the pool whose key signed c. Names alone do
// not make an issuer: two authorities can bear the same one. Those whose key
// identifier is the one that c names (RFC 5280, 4.2.1.1) come first and, where
// one of them fits, the others are not tried: a signature costs a hundred
// times what comparing identifiers does.
func (p *Pool) Issuers(c *cert.Certificate) []*cert.Certificate { return p.issuers(c, nil) }

// issuers are those in the pool and in another one. The pools are not joined:
// for each leaf of a large pile that would cost as much as all of the pile.
func (p *Pool) issuers(c *cert.Certificate, other *Pool) []*cert.Certificate {
	named := p.bySubject[c.IssuerKey()]
	if other != nil {
		named = slices.Clone(named)
		for _, o := range other.bySubject[c.IssuerKey()] {
			if !p.has[o.SHA256] {
				named = append(named, o)
			}
		}
	}
	var fits, rest []*cert.Certificate
	for _, issuer := range named {
		switch {
		case len(c.AuthorityKeyId) > 0 && bytes.Equal(issuer.SubjectKeyId, c.AuthorityKeyId):
			if p.signedBy(c, issuer) {
				fits = append(fits, issuer)
			}
		default:
			rest = append(rest, issuer)
		}
	}
	if len(fits) > 0 {
		return fits
	}
	for _, issuer := range rest {
		if p.signedBy(c, issuer) {
			fits = append(fits, issuer)
		}
	}
	return fits
}

// signedBy checks a signature once and remembers the answer. It is kept by the
// issuer's key, since cross-signed authorities share one.
func (p *Pool) signedBy(c, issuer *cert.Certificate) bool {
	link := [2]string{c.SHA256, string(issuer.RawSubjectPublicKeyInfo)}
	known, seen := p.signed[link]
	if !seen {
		known = c.SignedBy(issuer) == nil
		p.signed[link] = known
	}
	return known
}
