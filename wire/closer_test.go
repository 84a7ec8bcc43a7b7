package wire_test

import (
	"crypto/tls"
	"io"
	"log"
	"net"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/protocol"
	"freshseal/core/testkit"
	"freshseal/standin/daemon"
	"freshseal/wire"
)

// A server may hold a certificate for each kind of key; usual clients see only one of them.
func TestASecondCertificateIsSeen(t *testing.T) {
	dir := t.TempDir()
	for name, how := range map[string]string{"rsa": keys["rsa"], "p256": keys["p256"]} {
		openssl(t, dir, strings.Fields(strings.Replace(how, "%s", name+".key", 1))...)
		openssl(t, dir, "req", "-x509", "-key", name+".key", "-out", name+".pem", "-days", "30", "-subj",
			"/O=Brinewell/CN="+name+".invalid")
	}
	path := func(name string) string { return filepath.Join(dir, name) }
	for about, c := range map[string]struct {
		args   string
		second string
	}{
		"both": {"-dcert " + path("p256.pem") + " -dkey " + path("p256.key"),
			"p256.invalid rsa.invalid"},
		"both by TLS 1.2": {"-tls1_2 -dcert " + path("p256.pem") + " -dkey " + path("p256.key"),
			"p256.invalid rsa.invalid"},
		"one": {"", ""},
		"both, by TLS 1.3 alone": {"-tls1_3 -dcert " + path("p256.pem") + " -dkey " + path("p256.key"),
			"p256.invalid rsa.invalid"},
		"one, by TLS 1.3 alone": {"-tls1_3", ""},
		"both, with SHA-384": {"-tls1_3 -ciphersuites TLS_AES_256_GCM_SHA384 -groups P-256 -dcert " +
			path("p256.pem") + " -dkey " + path("p256.key"), "p256.invalid rsa.invalid"},
		"both, with P-384": {"-tls1_3 -groups P-384 -dcert " + path("p256.pem") + " -dkey " +
			path("p256.key"), "p256.invalid rsa.invalid"},
		"both, with ChaCha20": {"-tls1_3 -ciphersuites TLS_CHACHA20_POLY1305_SHA256 -dcert " + path("p256.pem") +
			" -dkey " + path("p256.key"), "p256.invalid rsa.invalid"},
		"both, and clients too": {"-tls1_3 -Verify 1 -dcert " + path("p256.pem") + " -dkey " + path("p256.key"),
			"p256.invalid rsa.invalid"},
		"one that wants a partner": {"-Verify 1 -verify_return_error", ""},
	} {
		t.Run(about, func(t *testing.T) {
			t.Parallel()
			port := daemon.FreePort(t, "127.20.90.6")
			at := "127.20.90.6:" + port
			daemon.Start(t, at, "openssl",
				append([]string{"s_server", "-quiet", "-accept", at, "-cert", path("rsa.pem"), "-key",
					path("rsa.key")}, strings.Fields(c.args)...)...)
			n, _ := strconv.Atoi(port)
			target := wire.Target{Address: "127.20.90.6", Port: n, Protocol: protocol.TLS,
				ServerName: "gate.tidewrack.example", Closer: true}
			r := reader().Read(t.Context(), target)
			if r.Closer == nil || r.Closer.Clock != nil {
				t.Fatalf("%+v, %+v", r.Why, r.Closer)
			}
			got := ""
			if len(r.Closer.Second) > 0 {
				got = r.Closer.Second[0].CommonName()
			}
			if got == r.Leaf().CommonName() || got == "" != (c.second == "") || !strings.Contains(c.second, got) {
				t.Errorf("it serves %s, and besides %q", r.Leaf().CommonName(), got)
			}
			// What was found is also read by a whole handshake that takes nothing else.
			for _, kind := range []cert.KeyKind{cert.RSA, cert.ECDSA} {
				target.Closer, target.Kind = false, kind
				as := reader().Read(t.Context(), target)
				had := kind == cert.RSA || c.second != ""
				if had != (as.Leaf() != nil) {
					t.Errorf("with %s: %+v", kind, as)
				} else if had {
					if got, _ := as.Leaf().KeySize(); got != kind {
						t.Errorf("it was read as %s with %s", kind, got)
					}
				}
			}
		})
	}
}

// By TLS 1.3 one kind of key is asked for by hand. A server that shows a certificate whose key it does not hold is not
// believed there either.
func TestAServerWithoutTheKeyIsNotBelieved(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf, stranger := root.Leaf(t, "gate.tidewrack.example"), root.Leaf(t, "stranger.tidewrack.example")
	for about, c := range map[string]struct {
		key  any
		seen bool
	}{"its own key": {leaf.Key, true}, "another key": {stranger.Key, false}} {
		config := &tls.Config{MinVersion: tls.VersionTLS13,
			Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: c.key}}}
		l, err := tls.Listen("tcp", "127.20.90.6:0", config)
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() { defer conn.Close(); conn.(*tls.Conn).Handshake() }()
			}
		}()
		port := l.Addr().(*net.TCPAddr).Port
		r := reader().Read(t.Context(), wire.Target{Address: "127.20.90.6", Port: port, Protocol: protocol.TLS,
			ServerName: "gate.tidewrack.example", Kind: cert.ECDSA})
		if (r.Why == nil && r.Leaf() != nil) != c.seen {
			t.Errorf("with %s: %+v", about, r)
		}
	}
}

// The clock of a box is known by its HTTP answers, to a second, and is asked for only where
// HTTP is spoken.
func TestTheClockOfABoxIsSeen(t *testing.T) {
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate.tidewrack.example")
	staple := []byte("what stands for a response")
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key,
		OCSPStaple: staple}}}
	for about, c := range map[string]struct {
		answer   http.HandlerFunc
		protocol wire.Protocol
		ahead    time.Duration // about
		known    bool
	}{
		"right":        {func(http.ResponseWriter, *http.Request) {}, protocol.HTTPS, 0, true},
		"years behind": {dated(-20 * 365 * 24 * time.Hour), protocol.HTTPS, -20 * 365 * 24 * time.Hour, true},
		"ahead":        {dated(7 * time.Minute), protocol.HTTPS, 7 * time.Minute, true},
		"a redirect": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/sign-in", http.StatusFound)
		}, protocol.HTTPS, 0, true},
		"no date": {func(w http.ResponseWriter, _ *http.Request) { w.Header()["Date"] = nil }, protocol.HTTPS, 0,
			false},
		"nonsense": {func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Date", "today") },
			protocol.HTTPS, 0, false},
		"endless": {func(w http.ResponseWriter, r *http.Request) {
			conn, _, _ := http.NewResponseController(w).Hijack()
			io.WriteString(conn, "HTTP/1.1 200 OK\r\nX: ")
			for range 10_000 {
				if _, err := io.WriteString(conn, strings.Repeat("x", 1000)); err != nil {
					return
				}
			}
		}, protocol.HTTPS, 0, false},
		"something else": {func(http.ResponseWriter, *http.Request) {
			t.Error("HTTP was spoken with a port that is said to speak only TLS")
		}, protocol.TLS, 0, false},
	} {
		t.Run(about, func(t *testing.T) {
			t.Parallel()
			l, err := tls.Listen("tcp", "127.0.0.1:0", config)
			if err != nil {
				t.Fatal(err)
			}
			server := http.Server{Handler: c.answer, ErrorLog: log.New(io.Discard, "", 0)}
			go server.Serve(l)
			t.Cleanup(func() { server.Close() })
			_, port, _ := net.SplitHostPort(l.Addr().String())
			n, _ := strconv.Atoi(port)
			r := reader().Read(t.Context(), wire.Target{Address: "127.0.0.1", Port: n, Protocol: c.protocol,
				ServerName: "gate.tidewrack.example", Closer: true})
			if r.Closer == nil || c.known != (r.Closer.Clock != nil) || string(r.Closer.Staple) != string(staple) {
				t.Fatalf("%+v, %+v", r.Why, r.Closer)
			}
			if c.known && (*r.Closer.Clock-c.ahead).Abs() > 3*time.Second {
				t.Errorf("it is %s ahead, want %s", *r.Closer.Clock, c.ahead)
			}
		})
	}
}

func dated(ahead time.Duration) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Date", time.Now().Add(ahead).UTC().Format(http.TimeFormat))
	}
}
