package service

import (
	"sync"
	"time"
)

// tries slows down those who guess passwords: after freeTries wrong ones for a
// name or from an address, each further one doubles the wait.
type tries struct {
	lock sync.Mutex
	of   map[string]trial
}

type trial struct {
	wrong int
	last  time.Time
}

const (
	freeTries = 5
	firstWait = 2 * time.Second
	longest   = 15 * time.Minute
	maxTrials = 10_000 // names and addresses that are remembered at once
)

// wait is how long to wait before the next try.
func (t *tries) wait(now time.Time, name, from string) time.Duration {
	t.lock.Lock()
	defer t.lock.Unlock()
	var longestWait time.Duration
	for _, key := range []string{"name " + name, "from " + from} {
		trial := t.of[key]
		if trial.wrong < freeTries {
			continue
		}
		pause := min(firstWait<<min(trial.wrong-freeTries, 20), longest)
		longestWait = max(longestWait, trial.last.Add(pause).Sub(now))
	}
	return longestWait
}

func (t *tries) failed(now time.Time, name, from string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	if t.of == nil || len(t.of) > maxTrials {
		t.of = map[string]trial{}
	}
	for _, key := range []string{"name " + name, "from " + from} {
		t.of[key] = trial{t.of[key].wrong + 1, now}
	}
}

func (t *tries) forget(name, from string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	delete(t.of, "name "+name)
	delete(t.of, "from "+from)
}
