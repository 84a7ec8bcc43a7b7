package monitor

import (
	"context"
	"strings"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/service/problem"
	"freshseal/store/chains"
)

// mostListed is how many authorities are listed at once.
const mostListed = 1000

// Authorities returns the pool, or those whose subject or SHA-256 contains a text.
func (s *Trust) Authorities(ctx context.Context, text string) (contract.Authorities, error) {
	out := contract.Authorities{Most: chains.MostAuthorities, Items: []cert.Facts{}}
	all, err := s.store.Chains.Authorities(ctx)
	if err != nil {
		return out, err
	}
	out.Count = len(all)
	text = strings.ToLower(text)
	for _, c := range all {
		if len(out.Items) < mostListed && strings.Contains(strings.ToLower(c.Subject()+" "+c.SHA256), text) {
			out.Items = append(out.Items, c.Facts())
		}
	}
	return out, nil
}

// RemoveAuthority takes a certificate out of the pool, by its SHA-256. Slots are
// judged without it from then on.
func (s *Trust) RemoveAuthority(ctx context.Context, sha256 string) error {
	if err := s.store.Chains.RemoveAuthority(ctx, strings.ToLower(sha256)); err != nil {
		return problem.Missing(err, next.ListAuthorities, "no authority has the SHA-256 %s", sha256)
	}
	return s.rejudging.judgeAgain(ctx)
}
