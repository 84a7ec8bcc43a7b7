// Package chain finds the path from a leaf to a trusted root in a heap of
// certificates, says what is missing, and judges the path for clients.
//
//	leaf ──signed by──▶ intermediate ──signed by──▶ … ──signed by──▶ anchor
//
// Start with Complete, which takes a leaf and whatever was found near it in
// any order, then Judge (RFC 5280, section 6; policies and revocation aside).
package chain

import (
	"encoding/hex"
	"fmt"
	"time"

	"freshseal/core/pki/cert"
)

// Limits of the search: real paths have two to five certificates, and a heap
// of cross-signed authorities must not make the search endless.
const (
	maxDepth = 12
	maxTries = 2000
)

// Path is a leaf and its issuers, each signed by the next. The last one is the
// anchor where Complete is true.
type Path struct {
	Certificates []*cert.Certificate
	Complete     bool // ends in an anchor or in a self-signed root
	Anchored     bool // ends in one of the anchors given
	Missing      *Missing
}

// Missing describes the certificate that a path lacks, as far as its subject
// tells.
type Missing struct {
	Subject string   // distinguished name, RFC 4514
	KeyID   string   // hexadecimal, empty where the certificate below names none
	URLs    []string // where the issuer says it can be had (RFC 5280, 4.2.2.1)
}

func (m Missing) String() string {
	text := "“" + m.Subject + "”"
	if m.KeyID != "" {
		text += " with key identifier " + m.KeyID
	}
	for _, u := range m.URLs {
		text += fmt.Sprintf(" (the certificate says it is at %s)", u)
	}
	return text
}

// Leaf returns the certificate at the beginning of the path.
func (p Path) Leaf() *cert.Certificate { return p.Certificates[0] }

// Root returns the self-signed certificate at the end, or nil.
func (p Path) Root() *cert.Certificate {
	last := p.Certificates[len(p.Certificates)-1]
	if len(p.Certificates) > 1 && last.SelfSigned() {
		return last
	}
	return nil
}

// Intermediates returns the certificates between leaf and root, in order.
func (p Path) Intermediates() []*cert.Certificate {
	middle := p.Certificates[1:]
	if p.Root() != nil {
		middle = middle[:len(middle)-1]
	}
	return middle
}

// Fingerprints returns the SHA-256 of the path, leaf first.
func (p Path) Fingerprints() []string {
	out := make([]string, len(p.Certificates))
	for i, c := range p.Certificates {
		out[i] = c.SHA256
	}
	return out
}

// NotAfter returns when the first certificate of the path ends.
func (p Path) NotAfter() time.Time {
	end := p.Leaf().NotAfter
	for _, c := range p.Certificates[1:] {
		if c.NotAfter.Before(end) {
			end = c.NotAfter
		}
	}
	return end
}

// Complete builds the best path for the leaf out of the pool and the anchors.
// Better is, in this order: one that ends in an anchor, that breaks no rule of
// RFC 5280 at that time, that ends in a self-signed root, that is shorter, or
// where none is complete, longer.
func Complete(leaf *cert.Certificate, pool, anchors *Pool, at time.Time) Path {
	s := search{pool: pool, anchors: anchors, at: at}
	s.extend([]*cert.Certificate{leaf})
	return s.best
}

type search struct {
	pool, anchors *Pool
	at            time.Time
	best          Path
	bestRank      rank
	tries         int
}

type rank struct {
	anchored, sound, complete bool
	length                    int
}

func (r rank) beats(o rank) bool {
	switch {
	case r.anchored != o.anchored:
		return r.anchored
	case r.complete != o.complete:
		return r.complete
	case r.sound != o.sound:
		return r.sound
	case r.complete:
		return r.length < o.length
	}
	return r.length > o.length
}

// extend tries every issuer of the last certificate, depth first.
func (s *search) extend(path []*cert.Certificate) {
	s.tries++
	last := path[len(path)-1]
	anchored := s.anchors.Has(last)
	if anchored || last.SelfSigned() {
		s.offer(path, anchored, true, nil)
		if anchored {
			return
		}
	}
	extended := false
	if len(path) < maxDepth && s.tries < maxTries && !last.SelfSigned() {
		for _, issuer := range s.pool.issuers(last, s.anchors) {
			if onPath(path, issuer) {
				continue
			}
			extended = true
			s.extend(append(path[:len(path):len(path)], issuer))
		}
	}
	if !extended && !last.SelfSigned() {
		s.offer(path, false, false, missing(last))
	}
}

func (s *search) offer(path []*cert.Certificate, anchored, complete bool, lacks *Missing) {
	candidate := Path{Certificates: path, Complete: complete, Anchored: anchored, Missing: lacks}
	r := rank{anchored: anchored, complete: complete, length: len(path), sound: len(faults(path, s.at)) == 0}
	if s.best.Certificates == nil || r.beats(s.bestRank) {
		s.best, s.bestRank = candidate, r
	}
}

// onPath reports whether the path already goes through this authority: the same
// name and key, be it in another, cross-signed certificate.
func onPath(path []*cert.Certificate, c *cert.Certificate) bool {
	for _, p := range path {
		if p.SHA256 == c.SHA256 ||
			p.SubjectKey() == c.SubjectKey() && p.SameKey(c.RawSubjectPublicKeyInfo) {
			return true
		}
	}
	return false
}

func missing(last *cert.Certificate) *Missing {
	x := last.X509()
	return &Missing{
		Subject: x.Issuer.String(), KeyID: hex.EncodeToString(last.AuthorityKeyId),
		URLs: x.IssuingCertificateURL,
	}
}
