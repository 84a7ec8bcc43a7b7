package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/store"
)

// Drive advances a replacement in the background until it waits, is held or ends. Each replacement has at most one
// driver.
func (s *Service) Drive(id int64, action replacement.Action) {
	if action == replacement.Nothing {
		return
	}
	if _, has := s.driven.LoadOrStore(id, struct{}{}); has {
		return // its driver looks once more before it leaves
	}
	s.drivers.start(&s.running, func() {
		if s.driveOn(id, action) {
			s.lookAgain(id)
		}
	})
}

// lookAgain restarts the driver of a replacement that was resumed while its driver was exiting.
func (s *Service) lookAgain(id int64) {
	r, err := s.store.Replacements.Get(s.stopping, id)
	if err == nil && r.State == replacement.Running {
		s.Drive(id, r.Progress().InHand())
	}
}

// driveOn advances a replacement until it stops, and reports whether the state it stopped in is on record. While the
// database cannot be written it tries again, so that no running replacement is left without a driver.
func (s *Service) driveOn(id int64, action replacement.Action) bool {
	defer s.driven.Delete(id)
	for tries := 0; action != replacement.Nothing; {
		event, err := s.rescued(s.stopping, id, action)
		if s.stopping.Err() != nil {
			return false // taken up at the next start
		}
		if errors.As(err, new(*device.JournalError)) {
			s.log.Error("the journal cannot be written; trying again", "replacement", replacement.Name(id), "error",
				err)
			if !s.pause(&tries) {
				return false
			}
			continue // what became of the step is found out first
		}
		if err != nil {
			event = replacement.Event{Kind: failureOf(action), Why: err.Error()}
		}
		for {
			next, err := s.Advance(context.WithoutCancel(s.stopping), id, event)
			if err == nil {
				action = next
				break
			}
			s.log.Error("replacement stands still", "replacement", replacement.Name(id), "event", event.Kind, "error",
				err)
			if errors.As(err, new(replacement.Impossible)) || !s.pause(&tries) {
				return false
			}
		}
	}
	return true
}

// pause waits before the next try, longer each time. It returns false once the service is stopping.
func (s *Service) pause(tries *int) bool {
	*tries++
	select {
	case <-time.After(min(time.Duration(*tries)*5*s.between/2, time.Minute)):
		return true
	case <-s.stopping.Done():
		return false
	}
}

// rescued performs an action. A panic in it fails this replacement alone.
func (s *Service) rescued(ctx context.Context, id int64,
	action replacement.Action) (event replacement.Event, err error) {
	defer func() {
		if r := recover(); r != nil {
			s.log.Error("a replacement panicked", "replacement", replacement.Name(id), "panic", r, "stack",
				string(debug.Stack()))
			event, err = replacement.Event{}, fmt.Errorf("the service failed in this stage: %v; the log says where", r)
		}
	}()
	return s.perform(ctx, id, action)
}

// failureOf returns the event for an action that failed when nothing more specific is known.
func failureOf(action replacement.Action) replacement.EventKind {
	if action == replacement.ClearAway {
		return replacement.NotClearable
	}
	return replacement.Failed
}

// Advance applies an event to the stage machine.
func (s *Service) Advance(ctx context.Context, id int64, e replacement.Event) (replacement.Action, error) {
	r, action, err := s.store.Replacements.Advance(ctx, id, e, s.moment())
	// another one began to touch the device at this moment
	if errors.Is(err, store.ErrTaken) && e.Kind == replacement.Done {
		r, action, err = s.store.Replacements.Advance(ctx, id,
			replacement.Event{Kind: replacement.Waits, Waiting: replacement.Device}, s.moment())
	}
	if err != nil {
		return replacement.Nothing, err
	}
	s.log.Info("replacement", "replacement", replacement.Name(id), "device", r.Device, "slot", r.Slot, "stage",
		r.Stage, "state", r.State, "event", e.Kind, "why", e.Why)
	if r.State != replacement.Running && r.State != replacement.Waiting {
		if err := s.unexpect(ctx, id); err != nil {
			s.log.Error("judging the slots of a replacement", "replacement", replacement.Name(id), "error", err)
		}
	}
	if r.State.Over() || e.Kind == replacement.AskedAgain {
		s.Made.Delete(id)
	}
	return action, nil
}

// unexpect withdraws what a replacement allows its slots to serve, and judges what they serve now.
func (s *Service) unexpect(ctx context.Context, id int64) error {
	targets, err := s.store.Replacements.Targets(ctx, id)
	if err != nil || len(targets[id]) == 0 {
		return err
	}
	j := &Job{Targets: targets[id]}
	s.monitor.Unexpect(j.SlotIDs())
	rows := make([]store.Slot, 0, len(j.Targets))
	for _, t := range j.Targets {
		row, err := s.store.Slots.Get(ctx, t.Device, t.Name)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return s.monitor.JudgeSlots(ctx, rows)
}

// takeUpOne continues a replacement that was running when the service stopped. The outcome of a step that was under way
// is determined first; see perform.
func (s *Service) takeUpOne(ctx context.Context, r store.Replacement) error {
	action, err := s.Advance(ctx, r.ID, replacement.Event{Kind: replacement.Interrupted})
	if err != nil {
		return err
	}
	s.Drive(r.ID, action)
	return nil
}

// perform carries out an action of the stage machine and returns the resulting event. If the replacement then waits, is
// held or has ended, the enclosing steps of the visit are left first.
func (s *Service) perform(ctx context.Context, id int64, action replacement.Action) (replacement.Event, error) {
	j, err := s.Load(ctx, id)
	if err != nil {
		return replacement.Event{}, err
	}
	defer s.lockDevice(j.DeviceID)()
	if err := s.monitor.Expect(ctx, j.Replacement, j.Targets); err != nil {
		return replacement.Event{}, err
	}
	w, leave, err := s.Visit(ctx, j)
	if err != nil {
		return replacement.Event{}, err
	}
	defer leave()
	event, err := w.performed(ctx, action)
	if ctx.Err() != nil || errors.As(err, new(*device.JournalError)) {
		return event, err
	}
	if err != nil {
		event = replacement.Event{Kind: failureOf(action), Why: err.Error()}
	}
	event = w.leaveVisit(ctx, event)
	if after, _, err := j.Progress().On(event); err == nil && after.State == replacement.Sealed {
		return event, s.unexpect(ctx, id) // before it counts as sealed: what changes after that is reported as such
	}
	return event, nil
}

// backup reads once more what is served, and keeps what a revert will need. Nothing live is changed.
func (w *visit) backup(ctx context.Context) (replacement.Event, error) {
	done, err := w.lookBefore(ctx)
	if err != nil {
		return w.outcome(err)
	}
	if done {
		return replacement.Event{Kind: replacement.Already}, nil
	}
	w.j.Material.OldSHA256 = w.j.OldSHA256
	w.j.Scope = w.j.Scope.WithMaterial(w.j.Material)
	return w.outcome(w.section(ctx, procedure.Backup))
}
