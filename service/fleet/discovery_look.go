package fleet

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net"
	"sync"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/store"
	"freshseal/store/found"
	"freshseal/wire"

	"golang.org/x/time/rate"
)

const (
	discoveryLimit = 4 * time.Second // for one address: boxes on a network answer at once
	discoveryFast  = 64
	keepEvery      = time.Second
)

// looking is a running discovery. Targets end in any order; done counts the first ones that have ended without a gap.
type looking struct {
	lock    sync.Mutex
	targets map[int]discovery.Target
	ended   map[int]bool // beyond done
	done    int
	finds   []found.Find
	missed  int // targets that a fault of this side kept from being looked at, and one such fault
	why     error
}

// pace limits the rate of new connections, and their number at each site. The first connection of a target waits before
// the time limit of its reading starts.
type pace struct {
	*rate.Limiter
	site wire.Gate
}

func (p pace) Enter(ctx context.Context, site string) (func(), error) {
	if err := p.Wait(ctx); err != nil {
		return nil, err
	}
	return p.site.Enter(ctx, site)
}

func (p pace) Try(ctx context.Context, site string) (func(), bool) {
	leave, ok := p.site.Try(ctx, site)
	if ok && !p.Allow() {
		leave()
		return nil, false
	}
	return leave, ok
}

// dial opens the connections of one target, the first of which has waited already.
func (p pace) dial(way wire.Dial) wire.Dial {
	first := true
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if !first {
			if err := p.Wait(ctx); err != nil {
				return nil, err
			}
		}
		first = false
		return way(ctx, network, address)
	}
}

// lookFor scans all targets that were not scanned yet, and stores what it finds on the way. If the service stops, the
// next start continues.
func (s *Discoveries) lookFor(row found.Discovery, p discovery.Plan) {
	ctx, cancel := context.WithCancel(s.stopping)
	defer cancel()
	asked := row.Asked.V
	l := &looking{targets: map[int]discovery.Target{}, ended: map[int]bool{}, done: row.Done}
	gate := pace{rate.NewLimiter(rate.Limit(asked.Rate), max(1, asked.Rate/10)), s.monitor.Surveys.Gate()}
	s.running.Go(func() {
		tick := time.NewTicker(keepEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				if !s.keepFinds(ctx, row.ID, l) {
					cancel() // it was stopped
					return
				}
			case <-ctx.Done():
				return
			}
		}
	})
	first := row.Done
	s.monitor.Surveys.Survey(ctx, s.discoveryTargets(l, p, gate, asked.Site, first), wire.Many{Fast: discoveryFast},
		discoveryLimit, func(one wire.Numbered, reading wire.Reading) {
			l.take(first+one.N, reading)
		})
	if ctx.Err() != nil {
		return
	}
	if s.keepFinds(ctx, row.ID, l) {
		if err := s.store.Discoveries.End(ctx, row.ID, s.moment(), l.incomplete()); err != nil &&
			!errors.Is(err, store.ErrNotFound) {
			s.log.Error("ending a discovery", "error", err)
		}
	}
}

func (s *Discoveries) discoveryTargets(l *looking, p discovery.Plan, gate pace, site string,
	from int) iter.Seq[wire.Target] {
	way := s.monitor.Surveys.Way(site)
	return func(yield func(wire.Target) bool) {
		for n, t := range p.From(from) {
			l.lock.Lock()
			l.targets[n] = t
			l.lock.Unlock()
			name := ""
			if net.ParseIP(t.Address) == nil {
				name = request.PlainName(t.Address)
			}
			if !yield(wire.Target{Address: t.Address, Port: t.Number, Protocol: wire.Protocol(t.Protocol),
				ServerName: name, Closer: true, Way: gate.dial(way), Site: site, Gate: gate}) {
				return
			}
		}
	}
}

// incomplete describes how much could not be scanned because of a local fault, empty if nothing.
func (l *looking) incomplete() string {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.missed == 0 {
		return ""
	}
	return fmt.Sprintf("%d addresses and ports were not looked at: %v", l.missed, l.why)
}

// nobody are the failure codes of addresses at which nobody answered.
var nobody = map[string]bool{"silent": true, "refused": true, "unreachable": true, "forbidden": true,
	"unknown-host": true}

// take records the reading of a target.
func (l *looking) take(n int, reading wire.Reading) {
	l.lock.Lock()
	defer l.lock.Unlock()
	t := l.targets[n]
	delete(l.targets, n)
	l.ended[n] = true
	for l.ended[l.done] {
		delete(l.ended, l.done)
		l.done++
	}
	if reading.Own != nil {
		l.missed++
		l.why = reading.Own
		return
	}
	if reading.Why != nil && nobody[reading.Why.Code] {
		return
	}
	f := found.Find{Nth: n, Address: t.Address, Port: t.Number, Protocol: t.Protocol, Version: reading.Version,
		Banner: banner(reading.Closer), Served: reading.Chain}
	if net.ParseIP(t.Address) == nil {
		f.ServerName = request.PlainName(t.Address)
	}
	f.Failure.V, f.Chain.V = reading.Why, fingerprints(reading.Chain)
	l.finds = append(l.finds, f)
}

func fingerprints(chain []*cert.Certificate) []string {
	out := []string{}
	for _, c := range chain {
		out = append(out, c.SHA256)
	}
	return out
}

// keepFinds stores what was found since the last call, and reports whether the discovery continues.
func (s *Discoveries) keepFinds(ctx context.Context, taking int64, l *looking) bool {
	l.lock.Lock()
	finds, done := l.finds, l.done
	l.finds = nil
	l.lock.Unlock()
	if err := s.store.Discoveries.AddFinds(context.WithoutCancel(ctx), taking, done, finds); err != nil {
		if !errors.Is(err, store.ErrNotFound) {
			s.log.Error("keeping what a discovery found", "error", err)
		}
		return false
	}
	row, err := s.store.Discoveries.Get(ctx, taking)
	return err != nil || row.EndedAt.IsZero()
}
