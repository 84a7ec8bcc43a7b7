package wire

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// Limits of fetching: an intermediate has two kilobytes, a large revocation list a few megabytes.
const (
	mostFetched   = 256 << 10
	mostRedirects = 3
	fetchLimit    = 5 * time.Second
	listLimit     = 60 * time.Second
	fetchedBytes  = "application/pkix-cert, application/pkcs7-mime, application/x-x509-ca-cert, */*"
)

// Published fetches over HTTP what authorities publish. The address is a foreigner's, so the
// guard is asked for each connection. Plain HTTP is usual there: what comes is proven by its signature
// and not by how it came.
type Published struct {
	Guard Guard // where not to
}

// Fetch gets an issuer from the address that a certificate names for it (RFC 5280, 4.2.2.1): at
// most 256 kB, within 5 s.
func (f Published) Fetch(ctx context.Context, url string) ([]byte, error) {
	return f.get(ctx, "GET", url, nil, http.Header{"Accept": {fetchedBytes}}, mostFetched, fetchLimit)
}

// List gets a revocation list (RFC 5280, 4.2.1.13): at most that many bytes, within a minute; the answer
// must begin within 5 s.
func (f Published) List(ctx context.Context, url string, most int64) ([]byte, error) {
	return f.get(ctx, "GET", url, nil, http.Header{"Accept": {"application/pkix-crl, */*"}}, most, listLimit)
}

// Ask sends a request to an OCSP responder (RFC 6960, A.1) and returns its response: at most
// that many bytes, within 5 s.
func (f Published) Ask(ctx context.Context, url string, request []byte, most int64) ([]byte, error) {
	header := http.Header{"Accept": {"application/ocsp-response"}, "Content-Type": {"application/ocsp-request"}}
	return f.get(ctx, "POST", url, request, header, most, fetchLimit)
}

func (f Published) get(ctx context.Context, method, url string, body []byte, header http.Header, most int64,
	limit time.Duration) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, url, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if r.URL.Scheme != "http" && r.URL.Scheme != "https" {
		return nil, fmt.Errorf("%q is not an HTTP address", url)
	}
	r.Header = header
	dialer := net.Dialer{Control: f.Guard.Control, Timeout: fetchLimit}
	client := http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true,
			TLSHandshakeTimeout: fetchLimit, ResponseHeaderTimeout: fetchLimit},
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
	content, err := io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err == nil && int64(len(content)) > most {
		err = fmt.Errorf("%s answers with more than %d bytes", url, most)
	}
	return content, err
}
