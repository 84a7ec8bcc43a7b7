// Package inspect gives the account of a pile that nobody waits for: what each
// file holds, and how good the chain of each leaf in it is.
//
//	files  →  pile.Sort  →  chain.Complete  →  chain.Judge  →  Account
package inspect

import (
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
)

// Terms are what the chains are judged by.
type Terms struct {
	Anchors []*cert.Certificate // none: any self-signed root ends a chain, and no chain is valid
	Leaves  []*cert.Certificate // to judge; none: those of the pile
	Names   []string            // each leaf must be good for
	At      time.Time

	Passphrases []string // of PKCS #12 stores and locked keys
}

// Account is what Files tells.
type Account struct {
	Files  []pile.Account `json:"files"`
	Chains []Chain        `json:"chains"`
}

// Chain is the best path of one leaf, and what is wrong with it.
type Chain struct {
	Leaf     string   `json:"leaf"`     // SHA-256
	Subject  string   `json:"subject"`  // of the leaf
	Path     []string `json:"path"`     // SHA-256, leaf first, the root last where it is known
	Complete bool     `json:"complete"` // nothing is missing up to a root
	// RFC 5280 path to one of the anchors at that time; policies and revocation aside
	Valid    bool              `json:"valid"`
	Findings []finding.Finding `json:"findings"`

	Drawn chain.Path `json:"-"`
}

// Wrong reports whether something in the account is in the way: an error in a chain,
// or a file of which nothing could be used.
func (a Account) Wrong() bool {
	for _, c := range a.Chains {
		if len(finding.Errors(c.Findings)) > 0 {
			return true
		}
	}
	for _, f := range a.Files {
		for _, item := range f.Holds {
			if item.Kind == pile.Junk {
				return true
			}
		}
	}
	return false
}

// Files sorts files and judges the chain of every leaf.
func Files(files []pile.File, t Terms) (Account, error) {
	sorted, err := pile.Sort(files, pile.Options{Passphrases: t.Passphrases})
	if err != nil {
		return Account{}, err
	}
	out := Account{Files: sorted, Chains: []Chain{}}
	all := pile.Certificates(sorted)
	leaves := t.Leaves
	if leaves == nil {
		leaves = pickLeaves(all)
	}
	pool, anchors := chain.NewPool(all...), chain.NewPool(t.Anchors...)
	for _, leaf := range leaves {
		out.Chains = append(out.Chains, judge(leaf, pool, anchors, t))
	}
	return out, nil
}

func judge(leaf *cert.Certificate, pool, anchors *chain.Pool, t Terms) Chain {
	path := chain.Complete(leaf, pool, anchors, t.At)
	found := []finding.Finding{}
	for _, f := range chain.Judge(path, chain.Terms{At: t.At, Names: t.Names}) {
		if f.Code == finding.AnchorUnknown && len(t.Anchors) == 0 {
			continue // nobody said which roots are trusted
		}
		found = append(found, f)
	}
	return Chain{Leaf: leaf.SHA256, Subject: leaf.Subject(), Path: path.Fingerprints(), Complete: path.Complete,
		Valid: chain.Valid(path, t.At), Findings: found, Drawn: path}
}

// pickLeaves returns the certificates that are no authorities; in a pile of
// authorities alone, those that signed none of the others.
func pickLeaves(all []*cert.Certificate) []*cert.Certificate {
	var leaves []*cert.Certificate
	for _, c := range all {
		if !c.IsAuthority() {
			leaves = append(leaves, c)
		}
	}
	if len(leaves) > 0 {
		return leaves
	}
	signs := map[string]bool{}
	pool := chain.NewPool(all...)
	for _, c := range all {
		for _, issuer := range pool.Issuers(c) {
			if issuer != c {
				signs[issuer.SHA256] = true
			}
		}
	}
	for _, c := range all {
		if !signs[c.SHA256] {
			leaves = append(leaves, c)
		}
	}
	return leaves
}
