package pin_test

import (
	"crypto/tls"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/pin"
)

// A server is accepted by its certificate alone, again when the session is resumed; another certificate is refused
// before the request is sent.
func TestOnlyTheRecordedCertificateIsAccepted(t *testing.T) {
	asked := 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer server.Close()
	recorded := cert.Fingerprint(server.Certificate().Raw)
	for name, c := range map[string]struct {
		accept func(string) error
		asked  int
	}{
		"recorded":           {pin.To(recorded), 2},
		"one of two":         {pin.To(strings.Repeat("00", 32), recorded), 2},
		"in capital letters": {pin.To(strings.ToUpper(recorded)), 2},
		"another":            {pin.To(strings.Repeat("00", 32)), 0},
		"none is recorded":   {pin.To(), 0},
		"an empty one":       {pin.To(""), 0},
		"only looked at":     {pin.Unknown, 2},
	} {
		asked = 0
		config := pin.Config(c.accept)
		config.ClientSessionCache = tls.NewLRUClientSessionCache(1)
		for range 2 {
			client := http.Client{Transport: &http.Transport{TLSClientConfig: config, DisableKeepAlives: true}}
			answer, err := client.Get(server.URL)
			var changed pin.Changed
			if err == nil {
				answer.Body.Close()
			} else if !errors.As(err, &changed) || changed.Shown != recorded {
				t.Errorf("%s: %v", name, err)
			}
		}
		if asked != c.asked {
			t.Errorf("%s: it was asked %d times", name, asked)
		}
	}
}
