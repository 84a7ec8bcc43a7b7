package monitor

import "time"

// turnEvery is how late, at most, lists and counts show a condition that time alone has changed.
const turnEvery = time.Second

// turner writes the conditions that time alone changes.
type turner struct {
	*Service
	failed bool // last time, so that a disk that stays full is reported once
}

func (t *turner) turn() {
	err := t.store.Slots.Turn(t.stopping, t.moment())
	if err != nil && t.stopping.Err() == nil && !t.failed {
		t.log.Error("writing conditions that time has changed", "error", err)
	}
	t.failed = err != nil
}

// run turns until the service stops.
func (t *turner) run() {
	tick := time.NewTicker(turnEvery)
	defer tick.Stop()
	for {
		select {
		case <-t.stopping.Done():
			return
		case <-tick.C:
			t.turn()
		}
	}
}
