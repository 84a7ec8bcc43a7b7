package wire

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// Limits of fetching: an intermediate has two kilobytes.
const (
	mostFetched   = 256 << 10
	mostRedirects = 3
	fetchLimit    = 5 * time.Second
	fetchedBytes  = "application/pkix-cert, application/pkcs7-mime, application/x-x509-ca-cert, */*"
)

// Issuers fetches issuers over HTTP.
type Issuers struct {
	Guard Guard // where not to
}

// Fetch gets what an authority publishes at the address that a certificate names for
// its issuer (RFC 5280, 4.2.2.1): at most 256 kB, within 5 s. Plain HTTP is usual
// there: what comes is proven by its signature and not by how it came. The address is
// a foreigner's, so the guard is asked for each connection.
func (f Issuers) Fetch(ctx context.Context, url string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", url, nil)
	if err != nil {
		return nil, err
	}
	if r.URL.Scheme != "http" && r.URL.Scheme != "https" {
		return nil, fmt.Errorf("%q is not an HTTP address", url)
	}
	r.Header.Set("Accept", fetchedBytes)
	dialer := net.Dialer{Control: f.Guard.Control}
	client := http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true},
		CheckRedirect: func(_ *http.Request, via []*http.Request) error {
			if len(via) > mostRedirects {
				return fmt.Errorf("more than %d redirects", mostRedirects)
			}
			return nil
		},
	}
	answer, err := client.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s", url, answer.Status)
	}
	return io.ReadAll(io.LimitReader(answer.Body, mostFetched))
}
