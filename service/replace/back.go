package replace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
)

// putBack undoes what was changed and proves that what stood before is served again, at every address, and would be
// after the device's next restart. The wire is read in any case, so that the slot's condition is the truth. What
// request made stays: the signed chain and its key can be used for another try.
func (s *Service) putBack(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	undone := runner.Back(ctx, procedure.Revert, procedure.Backup, j.scope)
	if errors.Is(undone, device.ErrPerson) || ctx.Err() != nil || errors.As(undone, new(*device.JournalError)) {
		return s.outcome(undone)
	}
	proven, err := s.awaitBefore(ctx, j, runner)
	switch {
	case ctx.Err() != nil, errors.As(err, new(*device.JournalError)), errors.Is(err, device.ErrPerson):
		return s.outcome(err)
	case err != nil:
		proven = err.Error()
	}
	if step := (*device.StepError)(nil); errors.As(undone, &step) && step.Unknown() {
		return s.outcome(undone)
	}
	w, err := s.sights(ctx, &j)
	if err != nil {
		return s.outcome(err)
	}
	switch {
	case undone != nil:
		return replacement.Event{}, fmt.Errorf("putting the old certificate back failed: %w; %s", undone,
			cmp.Or(proven, "the old certificate is served all the same"))
	case proven != "" && runner.Undone():
		return replacement.Event{}, fmt.Errorf("what was changed was put back, and %s", proven)
	case proven != "":
		return replacement.Event{}, fmt.Errorf("there was nothing to put back, and %s", proven)
	case j.OldSHA256 == "" && !w.knew():
		return replacement.Event{}, errors.New("nothing could be read before this replacement began, so nothing " +
			"proves that the old certificate is served; see for yourself")
	}
	if slices.ContainsFunc(j.targets, func(t store.Target) bool { return t.Installed == j.NewSHA256 }) {
		if err := s.install(ctx, j, ""); err != nil {
			return replacement.Event{}, err
		}
	}
	keeps := j.Stage != replacement.Seal && len(j.Path.V) > 0 && !j.procedure.Traits.SignsItself
	if keeps {
		if err := s.keep(ctx, j); err != nil {
			return replacement.Event{}, err
		}
	} else if err := s.leave(ctx, j, s.clearAway(ctx, j, runner, false)); err != nil {
		return replacement.Event{}, err
	}
	switch err := runner.Leave(ctx, j.scope, keeps); {
	case errors.Is(err, device.ErrPerson), ctx.Err() != nil:
		return s.outcome(err)
	case err != nil:
		return replacement.Event{}, fmt.Errorf("the old certificate is back and proven, and %w", err)
	}
	return replacement.Event{Kind: replacement.Restored}, nil
}

// awaitBefore looks until everything reads as before, for as long as a restart of this family may take, and returns
// what does not.
func (s *Service) awaitBefore(ctx context.Context, j job, runner *device.Runner) (string, error) {
	limit := time.Now().Add(j.procedure.Traits.RestartLimit)
	for agreed := 0; ; {
		said, err := runner.Deviation(ctx, j.scope)
		if err != nil && (ctx.Err() != nil || errors.As(err, new(*device.JournalError)) ||
			errors.Is(err, device.ErrPerson)) {
			return said, err
		} else if err != nil {
			said = err.Error()
		}
		switch {
		case said != "" && time.Now().After(limit):
			return fmt.Sprintf("after %s the wire still says: %s", j.procedure.Traits.RestartLimit, said), nil
		case said != "":
			agreed = 0
		default:
			if agreed++; agreed == 2 { // one look may meet a server that is being restarted
				return "", nil
			}
		}
		select {
		case <-time.After(400 * time.Millisecond):
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}

// clearAway removes from the device what a replacement left there. With undo, it
// undoes what the request did first.
func (s *Service) clearAway(ctx context.Context, j job, runner *device.Runner, undo bool) error {
	if err := errors.Join(s.store.Secrets.Remove(ctx, keyPurpose(j.ID)),
		s.forgetCaptured(ctx, j.ID, everySection)); err != nil {
		return err
	}
	var err error
	if undo {
		err = runner.Back(ctx, procedure.Cancel, procedure.Request, j.scope)
	} else {
		_, err = runner.Run(ctx, procedure.Cancel, j.scope)
	}
	if ctx.Err() != nil || errors.Is(err, device.ErrPerson) {
		return err
	}
	return errors.Join(err, s.tidyOwn(ctx, j, runner))
}

// tidyOwn removes the replacement's folder from its device, where anything was done there that could have made one.
func (s *Service) tidyOwn(ctx context.Context, j job, runner *device.Runner) error {
	steps, err := s.store.Journal.Steps(ctx, j.ID)
	if err != nil {
		return err
	}
	done := func(step store.Step) bool {
		return step.Section != string(procedure.Enclosure) && step.Verb != "person"
	}
	if j.Work == "" && !slices.ContainsFunc(steps, done) {
		return nil
	}
	return runner.Tidy(ctx, false, j.scope)
}

// revertible says why a sealed replacement cannot be reverted any more.
func (s *Service) revertible(ctx context.Context, id int64) error {
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil || r.State != replacement.Sealed {
		return nil // the stage machine answers
	}
	cannot := replacement.Name(id) + " is not reverted"
	if r.Tidied {
		return problem.New(problem.Conflict, cannot, "its copies of the old files were removed from the device",
			"replace the slot again", next.Replace.On(r.Device+"/"+r.Slot))
	}
	targets, err := s.store.Replacements.Targets(ctx, r.ID)
	if err != nil {
		return err
	}
	said, err := s.wrongAt(ctx, targets[r.ID], r.NewSHA256, func(t store.Target, sight monitor.Sight) string {
		leaf := sight.Leaf()
		if sight.Why != nil && leaf == nil || leaf != nil && leaf.SHA256 == t.OldSHA256 {
			return "" // what cannot be read may well be why it is reverted; so may a device that took it back by itself
		}
		return notNew(r.NewSHA256, monitor.Sight{Reading: sight.Reading}, false)
	})
	if err != nil {
		return err
	}
	if said != "" {
		return problem.New(problem.Conflict, cannot, said+" that it installed: it was changed since", "",
			next.ShowSlot.On(r.Device+"/"+r.Slot))
	}
	return nil
}
