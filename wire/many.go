package wire

import (
	"context"
	"iter"
	"runtime"
	"sync"
	"time"
)

// Many says how many readings are made at once.
type Many struct {
	Fast int           // that answer; 0: 64
	Slow int           // that have not answered after Patience; 0: 1,024. More gave false timeouts of live boxes
	Wait time.Duration // how long a reading keeps a place among the fast ones; 0: 300 ms
}

func (m Many) orUsual() Many {
	if m.Fast == 0 {
		m.Fast = 64
	}
	if m.Slow == 0 {
		m.Slow = 1024
	}
	if m.Wait == 0 {
		m.Wait = 300 * time.Millisecond
	}
	return m
}

// ahead is how many targets are taken from the sequence before their turn, so that a site
// whose places are taken holds up no other.
const ahead = 2048

// tick is how often a site is asked again for a place that somebody else gave back.
const tick = 20 * time.Millisecond

// Numbered is a target with its place in the sequence.
type Numbered struct {
	N int
	Target
}

// round is a round of readings under way.
type round struct {
	Reader
	many  Many
	fast  chan struct{}
	slow  chan struct{}
	take  func(Numbered, Reading)
	ended chan struct{} // told when a place may have become free
	work  sync.WaitGroup
}

// ReadAll reads many targets and hands each reading to take as it comes, from several
// goroutines at once. A box that has not answered after a while gives its place to another one and
// goes on waiting among the slow ones, so that silent boxes do not delay live ones. It returns when
// all are read or the context ends; those that were not begun then are not handed on.
func (r Reader) ReadAll(ctx context.Context, targets iter.Seq[Target], many Many, take func(Numbered, Reading)) {
	many = many.orUsual()
	r.turns = newTurns(runtime.GOMAXPROCS(0), r.Busy)
	all := round{Reader: r, many: many, fast: make(chan struct{}, many.Fast), slow: make(chan struct{}, many.Slow),
		take: take, ended: make(chan struct{}, 1)}
	next, stop := iter.Pull(targets)
	defer stop()
	var waiting queues
	n, more := 0, true
	for ctx.Err() == nil {
		for more && waiting.size < ahead {
			var t Target
			if t, more = next(); more {
				waiting.add(Numbered{n, t})
				n++
			}
		}
		if waiting.size == 0 {
			break
		}
		one, leave, ok := waiting.next(ctx)
		if !ok { // every site that something waits for is full
			select {
			case <-all.ended:
			case <-time.After(tick):
			case <-ctx.Done():
			}
			continue
		}
		select {
		case all.fast <- struct{}{}:
			all.work.Go(func() { all.read(ctx, one, leave) })
		case <-ctx.Done():
			leave()
		}
	}
	all.work.Wait()
}

// read makes one reading: it begins among the fast ones.
func (r *round) read(ctx context.Context, one Numbered, leave func()) {
	place := r.fast
	moved := make(chan chan struct{}, 1)
	over := make(chan struct{})
	timer := time.AfterFunc(r.many.Wait, func() {
		select {
		case r.slow <- struct{}{}:
			<-r.fast
			moved <- r.slow
		case <-over:
			moved <- r.fast
		}
	})
	reading := r.Reader.read(ctx, one.Target)
	close(over)
	if !timer.Stop() {
		place = <-moved
	}
	<-place
	leave()
	select {
	case r.ended <- struct{}{}:
	default:
	}
	if ctx.Err() == nil || reading.Why == nil {
		r.take(one, reading)
	}
}

// queues are targets that wait, site by site, in the order in which they came.
type queues struct {
	size  int
	sites []*queue // each with at least one target
	of    map[string]*queue
	turn  int
}

type queue struct {
	site    string
	waiting []Numbered
}

func (q *queues) add(one Numbered) {
	if q.of == nil {
		q.of = map[string]*queue{}
	}
	line := q.of[one.Site]
	if line == nil {
		line = &queue{site: one.Site}
		q.of[one.Site] = line
		q.sites = append(q.sites, line)
	}
	line.waiting = append(line.waiting, one)
	q.size++
}

// next takes the next target of a site that has a place, one site after another.
func (q *queues) next(ctx context.Context) (one Numbered, leave func(), ok bool) {
	for i := range q.sites {
		at := (q.turn + i) % len(q.sites)
		line := q.sites[at]
		one, leave = line.waiting[0], func() {}
		if one.Gate != nil {
			if leave, ok = one.Gate.Try(ctx, one.Site); !ok {
				continue
			}
		}
		line.waiting = line.waiting[1:]
		q.size--
		if q.turn = at + 1; len(line.waiting) == 0 {
			delete(q.of, line.site)
			q.sites = append(q.sites[:at], q.sites[at+1:]...)
			q.turn = at
		}
		return one, leave, true
	}
	return Numbered{}, nil, false
}
