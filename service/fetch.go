package service

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"freshseal/core/chain"
	"freshseal/core/pile"
)

// Fetcher gets what an authority says stands at an address (RFC 5280, 4.2.2.1).
type Fetcher func(ctx context.Context, url string) ([]byte, error)

// Limits of fetching: an intermediate has two kilobytes, and a chain few of them.
const (
	mostFetched  = 256 << 10
	fetchLimit   = 5 * time.Second
	mostFetches  = 4 // for one leaf
	fetchedBytes = "application/pkix-cert, application/pkcs7-mime, application/x-x509-ca-cert, */*"
)

// FetchHTTP is the fetcher that asks over HTTP, as such addresses want it: what
// comes is proven by its signature and not by how it came.
func FetchHTTP(ctx context.Context, url string) ([]byte, error) {
	if !strings.HasPrefix(url, "http://") && !strings.HasPrefix(url, "https://") {
		return nil, fmt.Errorf("%q is no HTTP address", url)
	}
	ctx, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", url, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", fetchedBytes)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s", url, answer.Status)
	}
	return io.ReadAll(io.LimitReader(answer.Body, mostFetched))
}

// fetchMissing gets the issuer that a path lacks from where the certificate
// below says it is, if the administrator allows that, and says whether the pool
// holds more now.
func (s *Service) fetchMissing(ctx context.Context, path chain.Path, p pools) (bool, error) {
	if s.options.Fetch == nil || path.Missing == nil {
		return false, nil
	}
	for _, url := range path.Missing.URLs {
		if p.tried[url] {
			continue // a pile may have thousands that lack the same
		}
		p.tried[url] = true
		content, err := s.options.Fetch(ctx, url)
		if err != nil {
			s.options.Log.Warn("an issuer could not be fetched", "url", url, "error", err)
			continue
		}
		sorted, err := pile.Sort([]pile.File{{Name: url, Content: content}}, pile.Options{})
		if err != nil {
			continue
		}
		authorities, _ := split(pile.Certificates(sorted))
		before := len(p.pool.All())
		if p.pool.Add(authorities...); len(p.pool.All()) > before {
			s.options.Log.Info("issuer fetched", "url", url)
			defer s.forget()
			return true, s.store.AddAuthorities(ctx, authorities)
		}
	}
	return false, nil
}
