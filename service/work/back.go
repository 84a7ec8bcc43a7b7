package work

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/core/next"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/service/problem"
	"freshseal/service/watch"
	"freshseal/store"
)

// putBack undoes what was changed and proves that the old certificate is served
// again. The wire is read in any case, so that the slot's condition is the truth.
func (s *Service) putBack(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	from := procedure.Request
	if j.Stage == replacement.Seal {
		from = procedure.Backup // what the request left was cleared away
	}
	undone := runner.Back(ctx, procedure.Revert, from, j.scope)
	if errors.Is(undone, device.ErrPerson) || ctx.Err() != nil {
		return outcome(undone), nil
	}
	proven := s.await(ctx, j, runner, func(t store.Target, sight watch.Sight) string { return notOld(t.OldSHA256, j.NewSHA256, sight) })
	switch {
	case undone != nil:
		return replacement.Event{}, fmt.Errorf("putting the old certificate back failed: %w; %s", undone, onWire(proven))
	case proven != nil:
		return replacement.Event{}, fmt.Errorf("everything was put back, and %w", proven)
	case j.OldSHA256 == "":
		return replacement.Event{}, errors.New("everything was put back, but nothing could be read before this replacement began, so nothing proves that the old certificate is served; see for yourself")
	}
	if slices.ContainsFunc(j.targets, func(t store.Target) bool { return t.Installed == j.NewSHA256 }) {
		if err := s.install(ctx, j, ""); err != nil {
			return replacement.Event{}, err
		}
	}
	if err := s.leave(ctx, j, s.clearAway(ctx, j, runner, false)); err != nil {
		return replacement.Event{}, err
	}
	switch err := runner.Leave(ctx, j.scope, false); {
	case errors.Is(err, device.ErrPerson), ctx.Err() != nil:
		return outcome(err), nil
	case err != nil:
		return replacement.Event{}, fmt.Errorf("the old certificate is back and proven, and %w", err)
	}
	return replacement.Event{Kind: replacement.Restored}, nil
}

func onWire(proven error) string {
	if proven == nil {
		return "the old certificate is served all the same"
	}
	return proven.Error()
}

// clearAway removes from the device what a replacement left there. With undo, it
// undoes what the request did first.
func (s *Service) clearAway(ctx context.Context, j job, runner *device.Runner, undo bool) error {
	if err := errors.Join(s.store.RemoveSecret(ctx, keyPurpose(j.ID)), s.forgetCaptured(ctx, j.ID, everySection)); err != nil {
		return err
	}
	var err error
	if undo {
		err = runner.Back(ctx, procedure.Cancel, procedure.Request, j.scope)
	} else {
		_, err = runner.Carry(ctx, procedure.Cancel, j.scope)
	}
	if ctx.Err() != nil || errors.Is(err, device.ErrPerson) {
		return err
	}
	return errors.Join(err, runner.Tidy(ctx, false))
}

// revertible says why a sealed replacement cannot be reverted any more.
func (s *Service) revertible(ctx context.Context, id int64) error {
	r, err := s.store.Replacement(ctx, id)
	if err != nil || r.State != replacement.Sealed {
		return nil // the stage machine answers
	}
	cannot := replacement.Name(id) + " is not reverted"
	if r.Tidied {
		return problem.New(problem.Conflict, cannot, "its copies of the old files were removed from the device", "replace the slot again", next.Replace.On(r.Device+"/"+r.Slot))
	}
	targets, err := s.store.Targets(ctx, r.ID)
	if err != nil {
		return err
	}
	said, err := s.wrongAt(ctx, targets[r.ID], r.NewSHA256, func(_ store.Target, sight watch.Sight) string {
		if sight.Why != nil && sight.Leaf() == nil {
			return "" // what cannot be read may well be why it is reverted
		}
		return notNew(r.NewSHA256, watch.Sight{Reading: sight.Reading}, false)
	})
	if err != nil {
		return err
	}
	if said != "" {
		return problem.New(problem.Conflict, cannot, said+" that it installed: it was changed since", "", next.ShowSlot.On(r.Device+"/"+r.Slot))
	}
	return nil
}
