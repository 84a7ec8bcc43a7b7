package monitor

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
)

// serveMany listens with many certificates, one for each name, and answers until the end.
func serveMany(b *testing.B, names int) (port int, address string) {
	b.Helper()
	root := testkit.Root(b, "Quay Root")
	middle := root.Below(b, "Quay Middle")
	pairs := map[string]*tls.Certificate{}
	for i := range names {
		name := fmt.Sprintf("gate-%d.tidewrack.example", i)
		leaf := middle.Leaf(b, name, func(c *x509.Certificate) { c.NotAfter = testkit.Now.AddDate(0, 10, 0) })
		pairs[name] = &tls.Certificate{Certificate: [][]byte{leaf.Raw, middle.Raw}, PrivateKey: leaf.Key}
	}
	config := &tls.Config{GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		return pairs[hello.ServerName], nil
	}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	var open sync.WaitGroup
	open.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(30 * time.Second))
				tls.Server(conn, config).Handshake()
			})
		}
	})
	b.Cleanup(func() { l.Close(); open.Wait() })
	_, text, _ := net.SplitHostPort(l.Addr().String())
	port, _ = strconv.Atoi(text)
	return port, l.Addr().String()
}

// BenchmarkSweep reads a fleet through the whole path, wire, judgement and database, 512 at
// once, and prints the rate against a loop of bare handshakes of crypto/tls with its defaults, made
// in turn with it: the first time, and when nothing has changed.
func BenchmarkSweep(b *testing.B) {
	const slots, names, width = 5_000, 500, 512
	port, address := serveMany(b, names)
	db, err := store.Open(b.Context(), filepath.Join(b.TempDir(), "freshseal.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	clock := func() time.Time { return testkit.Now }
	dial := (&net.Dialer{}).DialContext
	ways := access.New(db, nil, dial, clock)
	s := New(b.Context(), db, ways, dial, slog.New(slog.DiscardHandler), time.Now)
	defer s.Wait()
	s.width = width
	root := testkit.Root(b, "Another Root")
	if _, err := s.AddAnchors(b.Context(), Fleet, root.PEM(), problem.Any); err != nil {
		b.Fatal(err)
	}
	for from := 0; from < slots; from += 1000 {
		var devices []store.NewDevice
		for i := from; i < from+1000; i++ {
			d := store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%d", i), Site: fmt.Sprint("site ", i%20),
				Address: "127.0.0.1"}}
			d.Settings.V, d.Tags.V = map[string]string{}, []string{}
			d.Slots = []store.Slot{{Name: "web", Address: "127.0.0.1", Port: port, Protocol: "tls",
				ServerName: fmt.Sprintf("gate-%d.tidewrack.example", i%names)}}
			devices = append(devices, d)
		}
		if err := db.Devices.Add(b.Context(), devices); err != nil {
			b.Fatal(err)
		}
	}
	sweep := func() time.Duration {
		begun := time.Now()
		if read, unreachable, err := s.ReadAll(b.Context(), "", nil); err != nil || read != slots || unreachable > 0 {
			b.Fatalf("%d read, %d unreachable, %v", read, unreachable, err)
		}
		return time.Since(begun)
	}
	bare := func() time.Duration { return bareRound(b, address, slots, names, width) }
	first := sweep()
	beside := bare()
	var same, handshakes time.Duration
	for b.Loop() {
		same += sweep()
		handshakes += bare()
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	b.ReportMetric(float64(beside)/float64(first), "first-x-bare")
	b.ReportMetric(float64(handshakes)/float64(same), "unchanged-x-bare")
	b.ReportMetric(float64(b.N*slots)/same.Seconds(), "readings/s")
	b.ReportMetric(float64(memory.Sys>>20), "MB")
}

// bareRound is the limit: so many handshakes of crypto/tls with its defaults.
func bareRound(b *testing.B, address string, n, names, width int) time.Duration {
	b.Helper()
	begun := time.Now()
	var wg sync.WaitGroup
	places := make(chan struct{}, width)
	for i := range n {
		places <- struct{}{}
		wg.Go(func() {
			defer func() { <-places }()
			dialer := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true,
				ServerName: fmt.Sprintf("gate-%d.tidewrack.example", i%names)}}
			conn, err := dialer.DialContext(context.Background(), "tcp", address)
			if err != nil {
				b.Error(err)
				return
			}
			conn.Close()
		})
	}
	wg.Wait()
	return time.Since(begun)
}
