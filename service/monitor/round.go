package monitor

import (
	"cmp"
	"context"
	"errors"
	"iter"
	"slices"
	"sync"

	"freshseal/store"
	"freshseal/wire"
)

// slotsAtOnce is how many slots are loaded at once when all are read, so that the memory needed does not grow with the
// fleet.
const slotsAtOnce = 1000

// eachSlot hands every slot, of the fleet or of a site, to yield until that returns false.
// err is set when it ended early.
func (s *reader) eachSlot(ctx context.Context, site *string, err *error) iter.Seq[store.SlotToRead] {
	return func(yield func(store.SlotToRead) bool) {
		for last := int64(0); ; {
			rows, failed := s.store.Slots.ToRead(ctx, site, last, slotsAtOnce)
			if failed != nil {
				*err = failed
				return
			}
			for _, row := range rows {
				if !yield(row) {
					return
				}
				last = row.ID
			}
			if len(rows) < slotsAtOnce {
				return
			}
		}
	}
}

// gathering is a slot of which some addresses are read.
type gathering struct {
	row   store.SlotToRead
	sight Sight
	open  int
	own   error // see wire.Reading
}

// round is a running round of readings, with the slots being read.
type round struct {
	lock sync.Mutex
	of   map[int]place // by the place of the target in the sequence
}

type place struct {
	of  *gathering
	nth int // which of its addresses
}

// took records a reading, and returns the slot once all its addresses are read.
func (w *round) took(i int, reading wire.Reading) *gathering {
	w.lock.Lock()
	defer w.lock.Unlock()
	p := w.of[i]
	delete(w.of, i)
	g := p.of
	g.own = cmp.Or(g.own, reading.Own)
	if p.nth == 0 {
		g.sight.Reading = reading
	} else {
		g.sight.Others[p.nth-1] = besides(g.sight.Others[p.nth-1], reading)
	}
	if g.open--; g.open > 0 {
		return nil
	}
	return g
}

// targets returns all addresses of slots. The last leaf of a slot is included if its judgement is still valid: then an
// equal answer needs no judgement.
func (s *reader) targets(ctx context.Context, w *round, rows iter.Seq[store.SlotToRead]) iter.Seq[wire.Target] {
	return func(yield func(wire.Target) bool) {
		i := 0
		for row := range rows {
			places := Places(row)
			g := &gathering{row: row, open: len(places), sight: Sight{Others: slices.Clone(places[1:])}}
			for nth, at := range places {
				t := s.targetOf(ctx, row, at)
				t.Closer = nth == 0 && wantsLook(row, s.now())
				if nth == 0 && s.knowledge.holds(row.ID, s.now()) {
					t.Last = row.Chain.V
				}
				w.lock.Lock()
				w.of[i] = place{g, nth}
				w.lock.Unlock()
				i++
				if !yield(t) {
					return
				}
			}
		}
	}
}

// Progress is called with the number of slots read so far; it may be nil.
type Progress func(read int)

// read reads slots, many at once, stores the readings, and returns how many were read and how many are unreachable.
func (s *reader) read(ctx context.Context, rows iter.Seq[store.SlotToRead], many wire.Many,
	told Progress) (read, unreachable int, err error) {
	under := round{of: map[int]place{}}
	all := make(chan *gathering, 64)
	go func() {
		defer close(all)
		s.reader.ReadAll(ctx, s.targets(ctx, &under, rows), many, func(one wire.Numbered, reading wire.Reading) {
			if g := under.took(one.N, reading); g != nil {
				all <- g
			}
		})
	}()
	keep := recorder{s: s.Service}
	var own error // of a slot that is read again another time: what was seen says nothing of it
	for g := range all {
		if err != nil || ctx.Err() != nil {
			continue
		}
		if g.own != nil {
			own = cmp.Or(own, g.own)
			continue
		}
		read++
		if g.sight.Why != nil {
			unreachable++
		}
		if err = keep.take(ctx, g.row, g.sight); errors.Is(err, store.ErrNotFound) {
			err = nil // removed while it was read
		}
		if told != nil {
			told(read)
		}
	}
	return read, unreachable, cmp.Or(err, keep.flush(context.WithoutCancel(ctx)), ctx.Err(), own)
}

// ReadAll reads every slot of the fleet, or of a site if one is named, many at once. told is
// called after each with the count.
func (s *Service) ReadAll(ctx context.Context, site string,
	told func(read, all int)) (read, unreachable int, err error) {
	count, err := s.store.Slots.CountAll(ctx)
	var only *string
	if site != "" {
		only = &site
		count, err = s.store.Slots.CountAt(ctx, site)
	}
	if err != nil {
		return 0, 0, err
	}
	var loading error
	read, unreachable, err = s.reading.read(ctx, s.reading.eachSlot(ctx, only, &loading), wire.Many{Fast: s.width},
		func(read int) {
			if told != nil {
				told(read, max(count, read))
			}
		})
	return read, unreachable, cmp.Or(err, loading)
}
