package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshseal/core/judgement/policy"
	"freshseal/core/replacement"
	"freshseal/store"
)

// gate passes a replacement once it is approved, those who pinned the root have confirmed, the device may be touched,
// and no other replacement touches it.
func (s gates) gate(ctx context.Context, j *Job) (replacement.Event, error) {
	waits := func(whom replacement.WaitingFor) (replacement.Event, error) {
		return replacement.Event{Kind: replacement.Waits, Waiting: whom}, nil
	}
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil {
		return replacement.Event{}, err
	}
	if _, err := s.store.Pins.TellRoots(ctx, j.ID, s.moment()); err != nil {
		return replacement.Event{}, err
	}
	if *rules.Approval != policy.ApprovedByNobody {
		effect, err := s.Effect(ctx, j)
		if err != nil {
			return replacement.Event{}, err
		}
		if j.ApprovedBy != "" && j.ApprovedWhat != effect.Digest {
			s.log.Info("what was approved changed", "replacement", replacement.Name(j.ID), "approved_by", j.ApprovedBy)
			if err := s.store.Replacements.SetApproved(ctx, j.ID, "", ""); err != nil {
				return replacement.Event{}, err
			}
			j.ApprovedBy = ""
		}
		if j.ApprovedBy == "" {
			return waits(replacement.Approval)
		}
	}
	opens, closed, err := s.closed(ctx, j)
	if err == nil {
		err = s.store.Replacements.SetOpens(ctx, j.ID, store.At(opens), closed)
	}
	if err != nil {
		return replacement.Event{}, err
	}
	if closed != "" {
		return waits(replacement.Window)
	}
	if other, err := s.store.Replacements.Touching(ctx, j.DeviceID, j.Cluster, j.ID); err != nil || other != 0 {
		if err == nil {
			err = s.store.Replacements.SetOpens(ctx, j.ID, store.Moment{}, replacement.Name(other)+" is at work there")
		}
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Device}, err
	}
	return replacement.Event{Kind: replacement.Done}, nil
}

// closed returns what opening returns. If the policy requires it, holders of a pinned root who have not confirmed the
// new one keep the gate closed too, for an unknown time.
func (s gates) closed(ctx context.Context, j *Job) (opens time.Time, why string, err error) {
	opens, why, err = s.opening(ctx, j)
	if err != nil || why != "" || j.AnyTime != "" {
		return opens, why, err
	}
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil || !policy.Is(rules.RootPinsFirst) {
		return opens, "", err
	}
	pending, err := s.store.Pins.TellRoots(ctx, j.ID, s.moment())
	if err != nil || pending == 0 {
		return opens, "", err
	}
	return time.Time{}, fmt.Sprintf("%d who pinned the root have not confirmed the new one", pending), nil
}

// opening returns when a device may be touched, zero if unknown, and what keeps the gate closed now, empty if nothing.
func (s gates) opening(ctx context.Context, j *Job) (opens time.Time, closed string, err error) {
	now := s.now()
	if j.AnyTime != "" {
		return now, "", nil
	}
	site, err := s.store.Sites.NamedSite(ctx, j.Box.Site)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return time.Time{}, "", err
	}
	if site.Paused {
		return time.Time{}, "the site " + site.Name + " is paused", nil
	}
	times, err := s.monitor.Touches(ctx, j.First, j.Box.Tags.V)
	if err != nil {
		return time.Time{}, "", err
	}
	need, err := s.takes(ctx, j)
	if err != nil {
		return time.Time{}, "", err
	}
	from := now
	if j.NotBefore.After(now) {
		from, closed = j.NotBefore.Time, "it was to begin at "+j.NotBefore.UTC().Format("2006-01-02 15:04 MST")
	}
	opens, why := times.Opening(from, need)
	// one is open: it counts where it opened after it was asked for
	if !j.AfterOpen.IsZero() && closed == "" && why == "" {
		if !times.OpenedSince(j.AfterOpen.Time, from) {
			opens, closed = times.OpensAfter(from, need), "it was to wait for the next window"
		}
	}
	if closed == "" {
		closed = why
	}
	if opens.IsZero() && why != "" {
		closed += fmt.Sprintf("; work and way back take up to %s, which fits into no window of the next 400 days",
			need.Round(time.Second))
	}
	return opens, closed, nil
}

// fewest is the number of earlier replacements of a family needed to estimate a duration.
const fewest = 5

// takes returns how long the work on a device and the way back may take: twice the 90th percentile of the earlier
// replacements of the family, or the limits of its procedure.
func (s gates) takes(ctx context.Context, j *Job) (time.Duration, error) {
	took, err := s.store.Replacements.TookLive(ctx, j.Box.Family, 50)
	if err != nil {
		return 0, err
	}
	if len(took) < fewest {
		return 2*j.Family.Traits.RestartLimit + j.Family.Traits.RollsBack + 2*time.Minute, nil
	}
	slices.Sort(took)
	return 2 * time.Duration(took[(len(took)*9-1)/10]) * time.Millisecond, nil
}

// unknownEvery is the number of checks after which a gate is checked again whose opening time is unknown.
const unknownEvery = 5

// watchGates passes replacements whose device may be touched by now. A gate that opens later is not checked before,
// unless a rule changed.
func (s *Service) watchGates() {
	for looks, seen := 0, int64(-1); ; looks++ {
		rows, err := s.store.Replacements.AtGates(s.stopping)
		var rules int64
		if err == nil && len(rows) > 0 {
			rules, err = s.monitor.Version(s.stopping)
		}
		now, changed := s.now(), rules != seen
		seen = rules
		for _, row := range rows {
			if row.WaitingFor == replacement.Window && !changed && (row.OpensAt.After(now) || row.OpensAt.IsZero() &&
				looks%unknownEvery != 0) {
				continue
			}
			if err := s.tryGate(s.stopping, row); err != nil && s.stopping.Err() == nil {
				s.log.Error("looking whether a device may be touched", "replacement", replacement.Name(row.ID),
					"error", err)
			}
		}
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("looking for replacements at the gate", "error", err)
		}
		select {
		case <-time.After(gateEvery):
		case <-s.stopping.Done():
			return
		}
	}
}

// tryGate checks a gate again after what kept it closed has ended. It also finds a window that opens earlier than
// known, because a rule changed.
func (s *Service) tryGate(ctx context.Context, row store.AtGate) error {
	if row.WaitingFor == replacement.Device {
		other, err := s.store.Replacements.Touching(ctx, row.DeviceID, row.Cluster, row.ID)
		if err != nil || other != 0 {
			return err
		}
	} else {
		j, err := s.Load(ctx, row.ID)
		if err != nil {
			return err
		}
		opens, closed, err := s.closed(ctx, j)
		if err != nil {
			return err
		}
		if closed != "" {
			if !opens.Equal(row.OpensAt.Time) || closed != row.Closed {
				return s.store.Replacements.SetOpens(ctx, row.ID, store.At(opens), closed)
			}
			return nil
		}
	}
	return s.Arrive(ctx, row.ID)
}

// ToldRoot checks the gate of a replacement again after somebody confirmed its root.
func (s *Service) ToldRoot(ctx context.Context, id int64) error {
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil || r.State != replacement.Waiting || r.WaitingFor != replacement.Window {
		return err
	}
	return s.tryGate(ctx, store.AtGate{ID: r.ID, DeviceID: r.DeviceID, Cluster: r.Cluster, WaitingFor: r.WaitingFor,
		OpensAt: r.OpensAt, Closed: r.Closed})
}

// Arrive resumes a waiting replacement.
func (s *Service) Arrive(ctx context.Context, id int64) error {
	action, err := s.Advance(ctx, id, replacement.Event{Kind: replacement.Arrived})
	if errors.As(err, new(replacement.Impossible)) {
		return nil // somebody was faster
	}
	if err == nil {
		s.Drive(id, action)
	}
	return err
}
