package monitor

import (
	"context"
	"math/rand/v2"
	"slices"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/judge"
	"freshseal/store"
	"freshseal/wire"
)

const (
	lease      = 5 * time.Minute // a slot that is being read is due again after that, whatever happened
	eachTick   = 100             // slots that are begun in a tick: a start after a long rest is no storm
	tickEvery  = 2 * time.Second
	rounds     = 4 // of readings at once
	atOnceEach = 32
)

// again returns when a slot is read next after a reading, and how many readings in a row showed
// nothing.
func (s *reader) again(snapshot *judge.Snapshot, row store.SlotToRead, sight Sight) (next store.Moment, misses int) {
	if sight.Why != nil {
		misses = row.Misses + 1
	}
	every := s.readEvery
	if rules := snapshot.Rules(judge.Place{Site: row.Site, Device: row.Device}); rules.ReadMinutes != nil {
		every = time.Duration(*rules.ReadMinutes) * time.Minute
	}
	if every == 0 {
		every = 24 * time.Hour // nobody reads by itself now; a later start does
	}
	rhythm := due.Rhythm{Every: every, NotAfter: row.NotAfter.Time, Due: row.DueFrom.Time,
		Installed: row.Installed.Time, Misses: misses}
	return store.At(sight.At.Add(rhythm.Next(sight.At, rand.Float64()))), misses
}

// schedule reads the slots whose time has come, until the service is stopped.
func (s *reader) schedule() {
	tick := time.NewTicker(min(tickEvery, max(s.readEvery/4, 50*time.Millisecond)))
	defer tick.Stop()
	places := make(chan struct{}, rounds)
	for {
		select {
		case <-tick.C:
		case <-s.stopping.Done():
			return
		}
		select {
		case places <- struct{}{}:
		default:
			continue // silent boxes keep all rounds busy
		}
		rows, err := s.takeDue(s.stopping)
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("looking for slots to read", "error", err)
		}
		if len(rows) == 0 {
			<-places
			continue
		}
		s.running.Go(func() {
			defer func() { <-places }()
			if _, _, err := s.read(s.stopping, slices.Values(rows), wire.Many{Fast: atOnceEach}, nil); err != nil &&
				s.stopping.Err() == nil {
				s.log.Error("reading slots", "error", err)
			}
		})
	}
}

// takeDue takes the slots whose time has come, at sites that can be reached now.
func (s *reader) takeDue(ctx context.Context) ([]store.SlotToRead, error) {
	resting, err := s.access.Resting(ctx, s.now())
	if err != nil {
		return nil, err
	}
	return s.store.Readings.TakeDue(ctx, s.moment(), lease, eachTick, resting)
}
