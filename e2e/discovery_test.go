package e2e

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/standin/daemon"
)

// strangers are the listeners of an undocumented network. They note who was connected to.
type strangers struct {
	t    *testing.T
	port string
	lock sync.Mutex
	met  map[string][]time.Time
}

// at has what is at an address answer each connection.
func (n *strangers) at(address string, answer func(net.Conn)) {
	n.t.Helper()
	l, err := net.Listen("tcp", net.JoinHostPort(address, n.port))
	if err != nil {
		n.t.Fatal(err)
	}
	var open sync.WaitGroup
	open.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			n.lock.Lock()
			n.met[address] = append(n.met[address], time.Now())
			n.lock.Unlock()
			open.Go(func() {
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(10 * time.Second))
				answer(conn)
			})
		}
	})
	n.t.Cleanup(func() { l.Close(); open.Wait() })
}

func serving(s testkit.Signer) func(net.Conn) {
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{s.Raw}, PrivateKey: s.Key}}}
	return func(conn net.Conn) {
		c := tls.Server(conn, config)
		if c.Handshake() == nil {
			io.Copy(io.Discard, c)
		}
	}
}

func (n *strangers) times(address string) int {
	n.lock.Lock()
	defer n.lock.Unlock()
	return len(n.met[address])
}

// discovered is what a discovery found.
type discovered struct {
	ID          string
	Done, Total int
	Finds       []struct {
		Address, Slot, Default string
		Factory                bool
		SharedKey              bool `json:"shared_key"`
		Same                   int
		Failure                *struct{ What string }
	}
	Proposals []struct{ Name, Known string }
}

// A discovery connects to the addresses of its ranges and to nothing else; what it found
// is adopted by one command.
func TestANetworkIsDiscovered(t *testing.T) {
	t.Parallel()
	n := &strangers{t: t, port: daemon.FreePort(t, "127.20.88.1"), met: map[string][]time.Time{}}
	root := testkit.Root(t, "Quay Root")
	delivered := testkit.Root(t, "BW appliance")
	n.at("127.20.88.1", serving(root.Leaf(t, "gate.found.tidewrack.example")))
	n.at("127.20.88.2", serving(delivered))
	n.at("127.20.88.3", serving(delivered))
	// signed, and a default all the same
	n.at("127.20.88.4", serving(testkit.Root(t, "Lumsk Factory CA").Leaf(t, "LK-1")))
	n.at("127.20.88.5", func(conn net.Conn) { io.Copy(io.Discard, conn) }) // never answers
	n.at("127.20.88.6", func(conn net.Conn) { fmt.Fprint(conn, "220 not TLS\r\n") })
	n.at("127.20.88.7", func(conn net.Conn) { // never ends
		for {
			if _, err := conn.Write([]byte(strings.Repeat("\x16\x03\x01\x40\x00"+strings.Repeat("x", 0x4000),
				64))); err != nil {
				return
			}
		}
	})
	n.at("127.20.88.8", serving(delivered))  // left out
	n.at("127.20.88.9", serving(delivered))  // forbidden
	n.at("127.20.88.16", serving(delivered)) // outside of what is asked for

	folder := t.TempDir()
	write(t, filepath.Join(folder, "known-defaults.yaml"), "defaults:\n  - {about: the BW box, sha256: "+
		delivered.SHA256+"}\n")
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder, "--never-connect", "127.20.88.9")
	s.login()
	s.ok("device", "add", "known.found.tidewrack.example", "--address", "127.20.88.1", "--slot", "web="+n.port)
	shown := s.ok("discover", "start", "127.20.88.0/28", "--except", "127.20.88.8", "--port", n.port, "--rate", "200")
	if !strings.Contains(shown, "15 of 15 addresses and ports looked at") {
		t.Error(shown)
	}
	var found discovered
	s.json(&found, "discover", "show", "k1")
	var got []string
	for _, f := range found.Finds {
		line := strings.TrimPrefix(f.Address, "127.20.88.") + " " + f.Slot
		switch {
		case f.Failure != nil:
			line += "strange"
		case f.SharedKey:
			line += fmt.Sprintf("shared key with %d others", f.Same)
		case f.Factory:
			line += "factory of " + f.Default
		}
		got = append(got, line)
	}
	want := "1 known.found.tidewrack.example/web,2 shared key with 1 others,3 shared key with 1 others,4 factory " +
		"of the Lumsk appliance,5 strange,6 strange,7 strange"
	if strings.Join(got, ",") != want {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(got, ","), want)
	}
	for _, address := range []string{"127.20.88.8", "127.20.88.9", "127.20.88.16"} {
		if n.times(address) > 0 {
			t.Errorf("%s was connected to", address)
		}
	}
	// Adopted: those that are there stay as they are, and what is known to all is an error.
	if out := s.ok("discover", "adopt", "k1", "--all", "--site", "Mainquay", "--tag", "found"); !strings.Contains(out,
		"3 devices added") {
		t.Error(out)
	}
	s.ok("sweep")
	for _, address := range []string{"127.20.88.2", "127.20.88.4"} {
		if slot := s.show(address + "/tls-" + n.port); !strings.Contains(fmt.Sprint(slot.Findings), "factory-default") {
			t.Errorf("%+v", slot)
		}
	}
	if out := s.ok("device", "list", "--tag", "found", "--as", "csv"); strings.Count(out, "\n") != 4 {
		t.Error(out)
	}
	if again := s.ok("discover", "adopt", "k1", "--all"); !strings.Contains(again, "0 devices added") {
		t.Errorf("a second time: %s", again)
	}
	s.fails(1, "does not propose a device", "discover", "adopt", "k1", "nobody")
	s.fails(1, "no discovery is called k7", "discover", "show", "k7")
	s.fails(1, "is not a network", "discover", "start", "127.20.88.0/33")
	s.fails(1, "out of bounds", "discover", "start", "127.20.88.1", "--rate", "100000")
	s.as("operator").fails(1, "needs the role admin", "discover", "start", "127.20.88.1")
}

// A kill in the middle loses nothing that was found, and the next start goes on; the rate is kept.
func TestADiscoveryGoesOnAfterAKill(t *testing.T) {
	t.Parallel()
	n := &strangers{t: t, port: daemon.FreePort(t, "127.20.89.1"), met: map[string][]time.Time{}}
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate.found.tidewrack.example")
	for i := 1; i <= 30; i++ {
		n.at(fmt.Sprintf("127.20.89.%d", i), serving(leaf))
	}
	dir, listen := t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", dir, listen)
	s.login()
	s.ok("discover", "start", "127.20.89.1-127.20.89.30", "--port", n.port, "--rate", "10", "--no-wait")
	s.fails(1, "under way already", "discover", "start", "127.20.89.1")
	s.fails(1, "is under way", "discover", "remove", "k1")
	begun := time.Now()
	for found := (discovered{}); found.Done < 8; s.json(&found, "discover", "show", "k1") {
		time.Sleep(100 * time.Millisecond)
		if time.Since(begun) > time.Minute {
			t.Fatal("it does not begin")
		}
	}
	s.kill()
	s = startAt(t, "serve", dir, listen)
	s.login()
	for begun = time.Now(); !strings.Contains(s.ok("discover", "list"), "ended"); time.Sleep(200 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			t.Fatal("it does not go on")
		}
	}
	var found discovered
	s.json(&found, "discover", "show", "k1")
	if len(found.Finds) != 30 || found.Done != 30 || len(found.Proposals) != 1 {
		t.Errorf("%d of %d, %d finds, %d devices", found.Done, found.Total, len(found.Finds), len(found.Proposals))
	}
	// Two connections at each of thirty boxes, ten a second.
	var all []time.Time
	again := 0
	n.lock.Lock()
	for _, times := range n.met {
		all = append(all, times...)
		if len(times) > 2 {
			again++
		}
	}
	n.lock.Unlock()
	if again > 10 {
		t.Errorf("%d boxes were asked again after the kill", again)
	}
	within := map[int64]int{}
	for _, at := range all {
		within[at.Unix()]++
	}
	for second, count := range within {
		if count > 14 { // a burst of one, and the second that the service began again
			t.Errorf("%d connections in the second %d", count, second)
		}
	}
	s.ok("discover", "remove", "k1")
}

// However much was found, every row of it is reached in the browser, and few are drawn at once.
func TestTheConsoleScrollsThroughADiscovery(t *testing.T) {
	t.Parallel()
	n := &strangers{t: t, port: daemon.FreePort(t, "127.20.90.1"), met: map[string][]time.Time{}}
	root := testkit.Root(t, "Quay Root")
	for i := 1; i <= 200; i++ {
		n.at(fmt.Sprintf("127.20.90.%d", i), serving(root.Leaf(t, fmt.Sprintf("box-%03d.found.tidewrack.example", i))))
	}
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0")
	s.login()
	s.ok("discover", "start", "127.20.90.1-127.20.90.200", "--port", n.port, "--rate", "500")
	p := openConsole(t, s)
	drawn := func(rows string) error {
		count, err := p.Eval(fmt.Sprintf("String(document.querySelectorAll(%q).length)", rows))
		if at, _ := strconv.Atoi(count); err != nil || at < 5 || at > 100 {
			return fmt.Errorf("%s rows are drawn, %w", count, err)
		}
		return nil
	}
	scroll := func(region string) error {
		_, err := p.Eval(fmt.Sprintf("document.querySelector('[aria-label=%q]').scrollTop = 1e6, ''", region))
		return err
	}
	steps(t,
		func() error { return p.Go("/discovery/k1") },
		func() error { return p.Wait("//h2[contains(.,'200 devices not in the fleet')]") },
		func() error { return p.Wait("//td[.='box-001.found.tidewrack.example']") },
		func() error { return drawn("[aria-label='Proposed devices'] tbody tr") },
		func() error { return scroll("Proposed devices") },
		func() error { return p.Click("//input[@aria-label='box-200.found.tidewrack.example']") },
		func() error { return p.Wait("//button[contains(.,'Adopt 1 chosen')]") },
		func() error { return drawn("[aria-label=Answers] [role=listitem]") },
		func() error { return scroll("Answers") },
		func() error {
			return p.Wait("//*[@role='listitem' and @aria-posinset='200' and contains(.,'127.20.90.200')]")
		},
		func() error { return p.Click("//button[contains(.,'Adopt 1 chosen')]") },
		func() error { return p.Wait("//h2[contains(.,'199 devices not in the fleet')]") },
	)
}
