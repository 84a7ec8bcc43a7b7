package wire_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/standin/daemon"
	"freshseal/wire"
)

// listen serves connections with serve until the test ends.
func listen(t testing.TB, serve func(net.Conn)) wire.Target {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	daemon.Serve(t, l, serve)
	_, port, _ := net.SplitHostPort(l.Addr().String())
	n, _ := strconv.Atoi(port)
	return wire.Target{Address: "127.0.0.1", Port: n, ServerName: "gate.tidewrack.example"}
}

func reader() wire.Reader {
	return wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 2 * time.Second}
}

// serveTLS is a box with a chain that no client trusts, an expired leaf included.
func serveTLS(t testing.TB, change func(*tls.Config)) wire.Target {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		c.NotAfter = testkit.Now.AddDate(0, 0, -1)
	})
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw, root.Raw},
		PrivateKey: leaf.Key}}}
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

// A box that writes its certificate with a program of its own: crypto/tls refuses
// it unseen, and its owner must see it all the same.
func TestACertificateThatStrictReadersRefuseIsRead(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	odd := root.Odd(t, leaf.Raw, []byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 3})
	serve := func(most uint16) wire.Target {
		return serveTLS(t, func(c *tls.Config) {
			c.MaxVersion = most
			c.Certificates = []tls.Certificate{{Certificate: [][]byte{odd, root.Raw}, PrivateKey: leaf.Key}}
		})
	}
	r := reader().Read(t.Context(), serve(tls.VersionTLS12))
	if r.Why != nil || len(r.Chain) != 2 || r.Leaf().Refused == "" ||
		r.Leaf().CommonName() != "gate.tidewrack.example" || r.Version != "TLS 1.2" || r.Suite == "" {
		t.Errorf("%d certificates, %q, %v", len(r.Chain), r.Version, r.Why)
	}
	if r := reader().Read(t.Context(), serve(tls.VersionTLS13)); r.Why != nil || len(r.Chain) != 2 {
		t.Errorf("a box that speaks both: %d certificates, %v", len(r.Chain), r.Why)
	}
}

func TestWhyASlotCannotBeRead(t *testing.T) {
	closed := listen(t, func(net.Conn) {})
	gone, _ := net.Listen("tcp", "127.0.0.1:0")
	_, port, _ := net.SplitHostPort(gone.Addr().String())
	gone.Close()
	n, _ := strconv.Atoi(port)
	for code, target := range map[string]wire.Target{
		"refused":    {Address: "127.0.0.1", Port: n},
		"silent-tls": listen(t, func(conn net.Conn) { time.Sleep(3 * time.Second) }),
		"no-tls": listen(t, func(conn net.Conn) {
			conn.Write([]byte("220 mail.tidewrack.example ready\r\n"))
			time.Sleep(time.Second)
		}),
		"closed": closed,
		"alert": serveTLS(t, func(c *tls.Config) {
			c.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) { return nil, context.Canceled }
		}),
		"key-not-held": serveTLS(t, func(c *tls.Config) { c.Certificates[0].PrivateKey = testkit.NewKey(t) }),
		"unknown-host": {Address: "nobody.invalid", Port: 443},
	} {
		r := reader().Read(t.Context(), target)
		if r.Why == nil || r.Why.Code != code || r.Why.Remedy == "" || len(r.Chain) > 0 {
			t.Errorf("%s: %+v", code, r.Why)
		}
	}
}

// BenchmarkRead reads many slots at once and prints how its rate compares with
// that of bare TLS handshakes with the same servers, made in the same run and in
// turn with the readings.
func BenchmarkRead(b *testing.B) {
	for _, width := range []int{64, 512} {
		b.Run(fmt.Sprintf("at-once-%d", width), func(b *testing.B) {
			root := testkit.Root(b, "Quay Root")
			leaf := root.Leaf(b, "gate.tidewrack.example")
			config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw},
				PrivateKey: leaf.Key}}}
			target := listen(b, func(conn net.Conn) { tls.Server(conn, config).Handshake() })
			targets := make([]wire.Target, 1024)
			for i := range targets {
				targets[i] = target
			}
			r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 30 * time.Second}
			var reading, bare time.Duration
			for b.Loop() {
				begun := time.Now()
				r.ReadAll(b.Context(), slices.Values(targets), wire.Many{Fast: width},
					func(_ wire.Numbered, seen wire.Reading) {
						if seen.Why != nil {
							b.Error(seen.Why)
						}
					})
				reading += time.Since(begun)
				begun = time.Now()
				handshakes(b, target.String(), len(targets), width)
				bare += time.Since(begun)
			}
			b.ReportMetric(float64(b.N*len(targets))/reading.Seconds(), "readings/s")
			b.ReportMetric(bare.Seconds()/reading.Seconds(), "x-bare-handshakes")
		})
	}
}

// handshakes is the limit: nothing but crypto/tls with its defaults.
func handshakes(b *testing.B, address string, n, width int) {
	var wg sync.WaitGroup
	places := make(chan struct{}, width)
	for range n {
		places <- struct{}{}
		wg.Go(func() {
			conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
			if err != nil {
				b.Error(err)
			} else {
				conn.Close()
			}
			<-places
		})
	}
	wg.Wait()
}
