package wire

import (
	"net"
	"sync"
)

// turns bound how many readings of a round compute at once. Handshakes are mostly waiting and then, for a moment,
// mostly arithmetic. Were all of them to compute as soon as they can, whatever else the service does would wait behind
// dozens of them each time; so each takes a turn, and gives it back while it waits for the box.
type turns struct {
	most int         // turns: as many as there are processors
	busy func() bool // whether somebody waits for the service: half of the turns are left to them then

	lock    sync.Mutex
	changed *sync.Cond
	taken   int
}

func newTurns(most int, busy func() bool) *turns {
	t := &turns{most: most, busy: busy}
	t.changed = sync.NewCond(&t.lock)
	return t
}

// free reports whether a turn may be taken. The lock is held.
func (t *turns) free() bool {
	if t.busy != nil && t.busy() {
		return t.taken < max(1, t.most/2)
	}
	return t.taken < t.most
}

func (t *turns) take() {
	t.lock.Lock()
	defer t.lock.Unlock()
	for !t.free() {
		t.changed.Wait()
	}
	if t.taken++; t.free() { // there are more of them again
		t.changed.Signal()
	}
}

func (t *turns) leave() {
	t.lock.Lock()
	defer t.lock.Unlock()
	t.taken--
	t.changed.Signal()
}

// taking is a connection whose reader has a turn except while it waits for the box: for what comes, and until what it
// sends is taken.
type taking struct {
	net.Conn
	turns *turns
}

func (t taking) Read(p []byte) (int, error) {
	t.turns.leave()
	n, err := t.Conn.Read(p)
	t.turns.take()
	return n, err
}

func (t taking) Write(p []byte) (int, error) {
	t.turns.leave()
	n, err := t.Conn.Write(p)
	t.turns.take()
	return n, err
}
