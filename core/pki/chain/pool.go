package chain

import (
	"bytes"
	"slices"
	"sync"

	"freshseal/core/pki/cert"
)

// Pool is a set of certificates from which paths are built. It remembers who
// signed whom, so that each signature is checked once. Reading it from several
// goroutines at once is safe, as long as nobody adds to it; see With.
type Pool struct {
	under     *Pool // another pool whose certificates are in this one too; may be nil
	bySubject map[string][]*cert.Certificate
	has       map[string]bool
	signed    *signatures
	all       []*cert.Certificate
}

// signatures are those that were checked, by the certificate and the issuer's key.
type signatures struct {
	lock  sync.Mutex
	known map[[2]string]bool
}

// mostSignatures bounds what is remembered: a served leaf is seen again, a pile
// of strangers is not.
const mostSignatures = 200_000

// NewPool makes a pool of these certificates.
func NewPool(certificates ...*cert.Certificate) *Pool {
	p := &Pool{bySubject: map[string][]*cert.Certificate{}, has: map[string]bool{},
		signed: &signatures{known: map[[2]string]bool{}}}
	p.Add(certificates...)
	return p
}

// With returns a pool of this one's certificates and more, without copying or
// changing this one. What is learned of signatures is learned for both.
func (p *Pool) With(certificates ...*cert.Certificate) *Pool {
	out := &Pool{under: p, bySubject: map[string][]*cert.Certificate{}, has: map[string]bool{}, signed: p.signed}
	out.Add(certificates...)
	return out
}

// Add puts certificates in; those already there are passed over.
func (p *Pool) Add(certificates ...*cert.Certificate) {
	for _, c := range certificates {
		if p.Has(c) {
			continue
		}
		p.has[c.SHA256] = true
		p.all = append(p.all, c)
		p.bySubject[c.SubjectKey()] = append(p.bySubject[c.SubjectKey()], c)
	}
}

// Has reports whether this very certificate is in the pool.
func (p *Pool) Has(c *cert.Certificate) bool {
	return p.has[c.SHA256] || p.under != nil && p.under.Has(c)
}

// All returns the certificates in the order in which they came.
func (p *Pool) All() []*cert.Certificate {
	if p.under == nil {
		return p.all
	}
	return append(slices.Clone(p.under.All()), p.all...)
}

// named returns the certificates with this subject; see cert.NameKey.
func (p *Pool) named(subject string) []*cert.Certificate {
	if p.under == nil {
		return p.bySubject[subject]
	}
	return append(slices.Clone(p.under.named(subject)), p.bySubject[subject]...)
}

// Issuers returns the certificates of the pool whose key signed c. Names alone do
// not make an issuer: two authorities can bear the same one. Those whose key
// identifier is the one that c names (RFC 5280, 4.2.1.1) come first and, where
// one of them fits, the others are not tried: a signature costs a hundred
// times what comparing identifiers does.
func (p *Pool) Issuers(c *cert.Certificate) []*cert.Certificate { return p.issuers(c, nil) }

// mostOfOneName is how many authorities of one name are tried. Some have fifty; who
// sends a pile with thousands wants to keep us busy.
const mostOfOneName = 1000

// issuers returns those in the pool and in another one. The pools are not joined:
// for each leaf of a large pile that would cost as much as all of the pile.
func (p *Pool) issuers(c *cert.Certificate, other *Pool) []*cert.Certificate {
	named := p.named(c.IssuerKey())
	if other != nil {
		named = slices.Clone(named)
		for _, o := range other.named(c.IssuerKey()) {
			if !p.Has(o) {
				named = append(named, o)
			}
		}
	}
	var fits, rest []*cert.Certificate
	if len(named) > mostOfOneName {
		named = named[:mostOfOneName]
	}
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
	p.signed.lock.Lock()
	known, seen := p.signed.known[link]
	p.signed.lock.Unlock()
	if seen {
		return known
	}
	known = c.SignedBy(issuer) == nil
	p.signed.lock.Lock()
	defer p.signed.lock.Unlock()
	if len(p.signed.known) >= mostSignatures {
		clear(p.signed.known)
	}
	p.signed.known[link] = known
	return known
}
