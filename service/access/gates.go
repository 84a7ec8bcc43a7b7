package access

import (
	"context"
	"errors"
	"sync"

	"freshseal/store"
	"freshseal/wire"
)

// gates limit the links into a site to its maximum. Readings and links that work on devices are counted separately,
// because the latter read too.
type gates struct {
	lock sync.Mutex
	of   map[string]chan struct{}
}

// Enter waits for a free place at a site and returns the function that releases it.
func (s *Service) Enter(ctx context.Context, kind, site string) (leave func(), err error) {
	places, err := s.placesAt(ctx, kind, site)
	if err != nil || places == nil {
		return func() {}, err
	}
	select {
	case places <- struct{}{}:
		return func() { <-places }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// placesAt returns the places of a site, nil if it has no limit.
func (s *Service) placesAt(ctx context.Context, kind, site string) (chan struct{}, error) {
	row, err := s.site(ctx, site)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.MostLinks == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, wire.OwnFault{Err: err}
	}
	return s.gates.places(kind+"/"+site, row.MostLinks), nil
}

// Readings count the links that only read. They are a wire.Gate.
type Readings struct{ *Service }

// Enter waits for a place at a site.
func (r Readings) Enter(ctx context.Context, site string) (leave func(), err error) {
	return r.Service.Enter(ctx, "reading", site)
}

// Try takes a place at a site if there is one now.
func (r Readings) Try(ctx context.Context, site string) (leave func(), ok bool) {
	places, err := r.placesAt(ctx, "reading", site)
	if err != nil || places == nil {
		return func() {}, true // the reading itself says what is wrong
	}
	select {
	case places <- struct{}{}:
		return func() { <-places }, true
	default:
		return nil, false
	}
}

// places returns the places of a gate; a gate whose number changed is made again.
func (g *gates) places(name string, most int) chan struct{} {
	g.lock.Lock()
	defer g.lock.Unlock()
	if g.of == nil {
		g.of = map[string]chan struct{}{}
	}
	if places, ok := g.of[name]; ok && cap(places) == most {
		return places
	}
	g.of[name] = make(chan struct{}, most)
	return g.of[name]
}

// Place is a replacement's right to work on devices: a place at its site and one of
// those in all. Whoever only waits, for a restart or a person, gives it back.
type Place struct{ leave func() }

// Take waits for a place at the site first, so that a site whose places are taken
// holds none of the others. Where a place is held already, it is kept.
func (s *Service) Take(ctx context.Context, t *Place, site string) error {
	if t.leave != nil {
		return nil
	}
	leave, err := s.Enter(ctx, "link", site)
	if err != nil {
		return err
	}
	select {
	case s.places <- struct{}{}:
		t.leave = func() { <-s.places; leave() }
		return nil
	case <-ctx.Done():
		leave()
		return ctx.Err()
	}
}

// Give releases the places; further calls have no effect.
func (t *Place) Give() {
	if t.leave != nil {
		t.leave()
		t.leave = nil
	}
}
