package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/core/language/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/store"
)

// clearFormer removes from the device what an obsolete request left there, before another request is made.
func (w *visit) clearFormer(ctx context.Context) error {
	former, err := w.store.Requests.ObsoleteOf(ctx, w.j.ID)
	if err != nil || len(former) == 0 {
		return err
	}
	if err := w.Runner.Afresh(ctx, w.j.Scope); err != nil {
		return fmt.Errorf("clearing away the request from before: %w", err)
	}
	return nil
}

// clearAway removes from the device what a replacement left there. With undo, it first undoes the steps of request.
func (w *visit) clearAway(ctx context.Context, undo bool) error {
	if err := errors.Join(w.store.Secrets.Remove(ctx, KeyPurpose(w.j.ID)),
		w.forgetCaptured(ctx, w.j.ID, everySection)); err != nil {
		return err
	}
	var err error
	if undo {
		err = w.Runner.Back(ctx, procedure.Cancel, procedure.Request, w.j.Scope)
	} else {
		_, err = w.Runner.Run(ctx, procedure.Cancel, w.j.Scope)
	}
	if ctx.Err() != nil || errors.Is(err, device.ErrPerson) {
		return err
	}
	return errors.Join(err, w.tidyOwn(ctx))
}

// tidyOwn removes the replacement's work folder from its device, if any step may have created one.
func (w *visit) tidyOwn(ctx context.Context) error {
	steps, err := w.store.Journal.Steps(ctx, w.j.ID)
	if err != nil {
		return err
	}
	done := func(step store.Step) bool {
		return step.Section != string(procedure.Enclosure) && step.Verb != "person"
	}
	if w.j.Work == "" && !slices.ContainsFunc(steps, done) {
		return nil
	}
	return w.Runner.Tidy(ctx, false, w.j.Scope)
}

// ClearClosed removes from the device what a closed replacement left there, after it released device and cluster. What
// cannot be removed is recorded as a leftover, which can be removed later.
func (s *Service) ClearClosed(id int64) {
	ctx := s.stopping
	if err := s.DropKept(ctx, id, true); err != nil && ctx.Err() == nil {
		s.log.Warn("a closed replacement is not cleared", "replacement", replacement.Name(id), "error", err)
	}
}

// DropKept removes what a replacement that has ended keeps for another try, here and on its device. What cannot be
// removed there is recorded as a leftover.
func (s *Service) DropKept(ctx context.Context, id int64, lock bool) error {
	j, err := s.Load(ctx, id)
	if err != nil {
		return err
	}
	if lock {
		defer s.lockDevice(j.DeviceID)()
	}
	w, leave, err := s.Visit(ctx, j)
	if err != nil {
		return err
	}
	defer leave()
	inUse, err := s.newInUse(ctx, j)
	if err != nil {
		return err
	}
	err = w.LeaveAfter(ctx, w.clearAll(ctx, !inUse))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if keptErr := s.store.Replacements.SetKeeps(ctx, []int64{id}, store.Moment{}); keptErr != nil {
		return keptErr
	}
	if recorded := s.Leave(ctx, j, err); recorded != nil {
		return recorded
	}
	if err == nil {
		return s.store.Replacements.SetTidied(ctx, []int64{id})
	}
	return err
}

// newInUse reports whether a slot of the replacement serves its new certificate, so that the results of request are in
// use.
func (s *Service) newInUse(ctx context.Context, j *Job) (bool, error) {
	all, err := s.serves(ctx, j.Targets, nil)
	for _, v := range all {
		if v.SHA256 != "" && v.SHA256 == j.NewSHA256 {
			return true, nil
		}
	}
	return false, err
}

// clearAll deletes the key and the captured secrets, undoes request if asked to, runs the steps of finally, and removes
// the work folder.
func (w *visit) clearAll(ctx context.Context, unmake bool) error {
	if err := errors.Join(w.store.Secrets.Remove(ctx, KeyPurpose(w.j.ID)),
		w.forgetCaptured(ctx, w.j.ID, everySection)); err != nil {
		return err
	}
	var failed error
	if unmake {
		failed = w.Runner.Unmake(ctx, w.j.Scope)
	}
	failed = errors.Join(failed, w.Runner.Finish(ctx, w.j.Scope))
	if ctx.Err() == nil && !errors.Is(failed, device.ErrPerson) {
		failed = errors.Join(failed, w.tidyOwn(ctx))
	}
	return failed
}

// giveUp removes from the device what a replacement left there before it changed anything, and runs the steps of
// finally.
func (w *visit) giveUp(ctx context.Context) (replacement.Event, error) {
	err := w.clearAway(ctx, true)
	if errors.Is(err, device.ErrPerson) {
		return replacement.Event{Kind: replacement.ClearWaits}, nil
	}
	left := w.Runner.Leave(ctx, w.j.Scope, false)
	if errors.Is(left, device.ErrPerson) {
		return replacement.Event{Kind: replacement.ClearWaits}, w.Leave(ctx, w.j, err)
	}
	if err = errors.Join(err, left); err != nil {
		return replacement.Event{Kind: replacement.NotClearable, Why: "given up; " + err.Error()},
			w.Leave(ctx, w.j, err)
	}
	return replacement.Event{Kind: replacement.ClearedAway}, nil
}

// endOffers removes what earlier replacements of the slots keep for another try, once a later one is sealed. What
// cannot be removed becomes their leftover.
func (s *Service) endOffers(ctx context.Context, j *Job) (err error) {
	j.place.Give() // each takes a place of its own
	defer func() {
		if again := s.access.Take(ctx, j.place, j.Box.Site); err == nil {
			err = again
		}
	}()
	for _, t := range j.Targets {
		kept, err := s.store.Replacements.KeptOf(ctx, t.ID, j.ID)
		if err != nil {
			return err
		}
		for _, id := range kept {
			if err := s.DropKept(ctx, id, false); err != nil && ctx.Err() != nil {
				return err
			}
		}
	}
	return nil
}

// leftoverDays is the number of days within which a leftover on a device is to be removed.
const leftoverDays = 30

// Leave records what is left on the device; nil means nothing.
func (s *Service) Leave(ctx context.Context, j *Job, left error) error {
	what := ""
	if left != nil {
		what = left.Error()
		s.log.Warn("something is left on the device", "replacement", replacement.Name(j.ID), "error", left)
	}
	if what == j.Leftover {
		return nil
	}
	return s.store.Replacements.SetLeftover(context.WithoutCancel(ctx), j.ID, what, s.moment(),
		store.At(s.now().AddDate(0, 0, leftoverDays)))
}

// TidyAfter removes the work folder after the seal, except what a later revert needs, and removes those of the slot's
// earlier replacements, with their keys.
func (w *visit) TidyAfter(ctx context.Context) error {
	if !w.j.Family.HasFolder() {
		return nil
	}
	folders, ids, err := w.Earlier(ctx, w.j, func(r store.Replacement) bool {
		return r.SlotID == w.j.SlotID && r.ID < w.j.ID
	})
	if err != nil {
		return err
	}
	if err := w.Runner.Tidy(ctx, true, w.j.Scope, folders...); err != nil {
		return err
	}
	return w.store.Replacements.SetTidied(ctx, ids)
}

// Earlier returns the work folders of the chosen ended replacements of a device, with their numbers.
func (s *Service) Earlier(ctx context.Context, j *Job,
	chosen func(store.Replacement) bool) (folders []string, ids []int64, err error) {
	all, err := s.store.Replacements.Of(ctx, j.DeviceID)
	if err != nil {
		return nil, nil, err
	}
	base, err := j.Scope.Value(procedure.WorkFolder)
	if err != nil {
		return nil, nil, err
	}
	for _, r := range all {
		if r.State.Over() && !r.Tidied && r.Mark != "" && chosen(r) {
			folders, ids = append(folders, workFolder(base.Text, r)), append(ids, r.ID)
		}
	}
	return folders, ids, nil
}

// LeaveAfter ends a visit to the device of a replacement that has ended. If a person must let Fresh Seal in first, or
// out, that becomes a task, after which the clearing is tried again.
func (w *visit) LeaveAfter(ctx context.Context, err error) error {
	if errors.Is(err, device.ErrPerson) {
		return errors.New("a person must let Fresh Seal onto the device first; see the tasks of " +
			replacement.Name(w.j.ID))
	}
	if ctx.Err() == nil && w.Runner.Within(w.j.Scope) {
		if left := w.Runner.LeaveVisit(ctx, w.j.Scope); !errors.Is(left, device.ErrPerson) {
			err = errors.Join(err, left)
		}
	}
	return err
}
