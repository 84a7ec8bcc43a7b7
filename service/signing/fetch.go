package signing

import (
	"context"
	"errors"

	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/service/monitor"
	"freshseal/store"
)

// Fetcher downloads an issuer from its published address (RFC 5280, 4.2.2.1).
type Fetcher func(ctx context.Context, url string) ([]byte, error)

const mostFetches = 4 // for one leaf: chains are short

// fetchMissing gets the issuer that a path lacks from where the certificate
// below says it is, if the administrator allows that, and says whether the pool
// holds more now.
func (s *Service) fetchMissing(ctx context.Context, path chain.Path, p monitor.Pools) (bool, error) {
	if s.fetch == nil || path.Missing == nil {
		return false, nil
	}
	for _, url := range path.Missing.URLs {
		if p.Tried[url] {
			continue // a pile may have thousands that lack the same
		}
		p.Tried[url] = true
		content, err := s.fetch(ctx, url)
		if err != nil {
			s.log.Warn("an issuer could not be fetched", "url", url, "error", err)
			continue
		}
		sorted, err := pile.Sort([]pile.File{{Name: url, Content: content}}, pile.Options{})
		if err != nil {
			continue
		}
		authorities, _ := split(pile.Certificates(sorted))
		before := len(p.Pool.All())
		if p.Pool.Add(authorities...); len(p.Pool.All()) > before {
			s.log.Info("issuer fetched", "url", url)
			defer s.monitor.Forget()
			if err := s.store.Chains.AddAuthorities(ctx, authorities); !errors.Is(err, store.ErrTooMany) {
				return true, err
			}
			return true, nil // it serves this pile, and is not kept
		}
	}
	return false, nil
}
