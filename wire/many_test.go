package wire_test

import (
	"context"
	"crypto/tls"
	"fmt"
	"iter"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/wire"
)

// live is a box that answers, and silent one that takes connections and never says anything.
func live(t testing.TB) wire.Target {
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate.tidewrack.example")
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key}}}
	return listen(t, func(conn net.Conn) { tls.Server(conn, config).Handshake() })
}

func silent(t testing.TB) wire.Target {
	return listen(t, func(conn net.Conn) { conn.Read(make([]byte, 1<<16)); time.Sleep(20 * time.Second) })
}

// Silent boxes give their places back, so that live ones are read at once; each is read just once,
// and at the end every place is free again.
func TestSilentBoxesDelayNoLiveOnes(t *testing.T) {
	quiet, speaking := silent(t), live(t)
	var targets []wire.Target
	for i := range 300 {
		targets = append(targets, map[bool]wire.Target{true: quiet, false: speaking}[i%3 == 0])
	}
	r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 3 * time.Second}
	begun := time.Now()
	var lock sync.Mutex
	seen := map[int]int{}
	var lastLive time.Duration
	r.ReadAll(t.Context(), slices.Values(targets), wire.Many{Fast: 4, Wait: 20 * time.Millisecond},
		func(one wire.Numbered, got wire.Reading) {
			lock.Lock()
			defer lock.Unlock()
			seen[one.N]++
			if alive := one.N%3 != 0; alive != (got.Why == nil) {
				t.Errorf("%d: %+v", one.N, got.Why)
			} else if alive {
				lastLive = time.Since(begun)
			}
		})
	if len(seen) != 300 || slices.Max(slices.Collect(mapValues(seen))) != 1 {
		t.Errorf("%d were read", len(seen))
	}
	if all := time.Since(begun); lastLive > all*2/3 {
		t.Errorf("the last live one was read after %s of %s", lastLive, all)
	}
}

func mapValues(m map[int]int) iter.Seq[int] {
	return func(yield func(int) bool) {
		for _, v := range m {
			if !yield(v) {
				return
			}
		}
	}
}

// gate lets so many links into each site.
type gate struct {
	most      int
	lock      sync.Mutex
	in, worst map[string]int
}

func (g *gate) Try(_ context.Context, site string) (func(), bool) {
	g.lock.Lock()
	defer g.lock.Unlock()
	if g.in[site] >= g.most {
		return nil, false
	}
	g.in[site]++
	g.worst[site] = max(g.worst[site], g.in[site])
	return func() { g.lock.Lock(); defer g.lock.Unlock(); g.in[site]-- }, true
}

func (g *gate) Enter(context.Context, string) (func(), error) { panic("a round never waits at a site") }

// A site with few places holds up no other site, and never gets more links than it may have.
func TestAFullSiteHoldsUpNoOther(t *testing.T) {
	g := &gate{most: 2, in: map[string]int{}, worst: map[string]int{}}
	slow := listen(t, func(conn net.Conn) { time.Sleep(100 * time.Millisecond) })
	quick := live(t)
	var targets []wire.Target
	for i := range 40 {
		target := slow
		if target.Site = "Petrel"; i >= 20 {
			target, target.Site = quick, fmt.Sprint("quay ", i%2)
		}
		target.Gate = g
		targets = append(targets, target)
	}
	var slowLeft atomic.Int32
	slowLeft.Store(20)
	reader().ReadAll(t.Context(), slices.Values(targets), wire.Many{Fast: 64}, func(one wire.Numbered, _ wire.Reading) {
		if one.Site == "Petrel" {
			slowLeft.Add(-1)
		} else if slowLeft.Load() < 10 {
			t.Errorf("%s waited for Petrel", one.Site)
		}
	})
	if slowLeft.Load() != 0 || g.worst["Petrel"] != 2 || g.worst["quay 0"] > 2 {
		t.Errorf("%d are left, %v at once", slowLeft.Load(), g.worst)
	}
	for site, n := range g.in {
		if n != 0 {
			t.Errorf("%d places of %s are still taken", n, site)
		}
	}
}

// A way that takes nothing, as through a jump host that stands still, holds up its own readings and no others.
func TestAWayThatStandsStillDelaysNoOthers(t *testing.T) {
	speaking := live(t)
	stuck := speaking
	stuck.Way = func(context.Context, string, string) (net.Conn, error) {
		near, far := net.Pipe() // a write waits until somebody reads, and nobody does
		t.Cleanup(func() { far.Close() })
		return near, nil
	}
	targets := append(slices.Repeat([]wire.Target{stuck}, 40), slices.Repeat([]wire.Target{speaking}, 40)...)
	r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 3 * time.Second}
	begun := time.Now()
	var lastLive atomic.Int64
	r.ReadAll(t.Context(), slices.Values(targets), wire.Many{}, func(one wire.Numbered, got wire.Reading) {
		if alive := one.N >= 40; alive != (got.Why == nil) {
			t.Errorf("%d: %+v", one.N, got.Why)
		} else if alive {
			lastLive.Store(max(lastLive.Load(), int64(time.Since(begun))))
		}
	})
	if last := time.Duration(lastLive.Load()); last > 1500*time.Millisecond || last == 0 {
		t.Errorf("the last live one was read after %s", last)
	}
}

// Whoever asked is gone: the round ends at once, and nothing is handed on that says nothing.
func TestARoundEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	target := silent(t)
	begun := time.Now()
	time.AfterFunc(100*time.Millisecond, cancel)
	reader().ReadAll(ctx, slices.Values(slices.Repeat([]wire.Target{target}, 500)), wire.Many{},
		func(one wire.Numbered, got wire.Reading) {
			t.Errorf("%d: %+v", one.N, got)
		})
	if took := time.Since(begun); took > 1500*time.Millisecond {
		t.Errorf("it took %s", took)
	}
}

// What a box served last is not parsed again.
func TestTheSameAgainIsNotParsed(t *testing.T) {
	target := live(t)
	first := reader().Read(t.Context(), target)
	target.Last = []string{first.Leaf().SHA256}
	if again := reader().Read(t.Context(), target); !again.Same || again.Chain != nil || again.Why != nil ||
		again.Version != "TLS 1.3" {
		t.Errorf("the same: %+v", again)
	}
	for _, last := range [][]string{{first.Leaf().SHA256, first.Leaf().SHA256}, {"00"}, {}} {
		target.Last = last
		if again := reader().Read(t.Context(), target); again.Same || len(again.Chain) != 1 {
			t.Errorf("not %v: %+v", last, again)
		}
	}
}

// BenchmarkSilent reads 5,000 boxes of which a tenth takes connections and says nothing, and prints
// how long that takes against the ideal: what the live ones take alone and then the time that the last
// silent box is given. Beside it stands how the 99th percentile of the live ones compares.
func BenchmarkSilent(b *testing.B) {
	const all = 5_000
	quiet, speaking := silent(b), live(b)
	r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 8 * time.Second}
	round := func(each func(i int) wire.Target, n int) (took, p99 time.Duration, wrong int) {
		begun := time.Now()
		var lock sync.Mutex
		var times []time.Duration
		targets := func(yield func(wire.Target) bool) {
			for i := range n {
				if !yield(each(i)) {
					return
				}
			}
		}
		r.ReadAll(b.Context(), targets, wire.Many{}, func(one wire.Numbered, got wire.Reading) {
			lock.Lock()
			defer lock.Unlock()
			if one.Target.Port == speaking.Port {
				times = append(times, time.Since(got.At))
				if got.Why != nil {
					wrong++
				}
			}
		})
		slices.Sort(times)
		return time.Since(begun), times[len(times)*99/100], wrong
	}
	for b.Loop() {
		alone, quick, _ := round(func(int) wire.Target { return speaking }, all*9/10)
		took, slow, wrong := round(func(i int) wire.Target {
			return map[bool]wire.Target{true: quiet, false: speaking}[i%10 == 3]
		}, all)
		b.ReportMetric(float64(took)/float64(alone+r.Limit), "x-ideal")
		b.ReportMetric(float64(slow)/float64(quick), "p99-x-alone")
		b.ReportMetric(float64(wrong), "false-timeouts")
	}
}
