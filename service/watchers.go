package service

import "sync"

// watchers wakes those who wait for news of a replacement. It carries no news
// itself: whoever is woken reads the store, so nothing is lost and nobody has
// to keep up.
type watchers struct {
	lock sync.Mutex
	of   map[int64]map[chan struct{}]struct{}
}

// join returns a channel that is woken by tell, and the way to leave.
func (w *watchers) join(id int64) (wake <-chan struct{}, leave func()) {
	w.lock.Lock()
	defer w.lock.Unlock()
	if w.of == nil {
		w.of = map[int64]map[chan struct{}]struct{}{}
	}
	if w.of[id] == nil {
		w.of[id] = map[chan struct{}]struct{}{}
	}
	c := make(chan struct{}, 1)
	w.of[id][c] = struct{}{}
	return c, func() {
		w.lock.Lock()
		defer w.lock.Unlock()
		delete(w.of[id], c)
		if len(w.of[id]) == 0 {
			delete(w.of, id)
		}
	}
}

// tell wakes everybody who waits for this replacement.
func (w *watchers) tell(id int64) {
	w.lock.Lock()
	defer w.lock.Unlock()
	for c := range w.of[id] {
		select {
		case c <- struct{}{}:
		default: // already woken
		}
	}
}
