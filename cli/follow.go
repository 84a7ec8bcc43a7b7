package cli

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"freshseal/contract"
	"freshseal/core/pki/cert"
	"freshseal/pin"
)

// follow goes from the pinned certificate to the one that the service shows
// now, if the keys of those in between signed for it, and pins that. Nothing
// secret is sent to a service that is not known yet.
func (c *Client) follow(ctx context.Context) error {
	shown := ""
	asking := http.Client{Transport: &http.Transport{TLSClientConfig: pin.Config(func(sha256 string) error {
		shown = sha256
		return nil
	})}}
	defer asking.CloseIdleConnections()
	r, err := http.NewRequestWithContext(ctx, "GET", strings.TrimSuffix(c.File.URL, "/")+V1+"/succession", nil)
	if err != nil {
		return err
	}
	answer, err := asking.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	var s contract.Succession
	if err := json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(&s); err != nil {
		return err
	}
	if err := cert.Follow(c.File.Certificate, shown, s.Items); err != nil {
		return err
	}
	f := c.File
	f.Certificate = shown
	if err := WriteClientFile(c.path, f); err != nil {
		return err
	}
	Put(c.err, "freshseal: the service has a new certificate, signed for by its old one; pinned now: SHA-256 %s\n",
		shown)
	c.File, c.http = f, NewClient(f).http
	return nil
}
