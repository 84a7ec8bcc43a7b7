package device

import (
	"context"
	"slices"

	"freshseal/core/language/procedure"
)

// enclose enters what encloses a visit, before the first step that needs it: maintenance before a change, a shell
// that is switched on before any contact. change says that something is going to be changed.
func (r *Runner) enclose(ctx context.Context, change bool, scope *procedure.Scope) error {
	if r.entering {
		return nil // it is on its way in or out
	}
	for i, a := range r.Procedure.Arounds {
		if a.For == procedure.Change && !change || r.inside(i, scope) {
			continue
		}
		_, _, left := r.crossed(i, scope)
		if err := r.pass(ctx, a.Enter, left, scope); err != nil {
			return err
		}
	}
	return nil
}

// encloseStep is enclose for one step.
func (r *Runner) encloseStep(ctx context.Context, ready procedure.Ready, scope *procedure.Scope) error {
	if !ready.Step.Contacts() {
		return nil
	}
	return r.enclose(ctx, touches(ready), scope)
}

// touches reports whether a step is one for which the visit counts as one that changes something. What request makes
// is not live, and what survey and look do only looks.
func touches(ready procedure.Ready) bool {
	switch ready.Section {
	case procedure.Trust, procedure.Install, procedure.Trial, procedure.Activate, procedure.Mirror:
		return ready.Step.Touches()
	case procedure.Revert, Final:
		return ready.Step.Do.Changes() != procedure.Looks
	}
	return false
}

// inside reports whether an enclosure was entered and not left since.
func (r *Runner) inside(i int, scope *procedure.Scope) bool {
	_, done, _ := r.crossed(i, scope)
	return done
}

// crossed returns when an enclosure was last entered, be it by half, and last left, as numbers of the journal, and
// whether all that enters was done since.
func (r *Runner) crossed(i int, scope *procedure.Scope) (entered int64, inside bool, left int64) {
	a := r.Procedure.Arounds[i]
	for _, step := range a.Leave {
		if step.Holds(scope) {
			left = r.Journal.Fate(procedure.Enclosure, step.Name).LastDone
		}
	}
	inside = true
	for _, step := range a.Enter {
		if step.Holds(scope) {
			fate := r.Journal.Fate(procedure.Enclosure, step.Name)
			entered, inside = max(entered, fate.Last), inside && fate.LastDone > left
		}
	}
	return entered, inside, left
}

// Within reports whether the visit must be left: something was entered, be it by half.
func (r *Runner) Within(scope *procedure.Scope) bool {
	for i := range r.Procedure.Arounds {
		if entered, _, left := r.crossed(i, scope); entered > left {
			return true
		}
	}
	return false
}

// LeaveVisit leaves what was entered, the innermost first, each tried even where another fails.
func (r *Runner) LeaveVisit(ctx context.Context, scope *procedure.Scope) error {
	var failed []error
	for i, a := range slices.Backward(r.Procedure.Arounds) {
		entered, _, left := r.crossed(i, scope)
		if entered <= left {
			continue
		}
		err := r.pass(ctx, a.Leave, entered, scope)
		if stops(ctx, err) {
			return err
		}
		failed = append(failed, err)
	}
	return joined(failed)
}

// pass carries out the steps that enter or leave, but for those that were done since an entry of the journal. All of
// it may be done again.
func (r *Runner) pass(ctx context.Context, steps []procedure.Step, since int64, scope *procedure.Scope) error {
	before := r.entering
	r.entering = true
	defer func() { r.entering = before }()
	for _, step := range steps {
		if !step.Holds(scope) || r.Journal.Fate(procedure.Enclosure, step.Name).LastDone > since {
			continue
		}
		within, err := enteredWeb(ctx, r, step, scope)
		if err != nil {
			return err
		}
		ready, err := step.Expand(procedure.Enclosure, "", within)
		if err != nil {
			return unexpanded(procedure.Enclosure, step.Name, err)
		}
		if _, err := r.anew(ctx, ready, within); err != nil {
			return err
		}
	}
	return nil
}
