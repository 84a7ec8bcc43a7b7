package people

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"
)

// queue lets one password be checked at a time, as each check takes 64 MiB and a core. Waiting attempts are served in
// turn by network, so that many attempts from one network delay those from another by one check; networks from which
// somebody signed in before come first.
type queue struct {
	lock    sync.Mutex // guards the rest
	busy    bool
	waiting int
	lines   []*line // in the order in which they are served next
}

// line holds the attempts that wait from one network.
type line struct {
	network string
	known   bool
	turns   []chan bool // true: it is its turn; false: it has to leave
}

const (
	mostWaiting     = 64
	mostFromNetwork = 8
	longestWait     = 20 * time.Second
)

// errBusy means that too many passwords are being tried.
var errBusy = errors.New("too many passwords are being tried at this moment")

// do runs f when it is the turn of a network, or returns errBusy.
func (q *queue) do(ctx context.Context, network string, known bool, f func()) error {
	if err := q.enter(ctx, network, known); err != nil {
		return err
	}
	defer q.leave()
	f()
	return nil
}

func (q *queue) enter(ctx context.Context, network string, known bool) error {
	q.lock.Lock()
	if !q.busy {
		q.busy = true
		q.lock.Unlock()
		return nil
	}
	own := q.line(network)
	if own != nil && len(own.turns) >= mostFromNetwork || q.waiting >= mostWaiting && !(known && q.makeRoom()) {
		q.lock.Unlock()
		return errBusy
	}
	if own == nil {
		own = &line{network: network, known: known}
		q.lines = append(q.lines, own)
	}
	turn := make(chan bool, 1)
	own.turns = append(own.turns, turn)
	q.waiting++
	q.lock.Unlock()

	limit := time.NewTimer(longestWait)
	defer limit.Stop()
	select {
	case mine := <-turn:
		if mine {
			return nil
		}
		return errBusy
	case <-ctx.Done():
	case <-limit.C:
	}
	q.lock.Lock()
	defer q.lock.Unlock()
	if i := slices.Index(own.turns, turn); i >= 0 {
		own.turns = slices.Delete(own.turns, i, i+1)
		q.left(own)
		return errBusy
	}
	if <-turn { // its turn came at this very moment
		q.next()
	}
	return errBusy
}

func (q *queue) line(network string) *line {
	for _, l := range q.lines {
		if l.network == network {
			return l
		}
	}
	return nil
}

// makeRoom refuses the last attempt of the longest line of an unknown network. It reports whether there is one.
func (q *queue) makeRoom() bool {
	var longest *line
	for _, l := range q.lines {
		if !l.known && (longest == nil || len(l.turns) >= len(longest.turns)) {
			longest = l
		}
	}
	if longest == nil {
		return false
	}
	last := len(longest.turns) - 1
	longest.turns[last] <- false
	longest.turns = longest.turns[:last]
	q.left(longest)
	return true
}

// left counts one less in a line.
func (q *queue) left(l *line) {
	q.waiting--
	if len(l.turns) == 0 {
		q.lines = slices.DeleteFunc(q.lines, func(other *line) bool { return other == l })
	}
}

func (q *queue) leave() {
	q.lock.Lock()
	defer q.lock.Unlock()
	q.next()
}

// next gives the turn to the first of the next line, which goes to the end.
func (q *queue) next() {
	if len(q.lines) == 0 {
		q.busy = false
		return
	}
	i := max(0, slices.IndexFunc(q.lines, func(l *line) bool { return l.known }))
	l := q.lines[i]
	q.lines = append(slices.Delete(q.lines, i, i+1), l)
	l.turns[0] <- true
	l.turns = l.turns[1:]
	q.left(l)
}

// known are the networks from which somebody signed in, or called with a token.
type known struct {
	lock sync.Mutex // guards seen
	seen map[string]time.Time
}

const (
	mostKnown = 1000
	knownFor  = 30 * 24 * time.Hour
)

// add remembers a network; of too many the one that was seen least lately is forgotten.
func (k *known) add(network string, now time.Time) {
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.seen == nil {
		k.seen = map[string]time.Time{}
	}
	if _, has := k.seen[network]; !has && len(k.seen) >= mostKnown {
		oldest := network
		for name, at := range k.seen {
			if first, has := k.seen[oldest]; !has || at.Before(first) {
				oldest = name
			}
		}
		delete(k.seen, oldest)
	}
	k.seen[network] = now
}

func (k *known) has(network string, now time.Time) bool {
	k.lock.Lock()
	defer k.lock.Unlock()
	at, has := k.seen[network]
	return has && now.Sub(at) < knownFor
}
