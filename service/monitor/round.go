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

// slotsAtOnce is how many slots are loaded at once where all are gone through: what
// that takes of memory is the same for every fleet.
const slotsAtOnce = 1000

// eachSlot hands every slot, of the fleet or of a site, to yield until that returns false.
// err is set when it ended early.
func (s *Service) eachSlot(ctx context.Context, site *string, err *error) iter.Seq[store.SlotToRead] {
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

// gathering is a slot whose addresses are partly read.
type gathering struct {
	row   store.SlotToRead
	sight Sight
	open  int
}

// round is a round of readings under way: the slots of which something is being read.
type round struct {
	lock sync.Mutex
	of   map[int]place // by the place of the target in the sequence
}

type place struct {
	of  *gathering
	nth int // which of its addresses
}

// took puts a reading where it belongs, and returns the slot once it is read at all
// its addresses.
func (w *round) took(i int, reading wire.Reading) *gathering {
	w.lock.Lock()
	defer w.lock.Unlock()
	p := w.of[i]
	delete(w.of, i)
	g := p.of
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

// targets are all addresses of slots. What a slot served last is given along where nothing
// changed by which it was judged: then the same again needs no look.
func (s *Service) targets(ctx context.Context, w *round, rows iter.Seq[store.SlotToRead]) iter.Seq[wire.Target] {
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

// Progress tells how far a round is; it may be nil.
type Progress func(read int)

// read reads slots, many at once, keeps what was seen, and says how many were read and how many
// of them are unreachable.
func (s *Service) read(ctx context.Context, rows iter.Seq[store.SlotToRead], many wire.Many,
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
	keep := recorder{s: s}
	for g := range all {
		if err != nil || ctx.Err() != nil {
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
	return read, unreachable, cmp.Or(err, keep.flush(context.WithoutCancel(ctx)), ctx.Err())
}

// ReadAll reads every slot of the fleet, or of a site where one is named, many at once. told is
// called after each with how many there are.
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
	read, unreachable, err = s.read(ctx, s.eachSlot(ctx, only, &loading), wire.Many{Fast: s.width}, func(read int) {
		if told != nil {
			told(read, max(count, read))
		}
	})
	return read, unreachable, cmp.Or(err, loading)
}
