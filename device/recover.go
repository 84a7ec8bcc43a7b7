package device

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/links"
	"freshseal/device/ssh"
)

// Recover finds out what became of a step that was under way when the service or
// the connection ended, and writes it into the journal. Where the device does not
// know and the step may not be repeated, the error is a StepError that is Unknown.
func (r *Runner) Recover(ctx context.Context, id int64, section procedure.Section, name string, repeat bool,
	scope *procedure.Scope) error {
	unknown := func(cause error, still bool) error {
		why := cause.Error()
		err := r.Journal.End(context.WithoutCancel(ctx), id, Outcome{Unknown: true, Why: why})
		if err != nil || repeat && !still {
			return err
		}
		return &StepError{Section: section, Step: name, Why: why, Repeat: repeat, Runs: still,
			Cause:  fmt.Errorf("%w: %w", links.ErrLost, cause),
			Remedy: "see on the device whether it was done, then resume, saying so"}
	}
	ready, ok := r.find(section, name, scope)
	r, err := onHelper(r, ready.Step.On)
	if err != nil {
		return unknown(err, true)
	}
	if ok && leaves(ready.Act) {
		begun, still, err := r.hangUpAll(ctx, ready.Act, id)
		if !begun && err == nil {
			return r.Journal.End(context.WithoutCancel(ctx), id, Outcome{Why: "it was not begun"})
		}
		if err == nil {
			err = errors.New("the service was stopped during the step; its program was ended")
		}
		return unknown(err, still)
	}
	if _, isRun := ready.Act.(*verb.RunAct); !ok || !isRun {
		return unknown(errors.New("the service was stopped during the step"), false)
	}
	result, settled, err := reconcileRun(r.steps(ctx), r, ready, id)
	switch {
	case err != nil && (lost(err) || errors.As(err, new(*mayRun))):
		// what may be repeated may also be repeated beside itself
		return unknown(err, !repeat || !errors.Is(err, ErrCannotTell))
	case err != nil:
		return err
	case settled == ssh.Never:
		return r.Journal.End(context.WithoutCancel(ctx), id, Outcome{Why: "it was not begun"})
	case settled == ssh.Gone:
		return unknown(errors.New("the service was stopped during the step, and the device does not know what "+
			"became of it"), false)
	}
	var ended error
	if settled == ssh.Stopped {
		ended = links.ErrTimeLimit
	}
	_, err = r.ended(ctx, id, ready, scope, result, ended)
	return err
}

// hangUpAll ends what a step left running: its program, and the harder one of a wait.
func (r *Runner) hangUpAll(ctx context.Context, act procedure.Act, id int64) (begun, still bool, err error) {
	begun, still, err = hangUp(r.steps(ctx), r, id)
	if w, isWait := act.(*verb.WaitAct); isWait && w.Then != "" && begun && err == nil {
		_, still, err = hangUp(r.steps(ctx), r, -id)
	}
	return begun, still, err
}

// find brings a step into its final form by its section and journalled name.
func (r *Runner) find(section procedure.Section, name string, scope *procedure.Scope) (procedure.Ready, bool) {
	for _, a := range r.Procedure.Arounds {
		for _, step := range append(slices.Clone(a.Enter), a.Leave...) {
			if ready, err := step.Expand(procedure.Enclosure, "", scope); err == nil &&
				section == procedure.Enclosure && ready.Name() == name {
				return ready, true
			}
		}
	}
	for _, in := range append([]procedure.Section{procedure.Look}, procedure.Sections...) {
		for _, step := range r.Procedure.Steps[in] {
			items, err := step.Items(scope)
			if err != nil {
				continue
			}
			for _, item := range items {
				expands := []func() (procedure.Ready, error){
					func() (procedure.Ready, error) { return step.Expand(in, item, scope) },
					func() (procedure.Ready, error) { return step.FinallyReady(item, scope) },
					func() (procedure.Ready, error) { return again(step, item, scope) },
				}
				for i := range step.Undo.Items {
					expands = append(expands, func() (procedure.Ready, error) { return step.UndoReady(i, item, scope) })
				}
				for _, expand := range expands {
					ready, err := expand()
					if err == nil && (ready.Section == section || back(ready.Section) && back(section)) &&
						ready.Name() == name {
						return ready, true
					}
				}
			}
		}
	}
	return procedure.Ready{}, false
}

// back reports whether a section is one of the ways back, under any of whose names an undo may stand in the journal.
func back(s procedure.Section) bool {
	return s == procedure.Revert || s == procedure.Cancel || s == Final
}

// Guarded reports whether a step of the way back is sent by what is seen alone: what became of it needs nobody who
// says so.
func (r *Runner) Guarded(section procedure.Section, name string, scope *procedure.Scope) bool {
	if !back(section) {
		return false
	}
	for _, in := range procedure.Sections {
		for _, step := range r.Procedure.Steps[in] {
			items, err := step.Items(scope)
			if err != nil {
				continue
			}
			for _, item := range items {
				for i, undo := range step.Undo.Items {
					if ready, err := step.UndoReady(i, item, scope); err == nil && len(undo.When) > 0 &&
						ready.Name() == name {
						return true
					}
				}
			}
		}
	}
	return false
}
