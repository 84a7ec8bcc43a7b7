package monitor

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/wire"
)

// BenchmarkReadingsKept measures what it costs to judge and store a reading, in a
// fleet of 1,000 slots and of 20,000: one that says what the one before said, and
// one that is new. Beside it stands the price of a bare handshake, client and
// server, measured in the same run.
func BenchmarkReadingsKept(b *testing.B) {
	handshake := bareHandshake(b)
	for _, slots := range []int{1_000, 20_000} {
		b.Run(fmt.Sprint(slots), func(b *testing.B) {
			db, err := store.Open(b.Context(), filepath.Join(b.TempDir(), "freshseal.db"))
			if err != nil {
				b.Fatal(err)
			}
			defer db.Close()
			clock := func() time.Time { return testkit.Now }
			s := New(b.Context(), db, access.New(db, nil, nil, clock), nil, slog.New(slog.DiscardHandler), clock)
			defer s.Wait()
			rows, leaves := fleetOf(b, s, slots)
			pass := func() time.Duration {
				begin := cpu()
				keep := recorder{s: s}
				for i, row := range rows {
					leaf := leaves[i%len(leaves)]
					if err := keep.take(b.Context(), row.ToRead(),
						Sight{Reading: wire.Reading{At: testkit.Now.Add(time.Duration(i+1) * time.Millisecond),
							Chain: leaf, Version: "TLS 1.3"}}); err != nil {
						b.Fatal(err)
					}
				}
				if err := keep.flush(context.Background()); err != nil {
					b.Fatal(err)
				}
				return (cpu() - begin) / time.Duration(len(rows))
			}
			first := pass()
			if rows, err = s.store.Slots.(store.Slots).List(b.Context()); err != nil {
				b.Fatal(err)
			}
			same := pass()
			for b.Loop() {
			}
			b.ReportMetric(float64(first.Microseconds()), "first-µs")
			b.ReportMetric(float64(same.Nanoseconds())/1000, "unchanged-µs")
			b.ReportMetric(float64(same)/float64(handshake), "unchanged/handshake")
			b.ReportMetric(float64(first)/float64(handshake), "first/handshake")
		})
	}
}

// fleetOf fills a service with slots whose leaves come from a few authorities.
func fleetOf(b *testing.B, s *Service, slots int) ([]store.Slot, [][]*cert.Certificate) {
	b.Helper()
	root := testkit.Root(b, "Root")
	if _, err := s.AddAnchors(b.Context(), Fleet, root.PEM(), problem.Any); err != nil {
		b.Fatal(err)
	}
	middle := root.Below(b, "Middle")
	var leaves [][]*cert.Certificate
	for i := range 500 {
		leaves = append(leaves,
			[]*cert.Certificate{middle.Leaf(b, fmt.Sprintf("gate-%d.tidewrack.example", i)).Certificate,
				middle.Certificate})
	}
	for from := 0; from < slots; from += 1000 {
		var devices []store.NewDevice
		for i := from; i < from+1000; i++ {
			d := store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%d", i), Address: "192.0.2.1"}}
			d.Settings.V, d.Tags.V = map[string]string{}, []string{}
			d.Slots = []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443, Protocol: "tls"}}
			devices = append(devices, d)
		}
		if err := s.store.Devices.(store.Devices).Add(b.Context(), devices); err != nil {
			b.Fatal(err)
		}
	}
	rows, err := s.store.Slots.(store.Slots).List(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	return rows, leaves
}

// bareHandshake is the processor time of one handshake of crypto/tls, both sides.
func bareHandshake(b *testing.B) time.Duration {
	b.Helper()
	leaf := testkit.Root(b, "bare")
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key}}}
	const times = 200
	begin := cpu()
	for range times {
		here, there := net.Pipe()
		go func() {
			server := tls.Server(there, config)
			server.Handshake()
		}()
		client := tls.Client(here, &tls.Config{InsecureSkipVerify: true})
		if err := client.Handshake(); err != nil {
			b.Fatal(err)
		}
		here.Close()
		there.Close()
	}
	return (cpu() - begin) / times
}

// cpu is the processor time of this process so far.
func cpu() time.Duration {
	var used syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &used)
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}
