package wire_test

import (
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"freshseal/wire"
)

func TestInsideAddressesAreRefusedHoweverTheyAreWritten(t *testing.T) {
	g := wire.Guard{Inside: true, Never: []netip.Prefix{netip.MustParsePrefix("203.0.113.0/24")},
		Except: []netip.Prefix{netip.MustParsePrefix("10.9.0.0/16")}}
	for address, refused := range map[string]bool{
		"127.0.0.1": true, "127.9.9.9": true, "::1": true, "::ffff:127.0.0.1": true, "0.0.0.0": true, "::": true,
		"10.1.2.3": true, "10.9.2.3": false, "::ffff:10.9.2.3": false,
		"172.16.0.1": true, "192.168.1.1": true, "169.254.169.254": true, "fe80::1%eth0": true, "fd00::1": true,
		"ff02::1": true, "224.0.0.1": true, "100.64.1.1": true, "255.255.255.255": true,
		"203.0.113.9": true, "::ffff:203.0.113.9": true, "198.51.100.1": false, "2001:db8::1": false, "8.8.8.8": false,
		"0.1.2.3": true, "198.18.0.1": true, "198.19.255.255": true, "240.0.0.1": true, "192.0.0.8": true,
		"fec0::1":           true,
		"64:ff9b::10.1.2.3": true, "64:ff9b::8.8.8.8": false, "64:ff9b::203.0.113.9": true, "64:ff9b:1::8.8.8.8": true,
		"2002:a01:203::1": true, "2002:808:808::1": false, "2002:cb00:7109::1": true, // 10.1.2.3, 8.8.8.8, 203.0.113.9
		"2001:0:5ef5:79fb:0:0:f5fe:fdfc": true, "2001:0:5ef5:79fb:0:0:f7f7:f7f7": false, // 10.1.2.3, 8.8.8.8
		"::127.0.0.1": true, "::10.1.2.3": true, "::8.8.8.8": false, "64:ff9b::10.9.2.3": false,
	} {
		if err := g.Refuses(netip.MustParseAddr(address)); (err != nil) != refused {
			t.Errorf("%s: %v", address, err)
		}
	}
	if err := (wire.Guard{}).Refuses(netip.MustParseAddr("127.0.0.1")); err != nil {
		t.Errorf("without rules: %v", err)
	}
}

// An issuer is fetched from where the administrator allows; a redirect to somewhere
// inside is not followed, nor a name that leads there.
func TestAnIssuerIsNotFetchedFromInside(t *testing.T) {
	asked := 0
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Write([]byte("secret"))
	}))
	defer inside.Close()
	_, port, _ := net.SplitHostPort(inside.Listener.Addr().String())
	l, err := net.Listen("tcp", "127.20.91.1:0")
	if err != nil {
		t.Fatal(err)
	}
	outside := &httptest.Server{Listener: l,
		Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/away" {
				http.Redirect(w, r, inside.URL, http.StatusFound)
				return
			}
			w.Write([]byte("an issuer"))
		})}}
	outside.Start()
	defer outside.Close()
	f := wire.Published{Guard: wire.Guard{Inside: true,
		Except: []netip.Prefix{netip.MustParsePrefix("127.20.91.0/24")}}}
	if got, err := f.Fetch(t.Context(), outside.URL+"/ca.crt"); err != nil || string(got) != "an issuer" {
		t.Errorf("from where it may be: %v, %q", err, got)
	}
	for _, url := range []string{inside.URL, outside.URL + "/away", "http://localhost:" + port + "/",
		"http://[::ffff:127.0.0.1]:" + port + "/", "file:///etc/passwd", "gopher://127.0.0.1/"} {
		if got, err := f.Fetch(t.Context(), url); err == nil || strings.Contains(string(got), "secret") {
			t.Errorf("%s gives %q, %v", url, got, err)
		}
	}
	if asked != 0 {
		t.Errorf("the inside was asked %d times", asked)
	}
}
