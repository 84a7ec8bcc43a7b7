package service

import (
	"context"
	"errors"
	"sync"

	"freshseal/store"
)

// gates let no more links into a site at once than the site may have. Readings
// and links that work on devices are counted apart, for the latter read too.
type gates struct {
	lock sync.Mutex
	of   map[string]chan struct{}
}

// enter waits for a place at a site, and returns the way to give it back.
func (s *Service) enter(ctx context.Context, kind, site string) (leave func(), err error) {
	row, err := s.store.Site(ctx, site)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.MostLinks == 0 {
		return func() {}, nil
	}
	if err != nil {
		return nil, err
	}
	places := s.gates.places(kind+"/"+site, row.MostLinks)
	select {
	case places <- struct{}{}:
		return func() { <-places }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// places are the places of a gate; a gate whose number changed is made anew.
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
