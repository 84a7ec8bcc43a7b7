package wire_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"strconv"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/wire"
)

// listen serves connections with serve until the test ends.
func listen(t testing.TB, serve func(net.Conn)) wire.Target {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); serve(conn) }()
		}
	}()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	n, _ := strconv.Atoi(port)
	return wire.Target{Address: "127.0.0.1", Port: n, ServerName: "gate.tidewrack.example"}
}

func reader() wire.Reader {
	return wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: time.Second}
}

// serveTLS is a box with a chain that no client trusts, a lapsed leaf included.
func serveTLS(t testing.TB, change func(*tls.Config)) wire.Target {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) { c.NotAfter = testkit.Now.AddDate(0, 0, -1) })
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw, root.Raw}, PrivateKey: leaf.Key}}}
	change(config)
	return listen(t, func(conn net.Conn) {
		server := tls.Server(conn, config)
		if server.Handshake() == nil {
			server.Read(make([]byte, 1))
		}
	})
}

func TestWhateverABoxServesIsRead(t *testing.T) {
	for version, change := range map[string]func(*tls.Config){
		"TLS 1.3": func(*tls.Config) {},
		"TLS 1.2": func(c *tls.Config) { c.MaxVersion = tls.VersionTLS12 },
		"TLS 1.0": func(c *tls.Config) { c.MinVersion, c.MaxVersion = tls.VersionTLS10, tls.VersionTLS10 },
	} {
		r := reader().Read(t.Context(), serveTLS(t, change))
		if r.Why != nil || len(r.Chain) != 2 || r.Version != version || r.Suite == "" {
			t.Errorf("%s: %d certificates, %q, %v", version, len(r.Chain), r.Version, r.Why)
		}
	}
}

func TestWhyASlotCannotBeRead(t *testing.T) {
	closed := listen(t, func(net.Conn) {})
	gone, _ := net.Listen("tcp", "127.0.0.1:0")
	_, port, _ := net.SplitHostPort(gone.Addr().String())
	gone.Close()
	n, _ := strconv.Atoi(port)
	for code, target := range map[string]wire.Target{
		"refused": {Address: "127.0.0.1", Port: n},
		"silent":  listen(t, func(conn net.Conn) { time.Sleep(3 * time.Second) }),
		"no-tls": listen(t, func(conn net.Conn) {
			conn.Write([]byte("220 mail.tidewrack.example ready\r\n"))
			time.Sleep(time.Second)
		}),
		"closed": closed,
		"alert": serveTLS(t, func(c *tls.Config) {
			c.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) { return nil, context.Canceled }
		}),
		"unknown-host": {Address: "nobody.invalid", Port: 443},
	} {
		r := reader().Read(t.Context(), target)
		if r.Why == nil || r.Why.Code != code || r.Why.Remedy == "" || len(r.Chain) > 0 {
			t.Errorf("%s: %+v", code, r.Why)
		}
	}
}
