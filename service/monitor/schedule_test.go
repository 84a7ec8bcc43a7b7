package monitor

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/testkit"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/faulty"
)

// clock is moved by the test.
type clock struct {
	lock sync.Mutex
	now  time.Time
}

func (c *clock) read() time.Time { c.lock.Lock(); defer c.lock.Unlock(); return c.now }

func (c *clock) pass(d time.Duration) { c.lock.Lock(); defer c.lock.Unlock(); c.now = c.now.Add(d) }

func (c *clock) to(now time.Time) { c.lock.Lock(); defer c.lock.Unlock(); c.now = now }

// port counts how often it was read, and may be closed.
type port struct {
	number int
	read   atomic.Int32
	closed atomic.Bool
}

func openPort(t *testing.T) *port {
	t.Helper()
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate.tidewrack.example")
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key}}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := net.SplitHostPort(l.Addr().String())
	number, _ := strconv.Atoi(text)
	p := &port{number: number}
	var open sync.WaitGroup
	open.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer conn.Close()
				if !p.closed.Load() && tls.Server(conn, config).Handshake() == nil {
					p.read.Add(1)
				}
			})
		}
	})
	t.Cleanup(func() { l.Close(); open.Wait() })
	return p
}

// room is the room with a database of its own, and slots at ports of sites. It has nothing to complain of.
func room(t *testing.T, at *clock, sites map[string]*port) *Service {
	t.Helper()
	s, _, _ := roomWithFaults(t, at, sites)
	s.log = slog.New(complaints{slog.DiscardHandler, t})
	return s
}

// complaints fails a test in which an error is logged.
type complaints struct {
	slog.Handler
	t *testing.T
}

func (c complaints) Enabled(_ context.Context, level slog.Level) bool {
	return level >= slog.LevelError
}

func (c complaints) Handle(_ context.Context, r slog.Record) error {
	c.t.Errorf("logged: %s", r.Message)
	return nil
}

// roomWithFaults is room with the disk of its store.
func roomWithFaults(t *testing.T, at *clock, sites map[string]*port) (*Service, *store.Store,
	*faulty.Disk) {
	t.Helper()
	db, disk := faulty.Open(t)
	ctx, stop := context.WithCancel(t.Context())
	ways := access.New(db, nil, (&net.Dialer{}).DialContext, at.read)
	s := New(ctx, db, ways, (&net.Dialer{}).DialContext, slog.New(slog.DiscardHandler), at.read)
	t.Cleanup(func() { stop(); s.Wait() })
	for site, p := range sites {
		d := store.NewDevice{Device: store.Device{Name: "box-" + site, Site: site, Address: "127.0.0.1"}}
		d.Settings.V, d.Tags.V = map[string]string{}, []string{}
		d.Slots = []store.Slot{{Name: "web", Address: "127.0.0.1", Port: p.number, Protocol: "tls"}}
		if err := db.Devices.Add(t.Context(), []store.NewDevice{d}); err != nil {
			t.Fatal(err)
		}
	}
	return s, db, disk
}

// reads waits until a port was read that often.
func (p *port) reads(t *testing.T, want int32) {
	t.Helper()
	for range 200 {
		if p.read.Load() >= want {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	time.Sleep(150 * time.Millisecond) // and no more than that
	if got := p.read.Load(); got != want {
		t.Errorf("it was read %d times, not %d", got, want)
	}
}

// A slot is read when its time comes, not while its site is paused or away, and at once when that
// is over. What a ship at sea does not answer is no alarm.
func TestSlotsAreReadWhenTheirTimeComes(t *testing.T) {
	at := &clock{now: time.Date(2026, 10, 5, 12, 0, 0, 0, time.UTC)} // a Monday
	quay, ship := openPort(t), openPort(t)
	s := room(t, at, map[string]*port{"Mainquay": quay, "Petrel": ship})
	yes, no := true, false
	if _, err := s.access.Sites.AddSite(t.Context(), contract.NewSite{Name: "Mainquay", Way: "direct"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.access.Sites.AddSite(t.Context(), contract.NewSite{Name: "Petrel", Way: "direct",
		Presence: []string{"DTSTART:20261006T080000Z RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H"}}); err != nil {
		t.Fatal(err)
	}
	s.Start(200 * time.Millisecond) // the policy says more
	minutes := 60
	if _, err := s.Rules.SetPolicy(t.Context(),
		contract.NewPolicy{Scope: Fleet, Rules: policy.Rules{ReadMinutes: &minutes}}, problem.Any); err != nil {
		t.Fatal(err)
	}
	quay.reads(t, 1) // at once, for it never was
	ship.reads(t, 0) // which is at sea
	at.pass(50 * time.Minute)
	quay.reads(t, 1)
	at.pass(20 * time.Minute)
	quay.reads(t, 2)
	// Paused: nothing is read, also when hours go by; then it is read once, and not for each hour.
	if _, err := s.access.Sites.EditSite(t.Context(), "Mainquay", contract.SiteChange{Paused: &yes},
		problem.Any); err != nil {
		t.Fatal(err)
	}
	at.pass(5 * time.Hour)
	quay.reads(t, 2)
	if _, err := s.access.Sites.EditSite(t.Context(), "Mainquay", contract.SiteChange{Paused: &no},
		problem.Any); err != nil {
		t.Fatal(err)
	}
	quay.reads(t, 3)
	// The ship comes in on Tuesday at eight.
	ship.reads(t, 0)
	at.to(time.Date(2026, 10, 6, 8, 1, 0, 0, time.UTC))
	ship.reads(t, 1)
	// It has left, and somebody asks: what it served counts still.
	at.pass(12 * time.Hour)
	ship.closed.Store(true)
	row, err := s.store.Slots.Get(t.Context(), "box-Petrel", "web")
	if err != nil {
		t.Fatal(err)
	}
	if sight, err := s.Read(t.Context(), row); err != nil || sight.Why == nil {
		t.Fatalf("%+v %v", sight, err)
	}
	if after, err := s.store.Slots.Get(t.Context(), "box-Petrel", "web"); err != nil || after.Failure.V != nil ||
		len(after.Chain.V) != 1 || after.Misses != 0 {
		t.Errorf("%+v %v", after, err)
	}
	// In port it is an alarm, and it is looked at again soon, then less and less often.
	at.to(time.Date(2026, 10, 13, 9, 0, 0, 0, time.UTC))
	var gaps []time.Duration
	for range 4 {
		for range 200 {
			if after, err := s.store.Slots.Get(t.Context(), "box-Petrel", "web"); err == nil &&
				after.Misses > len(gaps) {
				gaps = append(gaps, after.NextAt.Sub(after.ReadAt.Time).Round(time.Minute))
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		at.pass(70 * time.Minute)
	}
	if len(gaps) != 4 || gaps[0] > 6*time.Minute || gaps[3] < 4*gaps[0] {
		t.Errorf("it is looked at again after %v", gaps)
	}
	if after, err := s.store.Slots.Get(t.Context(), "box-Petrel", "web"); err != nil || after.Failure.V == nil {
		t.Errorf("it is unreachable in port: %+v %v", after, err)
	}
}

// A service that was off for a week begins with as many slots as a tick takes, and one that is
// killed while it reads comes back to them when the lease is over.
func TestAStartAfterALongRestIsNoStorm(t *testing.T) {
	at := &clock{now: testkit.Now}
	p := openPort(t)
	s := room(t, at, map[string]*port{"Mainquay": p})
	for i := range 3 * eachTick {
		d := store.NewDevice{Device: store.Device{Name: fmt.Sprint("box-", i), Address: "127.0.0.1"}}
		d.Settings.V, d.Tags.V = map[string]string{}, []string{}
		d.Slots = []store.Slot{{Name: "web", Address: "127.0.0.1", Port: p.number, Protocol: "tls"}}
		if err := s.store.Devices.(store.Devices).Add(t.Context(), []store.NewDevice{d}); err != nil {
			t.Fatal(err)
		}
	}
	taken := map[int64]bool{}
	for range 2 {
		rows, err := s.reading.takeDue(t.Context())
		if err != nil || len(rows) != eachTick {
			t.Fatalf("%d are taken, %v", len(rows), err)
		}
		for _, row := range rows {
			if taken[row.ID] {
				t.Fatalf("slot %d is taken twice", row.ID)
			}
			taken[row.ID] = true
		}
	}
	at.pass(lease - time.Second)
	if n, err := s.store.Readings.(store.Readings).CountDue(t.Context(), s.moment()); err != nil || n != eachTick+1 {
		t.Errorf("%d are due before the lease is over, %v", n, err)
	}
	at.pass(time.Minute)
	if n, err := s.store.Readings.(store.Readings).CountDue(t.Context(), s.moment()); err != nil || n != 3*eachTick+1 {
		t.Errorf("%d are due after the lease, %v", n, err)
	}
}
