package monitor

import (
	"sync"
	"time"

	"freshseal/contract"
)

// reading durations are counted up to these, in seconds.
var within = []float64{0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10}

// tally counts readings.
type tally struct {
	lock sync.Mutex
	contract.Tally
}

func (t *tally) count(outcome string, took time.Duration) {
	t.lock.Lock()
	defer t.lock.Unlock()
	if t.Outcomes == nil {
		t.Outcomes, t.Within = map[string]uint64{}, map[float64]uint64{}
	}
	t.Outcomes[outcome]++
	t.Seconds += took.Seconds()
	for _, most := range within {
		if took.Seconds() <= most {
			t.Within[most]++
		}
	}
}

// Tally returns a copy of the counts so far.
func (s *Service) Tally() contract.Tally {
	s.tally.lock.Lock()
	defer s.tally.lock.Unlock()
	out := contract.Tally{Outcomes: map[string]uint64{"new": 0, "unchanged": 0, "unreachable": 0},
		Within: map[float64]uint64{}, Seconds: s.tally.Seconds}
	for outcome, n := range s.tally.Outcomes {
		out.Outcomes[outcome] = n
	}
	for _, most := range within {
		out.Within[most] = s.tally.Within[most]
	}
	return out
}
