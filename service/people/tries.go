package people

import (
	"net/netip"
	"sync"
	"time"
)

// tries slows down guessing of passwords. Wrong ones are counted for a name from an address, and for the address
// whatever the name, so that nobody can keep others from signing in by guessing under their name.
type tries struct {
	lock   sync.Mutex
	of     map[attempt]trial
	pruned time.Time
}

// attempt is who tries from where; an empty name stands for all names.
type attempt struct{ name, from string }

type trial struct {
	wrong int
	last  time.Time
}

const (
	freeTries     = 5  // of one name from an address
	freeOfAddress = 20 // of all names from it: several people may sit behind one
	firstWait     = 2 * time.Second
	longest       = 15 * time.Minute
	maxTrials     = 10_000 // that are remembered at once
)

func (t trial) free(a attempt) int {
	if a.name == "" {
		return freeOfAddress
	}
	return freeTries
}

// left returns how long a further try must wait.
func (t trial) left(a attempt, now time.Time) time.Duration {
	if t.wrong < t.free(a) {
		return 0
	}
	return t.last.Add(min(firstWait<<min(t.wrong-t.free(a), 20), longest)).Sub(now)
}

// network returns what counts as one address: an IPv6 host has a /64 of them.
func network(from string) string {
	a, err := netip.ParseAddr(from)
	if err != nil || a.Is4() || a.Is4In6() {
		return from
	}
	p, err := a.Prefix(64)
	if err != nil {
		return from
	}
	return p.String()
}

// begin counts a try as a wrong one before it is looked at, so that many at once count
// as many, or says how long to wait first.
func (t *tries) begin(now time.Time, name, from string) (wait time.Duration) {
	t.lock.Lock()
	defer t.lock.Unlock()
	keys := []attempt{{name, network(from)}, {"", network(from)}}
	for _, key := range keys {
		wait = max(wait, t.of[key].left(key, now))
	}
	if wait > 0 {
		return wait
	}
	if t.of == nil {
		t.of = map[attempt]trial{}
	}
	if len(t.of) >= maxTrials && now.Sub(t.pruned) > time.Minute {
		t.prune(now)
	}
	for _, key := range keys {
		if _, known := t.of[key]; known || len(t.of) < maxTrials || key.name == "" && len(t.of) < 2*maxTrials {
			t.of[key] = trial{t.of[key].wrong + 1, now}
		}
	}
	return 0
}

// prune deletes those that need not wait any more. It goes through all, and is not
// done for each try of a flood.
func (t *tries) prune(now time.Time) {
	t.pruned = now
	for key, trial := range t.of {
		if now.Sub(trial.last) > longest {
			delete(t.of, key)
		}
	}
}

// succeeded takes back what begin counted: the try was right.
func (t *tries) succeeded(name, from string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	delete(t.of, attempt{name, network(from)})
	all := attempt{"", network(from)}
	if trial, ok := t.of[all]; ok {
		trial.wrong--
		t.of[all] = trial
	}
}

// takeBack takes back what begin counted: the password was not looked at.
func (t *tries) takeBack(name, from string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	for _, key := range []attempt{{name, network(from)}, {"", network(from)}} {
		if trial, ok := t.of[key]; ok && trial.wrong > 0 {
			trial.wrong--
			t.of[key] = trial
		}
	}
}
