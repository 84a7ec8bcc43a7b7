package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"freshseal/core/chain"
	"freshseal/core/judge"
	"freshseal/store"
	"freshseal/wire"
)

// knowledge holds the snapshot by which readings are judged. It is made anew when
// something of it changes, and not for each reading.
type knowledge struct {
	lock    sync.Mutex
	now     *judge.Snapshot
	version int64
	judged  sync.Map // slot id → verdict
}

// verdict says by what a slot's reading was judged: where nothing of it changed,
// it need not be judged again.
type verdict struct {
	reading string
	version int64
	until   time.Time
}

// forget has the snapshot made anew when it is next needed.
func (s *Service) forget() {
	s.knowledge.lock.Lock()
	defer s.knowledge.lock.Unlock()
	s.knowledge.now = nil
}

// snapshot is what is known of the fleet now.
func (s *Service) snapshot(ctx context.Context) (*judge.Snapshot, error) {
	k := &s.knowledge
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.now != nil {
		return k.now, nil
	}
	roots, err := s.store.Anchors(ctx, Fleet)
	if err != nil {
		return nil, err
	}
	middle, err := s.store.Authorities(ctx)
	if err != nil {
		return nil, err
	}
	scopes, err := s.store.Policies(ctx)
	if err != nil {
		return nil, err
	}
	signers, err := s.Signers(ctx)
	if err != nil {
		return nil, err
	}
	k.version++
	k.now = &judge.Snapshot{Version: k.version, Anchors: chain.NewPool(roots...), Authorities: chain.NewPool(middle...), Scopes: scopes, Turnaround: map[string]int{}}
	for _, each := range signers {
		k.now.Turnaround[each.Name] = each.TurnaroundDays
	}
	return k.now, nil
}

// judgedSlot is what a judgement must know of a slot.
func judgedSlot(row store.Slot) judge.Slot {
	return judge.Slot{Place: placeOf(row), ServerName: row.ServerName, Installed: row.Installed}
}

func placeOf(row store.Slot) judge.Place {
	return judge.Place{Site: row.Site, Device: row.Device, Signer: row.Signer}
}

// keyOf is equal for readings that say the same.
func keyOf(r wire.Reading) string {
	var b strings.Builder
	for _, c := range r.Chain {
		b.WriteString(c.SHA256)
	}
	fmt.Fprint(&b, "\x00", r.Version, "\x00", r.Suite)
	if r.Why != nil {
		fmt.Fprint(&b, "\x00", r.Why.Code, "\x00", r.Why.What)
	}
	return b.String()
}

// recorder keeps readings with their judgement, many in one change. Those that say
// what the one before said are not judged, and nothing is looked up for them.
type recorder struct {
	s     *Service
	seen  []store.Seen
	fresh []store.NewReading
	marks []verdict // of fresh
}

const mostKept = 200

// take keeps one reading.
func (r *recorder) take(ctx context.Context, row store.Slot, reading wire.Reading) error {
	snapshot, err := r.s.snapshot(ctx)
	if err != nil {
		return err
	}
	key := keyOf(reading)
	known, ok := r.s.knowledge.judged.Load(row.ID)
	if v, _ := known.(verdict); ok && !row.ReadAt.IsZero() && v.version == snapshot.Version && v.reading == key && (v.until.IsZero() || reading.At.Before(v.until)) {
		r.seen = append(r.seen, store.Seen{Slot: row.ID, At: store.At(reading.At)})
	} else {
		until := r.s.judge(snapshot, &row, reading)
		r.fresh, r.marks = append(r.fresh, store.NewReading{Slot: row, Served: reading.Chain}), append(r.marks, verdict{key, snapshot.Version, until})
	}
	if len(r.seen)+len(r.fresh) >= mostKept {
		return r.flush(ctx)
	}
	return nil
}

// flush writes what is not written yet.
func (r *recorder) flush(ctx context.Context) error {
	seen, fresh, marks := r.seen, r.fresh, r.marks
	r.seen, r.fresh, r.marks = nil, nil, nil
	if len(seen) > 0 {
		if err := r.s.store.TouchSlots(ctx, seen); err != nil {
			return err
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	late, err := r.s.store.AddReadings(ctx, fresh)
	if err != nil {
		return fmt.Errorf("keeping readings: %w", err)
	}
	for i, one := range fresh {
		if !slices.Contains(late, i) {
			r.s.knowledge.judged.Store(one.ID, marks[i])
		}
	}
	for _, i := range late {
		if err := r.again(ctx, fresh[i]); err != nil {
			return err
		}
	}
	return nil
}

// again keeps a reading of a slot on which something was installed while it was
// read. One that is older than what stands there, or of a slot that was removed, is
// dropped.
func (r *recorder) again(ctx context.Context, one store.NewReading) error {
	row, err := r.s.store.Slot(ctx, one.Device, one.Name)
	if errors.Is(err, store.ErrNotFound) || err == nil && (row.ID != one.ID || one.ReadAt.Before(row.ReadAt.Time)) {
		return nil
	}
	if err != nil {
		return err
	}
	snapshot, err := r.s.snapshot(ctx)
	if err != nil {
		return err
	}
	reading := wire.Reading{At: one.ReadAt.Time, Chain: one.Served, Version: one.Version, Suite: one.Suite, Why: one.Failure.V}
	r.s.judge(snapshot, &row, reading)
	_, err = r.s.store.AddReadings(ctx, []store.NewReading{{Slot: row, Served: one.Served}})
	return err
}

// record keeps a single reading.
func (s *Service) record(ctx context.Context, row store.Slot, reading wire.Reading) error {
	row, err := s.store.Slot(ctx, row.Device, row.Name)
	if err != nil {
		return fmt.Errorf("keeping the reading: %w", err)
	}
	r := recorder{s: s}
	if err := r.take(ctx, row, reading); err != nil {
		return err
	}
	return r.flush(ctx)
}

// judge fills in a slot with a reading and what it means, and says until when that
// holds.
func (s *Service) judge(snapshot *judge.Snapshot, row *store.Slot, reading wire.Reading) (until time.Time) {
	row.ReadAt, row.Version, row.Suite = store.At(reading.At), reading.Version, reading.Suite
	row.Chain.V, row.Failure.V = []string{}, reading.Why
	row.Subject, row.SelfSigned, row.NotAfter = "", false, store.Moment{}
	var judged judge.Judgement
	if reading.Why != nil {
		judged = snapshot.Dark(*reading.Why, judgedSlot(*row))
	} else {
		leaf := reading.Leaf()
		row.Subject, row.SelfSigned, row.NotAfter = leaf.ShortName(), leaf.SelfSigned(), store.At(leaf.NotAfter)
		for _, c := range reading.Chain {
			row.Chain.V = append(row.Chain.V, c.SHA256)
		}
		judged = snapshot.Judge(reading.Chain, judgedSlot(*row), s.now())
	}
	settleOn(row, judged)
	return judged.Until
}

func settleOn(row *store.Slot, j judge.Judgement) {
	row.Findings.V = j.Findings
	row.Standing, row.OverdueFrom, row.DueFrom = j.Standing.Base, store.At(j.Standing.Overdue), store.At(j.Standing.Due)
}

// judging is the work of judging the whole fleet anew, in the background.
type judging struct {
	lock        sync.Mutex
	wanted      bool          // something changed since the last run began
	done        chan struct{} // closed when the run under way has ended; nil: none is
	judged, all int
}

// Judging says how far the fleet has been judged anew after a change.
type Judging struct {
	Judged int `json:"judged" required:"true"`
	Slots  int `json:"slots" required:"true"`
}

// Judging is the run under way, or nil.
func (s *Service) Judging() *Judging {
	s.judging.lock.Lock()
	defer s.judging.lock.Unlock()
	if s.judging.done == nil {
		return nil
	}
	return &Judging{s.judging.judged, s.judging.all}
}

// patience is how long a change waits for the fleet to be judged anew, so that in
// a small fleet its effect is seen at once.
const patience = 500 * time.Millisecond

// judgeAgain has every slot judged anew by what is known now. It goes on in the
// background where that takes longer than patience.
func (s *Service) judgeAgain(ctx context.Context) error {
	s.forget()
	j := &s.judging
	j.lock.Lock()
	j.wanted = true
	if j.done == nil {
		j.done = make(chan struct{})
		s.running.Go(s.judgeFleet)
	}
	done := j.done
	j.lock.Unlock()
	select {
	case <-done:
	case <-time.After(patience):
	case <-ctx.Done():
	}
	return nil
}

// judgeFleet runs until nothing has changed since its last run began.
func (s *Service) judgeFleet() {
	j := &s.judging
	for {
		j.lock.Lock()
		if !j.wanted || s.stopping.Err() != nil {
			close(j.done)
			j.done = nil
			j.lock.Unlock()
			return
		}
		j.wanted, j.judged, j.all = false, 0, 0
		j.lock.Unlock()
		if err := s.judgeAll(s.stopping); err != nil && s.stopping.Err() == nil {
			s.options.Log.Error("judging the fleet anew", "error", err)
		}
	}
}

// judgeAll judges what every slot last served, many in one change.
func (s *Service) judgeAll(ctx context.Context) error {
	rows, err := s.store.Slots(ctx)
	if err != nil {
		return err
	}
	s.judging.lock.Lock()
	s.judging.all = len(rows)
	s.judging.lock.Unlock()
	for batch := range slices.Chunk(rows, 200) {
		snapshot, err := s.snapshot(ctx)
		if err != nil {
			return err
		}
		for i := range batch {
			row := &batch[i]
			s.knowledge.judged.Delete(row.ID)
			switch {
			case len(row.Chain.V) > 0:
				served, err := s.store.Certificates(ctx, row.Chain.V)
				if err != nil {
					return err
				}
				settleOn(row, snapshot.Judge(served, judgedSlot(*row), s.now()))
			case row.Failure.V != nil:
				settleOn(row, snapshot.Dark(*row.Failure.V, judgedSlot(*row)))
			}
		}
		if err := s.store.SetJudgements(ctx, batch, s.moment()); err != nil {
			return err
		}
		s.judging.lock.Lock()
		s.judging.judged += len(batch)
		s.judging.lock.Unlock()
	}
	return nil
}
