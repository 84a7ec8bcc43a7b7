package watch

import (
	"context"
	"strconv"
	"sync"
	"time"

	"freshseal/core/next"
	"freshseal/service/problem"
)

// Sweep is a reading of the whole fleet, under way or ended.
type Sweep struct {
	ID      string     `json:"id" required:"true"`
	Site    string     `json:"site,omitempty" description:"empty: the whole fleet"`
	Slots   int        `json:"slots" required:"true" description:"to be read; 0 until that is known"`
	Read    int        `json:"read" required:"true"`
	Dark    int        `json:"dark" required:"true" description:"could not be read; known at the end"`
	BeganAt time.Time  `json:"began_at" required:"true"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	Why     string     `json:"why,omitempty" description:"why it ended early"`
}

// sweeps are the newest sweeps since the service was started.
type sweeps struct {
	lock sync.Mutex
	all  []*Sweep // oldest first
	last int64    // the newest one's number
}

const mostSweeps = 20

// Sweep begins to read every slot, or those of a site, and returns at once; where such a sweep
// is under way, it returns that one.
func (s *Service) Sweep(ctx context.Context, site string) (Sweep, error) {
	if site != "" {
		n, err := s.store.CountSlotsAt(ctx, site)
		if err == nil && n == 0 {
			err = problem.New(problem.NotFound, "no slot is at "+site, "", "write the site as the devices have it", next.ListSlots.On(""))
		}
		if err != nil {
			return Sweep{}, err
		}
	}
	s.sweeps.lock.Lock()
	defer s.sweeps.lock.Unlock()
	for _, each := range s.sweeps.all {
		if each.EndedAt == nil && each.Site == site {
			return *each, nil
		}
	}
	began := s.now()
	s.sweeps.last = max(s.sweeps.last+1, began.UnixMilli())
	sweep := &Sweep{ID: "s" + strconv.FormatInt(s.sweeps.last, 10), Site: site, BeganAt: began}
	s.sweeps.all = append(s.sweeps.all, sweep)
	if len(s.sweeps.all) > mostSweeps {
		s.sweeps.all = s.sweeps.all[1:]
	}
	s.running.Go(func() { s.sweep(sweep) })
	return *sweep, nil
}

func (s *Service) sweep(sweep *Sweep) {
	_, dark, err := s.ReadAll(s.stopping, sweep.Site, func(read, all int) {
		s.sweeps.lock.Lock()
		defer s.sweeps.lock.Unlock()
		sweep.Read, sweep.Slots = read, all
	})
	s.sweeps.lock.Lock()
	defer s.sweeps.lock.Unlock()
	ended := s.now()
	sweep.Dark, sweep.EndedAt = dark, &ended
	if err != nil {
		sweep.Why = err.Error()
	}
}

// SweepOf shows a sweep.
func (s *Service) SweepOf(id string) (Sweep, error) {
	s.sweeps.lock.Lock()
	defer s.sweeps.lock.Unlock()
	for _, sweep := range s.sweeps.all {
		if sweep.ID == id {
			return *sweep, nil
		}
	}
	return Sweep{}, problem.New(problem.NotFound, "no sweep is called "+id, "only the latest sweeps since the start of the service are kept", "", next.ListSlots.On(""))
}
