package device

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/device/ssh"
)

// changing are the sections whose changes the way back undoes.
var changing = []procedure.Section{procedure.Request, procedure.Backup, procedure.Trust, procedure.Install,
	procedure.Trial, procedure.Activate, procedure.Prove, procedure.Mirror}

// Final is the section under which what is always done is in the journal.
const Final procedure.Section = "finally"

// Keep stores copies of all files that the steps to come will change, as far as
// their paths are known already, before the first of them is touched.
func (r *Runner) Keep(ctx context.Context, scope *procedure.Scope) error {
	for _, section := range changing[1:] {
		for _, step := range r.Procedure.Steps[section] {
			if step.Do.Writes() == "" || !step.Holds(scope) {
				continue
			}
			items, err := step.Items(scope)
			if err != nil {
				continue
			}
			for _, item := range items {
				path, err := step.WritesTo(item, scope)
				if err != nil || r.inWork(path) {
					continue // kept just before the step
				}
				if err := undoAside(ctx, r, procedure.Backup, "keep a copy of "+path, path, scope,
					func(ctx context.Context) error {
						return keepStep(ctx, r, path)
					}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// undoAside does something that is in no procedure between two entries of the
// journal. It may always be repeated.
func undoAside(ctx context.Context, r *Runner, section procedure.Section, name, text string, scope *procedure.Scope,
	do func(context.Context) error) error {
	if _, done := r.Journal.Done(section, name, text); done {
		return nil
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := r.enclose(ctx, section == procedure.Revert, scope); err != nil {
		return err
	}
	id, err := r.Journal.Begin(ctx, Entry{Section: section, Name: name, Verb: "file", Text: text,
		Limit: procedure.DefaultLimit, Repeat: true})
	if err != nil {
		return &JournalError{err}
	}
	limited, cancel := context.WithTimeout(r.steps(ctx), procedure.DefaultLimit)
	defer cancel()
	err = r.work(limited)
	if err == nil {
		err = do(limited)
	}
	o := Outcome{OK: err == nil}
	if err != nil {
		o.Why = show(err.Error(), scope.Secrets())
	}
	if err := r.Journal.End(context.WithoutCancel(ctx), id, o); err != nil {
		return &JournalError{err}
	}
	if err == nil {
		return nil
	}
	if lost(err) {
		r.Close()
	}
	return &StepError{Section: section, Step: name, Why: o.Why, Remedy: remedy(procedure.Step{}, err), Repeat: true,
		Cause: err}
}

// keepStep makes the copy of a file that its undoing needs, unless it is there.
func keepStep(ctx context.Context, r *Runner, path string) error {
	if err := r.work(ctx); err != nil {
		return err
	}
	return r.files(path).Keep(ctx, path, copyOf(r, path))
}

// copyOf returns where the copy of a file is kept.
func copyOf(r *Runner, path string) string {
	sum := sha256.Sum256([]byte(path))
	return r.Work + "/" + procedure.BeforeFolder + "/" + hex.EncodeToString(sum[:8])
}

// Back undoes every change that was begun, last first, each tried even where
// another fails; then what must run again does, if something was undone; then what is always done. from is
// the first section that is undone; section is the name under which all of it
// is in the journal. The errors are of steps that failed, and HeldErrors; ErrPerson says that
// a person must do the next one.
func (r *Runner) Back(ctx context.Context, section, from procedure.Section, scope *procedure.Scope) error {
	return backTo(ctx, r, section, changing[len(changing)-1], from, scope)
}

// backTo undoes the sections from last back to from.
func backTo(ctx context.Context, r *Runner, section, last, from procedure.Section, scope *procedure.Scope) error {
	var failed []error
	var repeats, finals []procedure.Ready
	restored := map[string]bool{}
	r.undone = false
	for _, in := range slices.Backward(changing[slices.Index(changing, from) : slices.Index(changing, last)+1]) {
		for _, step := range slices.Backward(r.Procedure.Steps[in]) {
			items, err := step.Items(scope)
			if err != nil {
				continue // its list is not known, so it was not begun
			}
			for _, item := range slices.Backward(items) {
				fate := r.Journal.Fate(in, step.Titled(item))
				if !fate.Begun {
					continue
				}
				err := undoStep(ctx, r, section, step, item, scope, fate, restored, &repeats)
				if stops(ctx, err) {
					return err
				}
				failed = append(failed, err)
				if step.Finally != nil {
					within, err := enteredWeb(ctx, r, *step.Finally, scope)
					failed = append(failed, err)
					final, err := step.FinallyReady(item, within)
					failed, finals = append(failed, err), append(finals, final)
				}
			}
		}
	}
	if _, err := r.Run(ctx, section, scope); stops(ctx, err) {
		return err
	} else {
		failed = append(failed, err)
	}
	r.undone = r.undone || len(r.Procedure.Steps[section]) > 0 && section == procedure.Revert
	slices.Reverse(repeats)
	if !r.undone {
		repeats = nil // nothing was undone, so there is nothing to be read again
	}
	done := map[string]bool{}
	for _, ready := range append(repeats, finals...) {
		if ready.Act == nil || done[ready.Act.Line()] {
			continue
		}
		done[ready.Act.Line()] = true
		ready.Section = section
		_, err := r.runReady(ctx, ready, scope)
		if stops(ctx, err) {
			return err
		}
		failed = append(failed, err)
	}
	return joined(failed)
}

// Unmake undoes what request made, and clears by the section cancel: nothing of it is live.
func (r *Runner) Unmake(ctx context.Context, scope *procedure.Scope) error {
	return backTo(ctx, r, procedure.Cancel, procedure.Request, procedure.Request, scope)
}

// Undone reports whether the way back undid something.
func (r *Runner) Undone() bool { return r.undone }

// joined is all errors as one, in one line.
func joined(errs []error) error {
	var all failures
	for _, err := range errs {
		if err != nil {
			all = append(all, err)
		}
	}
	if len(all) == 0 {
		return nil
	}
	return all
}

type failures []error

func (f failures) Error() string {
	texts := make([]string, len(f))
	for i, err := range f {
		texts[i] = err.Error()
	}
	return strings.Join(texts, "; ")
}

func (f failures) Unwrap() []error { return f }

// Afresh takes back what an earlier request left on the device, once, before
// another one is made.
func (r *Runner) Afresh(ctx context.Context, scope *procedure.Scope) error {
	const name = "clear away the request from before"
	if _, done := r.Journal.Done(procedure.Cancel, name, r.Work); done {
		return nil
	}
	if err := r.Back(ctx, procedure.Cancel, procedure.Request, scope); err != nil || !r.Procedure.Uses(procedure.SSH) {
		return err
	}
	return undoAside(ctx, r, procedure.Cancel, name, r.Work, scope, func(ctx context.Context) error {
		return r.Tidy(ctx, false, scope)
	})
}

// stops reports whether the way back cannot go on: a person must act, the service is
// being stopped, a command may still be running, or the journal cannot be written.
func stops(ctx context.Context, err error) bool {
	return errors.Is(err, ErrPerson) || ctx.Err() != nil || runs(err) || errors.As(err, new(*JournalError))
}

// undoStep takes one step's change back.
func undoStep(ctx context.Context, r *Runner, section procedure.Section, step procedure.Step, item string,
	scope *procedure.Scope, fate Fate, restored map[string]bool, repeats *[]procedure.Ready) error {
	if step.Do.Writes() != "" {
		path, err := step.WritesTo(item, scope)
		if err != nil || r.inWork(path) || restored[path] {
			return err
		}
		restored[path] = true
		name := "put back " + path
		err = undoAside(ctx, r, section, name, path, scope, func(ctx context.Context) error {
			put, err := r.files(path).Back(ctx, path, copyOf(r, path), r.Edition < procedure.Edition)
			if errors.Is(err, ssh.ErrNoCopy) && !fate.Done {
				return nil // it failed before anything was written: a copy is made first
			}
			r.undone = r.undone || put
			return err
		})
		r.undone = r.undone || r.Journal.Fate(section, name).LastDone > 0 && err == nil // before a kill, perhaps
		if errors.Is(err, ssh.ErrThird) {
			return &HeldError{path + " was not put back", "it holds neither what this replacement wrote nor what " +
				"stood before; somebody else wrote it"}
		}
		return err
	}
	switch step.Undo.Kind {
	case procedure.UndoSteps:
		for i, each := range step.Undo.Items {
			if err := undoItem(ctx, r, section, step, i, item, each, fate, scope); err != nil {
				return err
			}
		}
	case procedure.UndoItself:
		return undoneByItself(ctx, r, step, fate, scope)
	case procedure.UndoAgain:
		scope, err := enteredWeb(ctx, r, step, scope)
		if err != nil {
			return err
		}
		ready, err := again(step, item, scope)
		if err != nil {
			return unexpanded(section, step.Titled(item), err)
		}
		*repeats = append(*repeats, ready)
	}
	return nil
}

// undoItem carries out one step of an undo, where what is seen or what it names lets it.
func undoItem(ctx context.Context, r *Runner, section procedure.Section, step procedure.Step, i int, item string,
	undo procedure.UndoItem, fate Fate, scope *procedure.Scope) error {
	switch {
	case undo.Hold:
		if fate.Refused && !fate.Done {
			return nil
		}
		return &HeldError{"“" + undo.Step.Name + "” was not sent", "nothing says whether it may be: it restores " +
			"what the device calls the one before"}
	case len(undo.When) > 0:
		sent, err := guardedUndo(ctx, r, section, step, i, item, fate, scope)
		r.undone = r.undone || sent
		return err
	case fate.Refused && !fate.Done && fate.Until.IsZero():
		return nil // it changed nothing
	}
	within, err := enteredWeb(ctx, r, undo.Step, scope)
	if err != nil {
		return err
	}
	ready, err := step.UndoReady(i, item, within)
	if err != nil {
		return unexpanded(section, "undo of “"+step.Titled(item)+"”", err)
	}
	ready.Section = section
	_, err = r.runReady(ctx, ready, within)
	r.undone = r.undone || err == nil
	return err
}

// undoneByItself waits until the device has taken a change back by itself.
func undoneByItself(ctx context.Context, r *Runner, step procedure.Step, fate Fate, scope *procedure.Scope) error {
	longest := step.Undo.Within + r.Procedure.Traits.RestartLimit
	limit, began := fate.switched().Add(longest), time.Now()
	for {
		said, err := r.Deviation(ctx, scope)
		if err != nil || said == "" && !r.now().Before(fate.Until) {
			return err
		}
		if spent := time.Since(began); r.now().After(limit) || spent > fate.Limit+longest {
			if said == "" {
				return nil
			}
			return &HeldError{"the device did not take “" + step.Name + "” back within " + step.Undo.Within.String(),
				said}
		}
		if err := sleep(ctx, betweenLooks); err != nil {
			return err
		}
	}
}

// again returns a step that is done once more at the end of the way back.
func again(step procedure.Step, item string, scope *procedure.Scope) (procedure.Ready, error) {
	if step.Undo.Kind != procedure.UndoAgain {
		return procedure.Ready{}, errors.New("it is not done again")
	}
	name := step.Name
	step.Name = "again: " + name
	step.Capture, step.Expect = nil, withoutSame(step.Expect)
	return step.Expand(procedure.Revert, item, scope)
}

// withoutSame returns an expectation without what only the new certificate fulfils.
func withoutSame(e procedure.Expect) procedure.Expect {
	e.Same = ""
	return e
}

// Finish does what is always done, of the steps that were begun, last first; what was begun
// in survey is done by Leave.
func (r *Runner) Finish(ctx context.Context, scope *procedure.Scope) error {
	return runFinals(ctx, r, procedure.Sections[1:], scope)
}

// Leave does what is always done beside steps of survey: they let us in, so their ends come when
// the device is cleared of what is no longer needed. What these ends leave is cleared again;
// keep is that of Tidy.
func (r *Runner) Leave(ctx context.Context, scope *procedure.Scope, keep bool) error {
	left := r.worked // the device could not be cleared, which is told already
	if err := runFinals(ctx, r, procedure.Sections[:1], scope); err != nil || left || !r.worked {
		return err
	}
	return r.Tidy(ctx, keep, scope)
}

// runFinally does what is always done beside a step.
func runFinally(ctx context.Context, r *Runner, step procedure.Step, item string, scope *procedure.Scope) error {
	scope, err := enteredWeb(ctx, r, *step.Finally, scope)
	if err != nil {
		return err
	}
	ready, err := step.FinallyReady(item, scope)
	if err == nil {
		_, err = r.runReady(ctx, ready, scope)
	}
	return err
}

func runFinals(ctx context.Context, r *Runner, sections []procedure.Section, scope *procedure.Scope) error {
	var failed []error
	for _, in := range slices.Backward(sections) {
		for _, step := range slices.Backward(r.Procedure.Steps[in]) {
			items, err := step.Items(scope)
			if step.Finally == nil || err != nil {
				continue
			}
			for _, item := range slices.Backward(items) {
				if !r.Journal.Fate(in, step.Titled(item)).Begun {
					continue
				}
				err := runFinally(ctx, r, step, item, scope)
				if stops(ctx, err) {
					return err
				}
				failed = append(failed, err)
			}
		}
	}
	return joined(failed)
}
