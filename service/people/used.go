package people

import (
	"context"
	"maps"
	"sync"
	"time"

	"freshseal/store/accounts"
)

// used is when sessions were last used, as far as that is not stored yet.
type used struct {
	lock sync.Mutex
	of   map[string]accounts.Seen // by digest
}

func (u *used) add(digest string, seen accounts.Seen) {
	u.lock.Lock()
	defer u.lock.Unlock()
	if u.of == nil {
		u.of = map[string]accounts.Seen{}
	}
	u.of[digest] = seen
}

// last returns the later one of what is stored and what is not yet.
func (u *used) last(digest string, stored accounts.Seen) accounts.Seen {
	u.lock.Lock()
	defer u.lock.Unlock()
	if seen, ok := u.of[digest]; ok && seen.At.After(stored.At.Time) {
		return seen
	}
	return stored
}

// storeUsed stores when sessions were last used. What cannot be stored is kept for the next time.
func (s *Service) storeUsed(ctx context.Context) {
	s.used.lock.Lock()
	some := maps.Clone(s.used.of)
	s.used.lock.Unlock()
	if len(some) == 0 {
		return
	}
	if err := s.store.Sessions.SetSeen(ctx, some); err != nil {
		s.log.Warn("the last use of sessions cannot be stored", "error", err)
		return
	}
	s.used.lock.Lock()
	defer s.used.lock.Unlock()
	for digest, seen := range some {
		if s.used.of[digest] == seen {
			delete(s.used.of, digest)
		}
	}
}

// storeEvery is how often the last uses are stored: a service that is killed forgets that much of them.
const storeEvery = time.Minute

// Start stores the last uses now and then, until the context ends; Wait waits for the last time.
func (s *Service) Start(ctx context.Context) {
	s.storing.Go(func() {
		for each := time.NewTicker(storeEvery); ; {
			select {
			case <-each.C:
				s.storeUsed(ctx)
			case <-ctx.Done():
				each.Stop()
				s.storeUsed(context.WithoutCancel(ctx))
				return
			}
		}
	})
}

// Wait waits until nothing is stored any more.
func (s *Service) Wait() { s.storing.Wait() }

// strange remembers for some time what was reported, so that a flood makes one entry in the audit log.
type strange struct {
	lock sync.Mutex
	at   map[string]time.Time
}

const (
	strangeFor  = time.Hour
	mostStrange = 1000 // that are remembered at once
)

// first reports whether something was not reported for some time, and remembers it.
func (s *strange) first(what string, now time.Time) bool {
	s.lock.Lock()
	defer s.lock.Unlock()
	if last, ok := s.at[what]; ok && now.Sub(last) < strangeFor {
		return false
	}
	if s.at == nil || len(s.at) >= mostStrange {
		s.at = map[string]time.Time{}
	}
	s.at[what] = now
	return true
}
