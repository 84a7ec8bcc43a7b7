package engine

import (
	"context"
	"time"

	"freshseal/core/replacement"
	"freshseal/store"
)

// keep stores the signed chain, its key and the results of request for another try.
func (s *Service) keep(ctx context.Context, j *Job) error {
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil {
		return err
	}
	return s.store.Replacements.SetKeeps(ctx, []int64{j.ID}, store.At(s.now().AddDate(0, 0, rules.KeepSigned())))
}

// watchKept deletes what is kept for another try once it has expired.
func (s *Service) watchKept() {
	for {
		rows, err := s.store.Replacements.KeptUntil(s.stopping, s.moment())
		for _, id := range rows {
			if err := s.DropKept(s.stopping, id, true); err != nil && s.stopping.Err() == nil {
				s.log.Warn("what was kept for another try is left on the device", "replacement", replacement.Name(id),
					"error", err)
			}
		}
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("looking for what is kept", "error", err)
		}
		select {
		case <-time.After(keptEvery):
		case <-s.stopping.Done():
			return
		}
	}
}

// keptEvery is the interval between two checks for expired kept data.
const keptEvery = time.Hour
