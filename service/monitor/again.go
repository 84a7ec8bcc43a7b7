package monitor

import (
	"context"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/store"
)

// judging judges the whole fleet again in the background.
type judging struct {
	lock        sync.Mutex
	wanted      bool          // something changed since the last run began
	done        chan struct{} // closed when the run under way has ended; nil: none is
	judged, all int
}

// Judging returns the progress of the current run, nil if there is none.
func (s *Service) Judging() *contract.Judging {
	s.judging.lock.Lock()
	defer s.judging.lock.Unlock()
	if s.judging.done == nil {
		return nil
	}
	return &contract.Judging{Judged: s.judging.judged, Slots: s.judging.all}
}

// patience is how long a change waits for the fleet to be judged again, so that its effect on a small fleet is visible
// at once.
const patience = 500 * time.Millisecond

// judgeAgain judges every slot again by what is known now. It continues in the background if that takes longer than
// patience.
func (s *rejudging) judgeAgain(ctx context.Context) error {
	s.Forget()
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

// judgeFleet runs until nothing has changed since its last run started.
func (s *rejudging) judgeFleet() {
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
			s.log.Error("judging the fleet again", "error", err)
		}
	}
}

// judgeAll judges what every slot last served, many in one change.
func (s *rejudging) judgeAll(ctx context.Context) error {
	count, err := s.store.Slots.CountAll(ctx)
	if err != nil {
		return err
	}
	s.judging.lock.Lock()
	s.judging.all = count
	s.judging.lock.Unlock()
	for last := int64(0); ; {
		batch, err := s.store.Slots.After(ctx, last, 200)
		if err != nil || len(batch) == 0 {
			return err
		}
		last = batch[len(batch)-1].ID
		if err := s.JudgeSlots(ctx, batch); err != nil {
			return err
		}
		s.judging.lock.Lock()
		s.judging.judged += len(batch)
		s.judging.lock.Unlock()
	}
}

// JudgeSlots judges again what these slots last served.
func (s *Service) JudgeSlots(ctx context.Context, rows []store.Slot) error {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return err
	}
	for i := range rows {
		row := &rows[i]
		s.knowledge.judged.Delete(row.ID)
		about, err := judgedSlot(s, ctx, *row, nil)
		if err != nil {
			return err
		}
		switch {
		case len(row.Chain.V) > 0:
			served, err := s.store.Chains.Certificates(ctx, row.Chain.V)
			if err != nil {
				return err
			}
			s.applyJudgement(row, snapshot.Judge(served, about, s.now()))
		case row.Failure.V != nil:
			s.applyJudgement(row, snapshot.Unreachable(*row.Failure.V, about))
		}
	}
	return s.store.Readings.SetJudgements(ctx, rows, s.moment())
}
