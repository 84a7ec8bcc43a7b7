package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/store"
)

// putBack undoes the changes and proves that the former certificate is served again, at every address, and would be
// after the device's next restart. The wire is read in any case, so that the slot's condition is accurate. The results
// of request stay: the signed chain and its key can be used for another try.
func (w *visit) putBack(ctx context.Context) (replacement.Event, error) {
	undone := w.Runner.Back(ctx, procedure.Revert, procedure.Backup, w.j.Scope)
	if errors.Is(undone, device.ErrPerson) || ctx.Err() != nil || errors.As(undone, new(*device.JournalError)) {
		return w.outcome(undone)
	}
	proven, err := w.awaitBefore(ctx)
	switch {
	case ctx.Err() != nil, errors.As(err, new(*device.JournalError)), errors.Is(err, device.ErrPerson):
		return w.outcome(err)
	case err != nil:
		proven = err.Error()
	}
	if step := (*device.StepError)(nil); errors.As(undone, &step) && step.Unknown() {
		return w.outcome(undone)
	}
	seen, err := w.Sights(ctx, w.j)
	if err != nil {
		return w.outcome(err)
	}
	if err := w.notBack(undone, proven, seen); err != nil {
		return replacement.Event{}, err
	}
	return w.settleBack(ctx)
}

// notBack returns why the former certificate may not be back: an undo that failed, an address that reads differently,
// or no record of what was served before.
func (w *visit) notBack(undone error, proven string, seen *sights) error {
	switch {
	case undone != nil:
		return fmt.Errorf("putting the old certificate back failed: %w; %s", undone,
			cmp.Or(proven, "the old certificate is served all the same"))
	case proven != "" && w.Runner.Undone():
		return fmt.Errorf("what was changed was put back, and %s", proven)
	case proven != "":
		return fmt.Errorf("there was nothing to put back, and %s", proven)
	case w.j.OldSHA256 == "" && !seen.knew():
		return errors.New("nothing could be read before this replacement began, so nothing " +
			"proves that the old certificate is served; see for yourself")
	}
	return nil
}

// settleBack records that the former certificate is back, keeps what was signed for another try, and leaves the device.
func (w *visit) settleBack(ctx context.Context) (replacement.Event, error) {
	if slices.ContainsFunc(w.j.Targets, func(t store.Target) bool { return t.Installed == w.j.NewSHA256 }) {
		if err := w.install(ctx, w.j, ""); err != nil {
			return replacement.Event{}, err
		}
	}
	keeps := w.j.Stage != replacement.Seal && len(w.j.Path.V) > 0 && !w.j.Family.Traits.SignsItself
	if keeps {
		if err := w.keep(ctx, w.j); err != nil {
			return replacement.Event{}, err
		}
	} else if err := w.Leave(ctx, w.j, w.clearAway(ctx, false)); err != nil {
		return replacement.Event{}, err
	}
	switch err := w.Runner.Leave(ctx, w.j.Scope, keeps); {
	case errors.Is(err, device.ErrPerson), ctx.Err() != nil:
		return w.outcome(err)
	case err != nil:
		return replacement.Event{}, fmt.Errorf("the old certificate is back and proven, and %w", err)
	}
	return replacement.Event{Kind: replacement.Restored}, nil
}

// awaitBefore reads until every address serves what it served before, for as long as a restart of this family may take,
// and returns the addresses that do not.
func (w *visit) awaitBefore(ctx context.Context) (string, error) {
	limit := time.Now().Add(w.j.Family.Traits.RestartLimit)
	for agreed := 0; ; {
		said, err := w.Runner.Deviation(ctx, w.j.Scope)
		if err != nil && (ctx.Err() != nil || errors.As(err, new(*device.JournalError)) ||
			errors.Is(err, device.ErrPerson)) {
			return said, err
		} else if err != nil {
			said = err.Error()
		}
		switch {
		case said != "" && time.Now().After(limit):
			return fmt.Sprintf("after %s the wire still says: %s", w.j.Family.Traits.RestartLimit, said), nil
		case said != "":
			agreed = 0
		default:
			if agreed++; agreed == 2 { // one look may meet a server that is being restarted
				return "", nil
			}
		}
		select {
		case <-time.After(w.between):
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}
