package watch

import (
	"strconv"
	"sync"
	"time"

	"freshseal/core/next"
	"freshseal/service/problem"
)

// Sweep is a reading of the whole fleet, under way or ended.
type Sweep struct {
	ID      string     `json:"id" required:"true"`
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
}

const mostSweeps = 20

// Sweep begins to read every slot and returns at once; where a sweep is under way,
// it returns that one.
func (s *Service) Sweep() Sweep {
	s.sweeps.lock.Lock()
	defer s.sweeps.lock.Unlock()
	if n := len(s.sweeps.all); n > 0 && s.sweeps.all[n-1].EndedAt == nil {
		return *s.sweeps.all[n-1]
	}
	began := s.now()
	sweep := &Sweep{ID: "s" + strconv.FormatInt(began.UnixMilli(), 10), BeganAt: began}
	s.sweeps.all = append(s.sweeps.all, sweep)
	if len(s.sweeps.all) > mostSweeps {
		s.sweeps.all = s.sweeps.all[1:]
	}
	s.running.Go(func() { s.sweep(sweep) })
	return *sweep
}

func (s *Service) sweep(sweep *Sweep) {
	_, dark, err := s.ReadAll(s.stopping, func(read, all int) {
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
