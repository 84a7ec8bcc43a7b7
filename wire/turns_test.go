package wire

import (
	"sync/atomic"
	"testing"
	"time"
)

// While somebody waits for the service, half of the turns are left to them; when nobody does any more, all are taken
// again.
func TestHalfOfTheTurnsAreLeftWhileSomebodyWaits(t *testing.T) {
	var busy atomic.Bool
	busy.Store(true)
	turns := newTurns(4, busy.Load)
	took := make(chan struct{}, 8)
	for range 6 {
		go func() { turns.take(); took <- struct{}{} }()
	}
	count := func() (n int) {
		for {
			select {
			case <-took:
				n++
			case <-time.After(100 * time.Millisecond):
				return n
			}
		}
	}
	if n := count(); n != 2 {
		t.Errorf("%d of 4 turns are taken while somebody waits", n)
	}
	busy.Store(false)
	turns.leave()
	if n := count(); n != 3 {
		t.Errorf("%d more turns are taken when nobody waits and one was given back, not 3", n)
	}
	for range 4 {
		turns.leave()
	}
	if n := count(); n != 1 {
		t.Errorf("%d more are taken of the last waiting", n)
	}
}
