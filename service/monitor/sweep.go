package monitor

import (
	"context"
	"strconv"
	"sync"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/problem"
)

// sweeps are the newest sweeps since the service started.
type sweeps struct {
	lock sync.Mutex
	all  []*contract.Sweep // oldest first
	last int64             // the newest one's number
}

const mostSweeps = 20

// Sweep starts to read every slot, or those of a site, and returns at once. If such a sweep is running, it returns that
// one.
func (s *Sweeps) Sweep(ctx context.Context, site string) (contract.Sweep, error) {
	if site != "" {
		n, err := s.store.Slots.CountAt(ctx, site)
		if err == nil && n == 0 {
			err = problem.New(problem.NotFound, "no slot is at "+site, "", "write the site as the devices have it",
				next.ListSlots.On(""))
		}
		if err != nil {
			return contract.Sweep{}, err
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
	sweep := &contract.Sweep{ID: "s" + strconv.FormatInt(s.sweeps.last, 10), Site: site, BeganAt: began}
	s.sweeps.all = append(s.sweeps.all, sweep)
	if len(s.sweeps.all) > mostSweeps {
		s.sweeps.all = s.sweeps.all[1:]
	}
	s.running.Go(func() { s.sweep(sweep) })
	return *sweep, nil
}

func (s *Sweeps) sweep(sweep *contract.Sweep) {
	_, unreachable, err := s.ReadAll(s.stopping, sweep.Site, func(read, all int) {
		s.sweeps.lock.Lock()
		defer s.sweeps.lock.Unlock()
		sweep.Read, sweep.Slots = read, all
	})
	s.sweeps.lock.Lock()
	defer s.sweeps.lock.Unlock()
	ended := s.now()
	sweep.Unreachable, sweep.EndedAt = unreachable, &ended
	if err != nil {
		sweep.Why = err.Error()
	}
}

// SweepOf shows a sweep.
func (s *Sweeps) SweepOf(id string) (contract.Sweep, error) {
	s.sweeps.lock.Lock()
	defer s.sweeps.lock.Unlock()
	for _, sweep := range s.sweeps.all {
		if sweep.ID == id {
			return *sweep, nil
		}
	}
	return contract.Sweep{}, problem.New(problem.NotFound, "no sweep is called "+id, "only the latest sweeps since "+
		"the start of the service are kept", "", next.ListSlots.On(""))
}
