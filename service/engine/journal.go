package engine

import (
	"context"
	"errors"
	"slices"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/store"
)

// OpenSteps returns the steps after an entry of the journal whose end was not recorded and that were not done again
// since, oldest first. Later steps, such as signing out, hide none of them.
func OpenSteps(steps []store.Step, after int64) []store.Step {
	var out []store.Step
	for i, step := range steps {
		if step.ID <= after || !step.EndedAt.IsZero() && !step.Unknown {
			continue
		}
		if !slices.ContainsFunc(steps[i+1:], func(later store.Step) bool {
			return later.Section == step.Section && later.Name == step.Name
		}) {
			out = append(out, step)
		}
	}
	return out
}

// MayGoBack reports whether the way back may begin although the end of a step is unknown: it certainly failed, or a
// person wants the way back and the device cannot tell more. If the device says that the command cannot be ended, or
// the step belongs to the way back itself, it may not.
func MayGoBack(err error, last store.Step) bool {
	var step *device.StepError
	if !errors.As(err, &step) {
		return false
	}
	there := last.Section != string(procedure.Revert) && last.Section != string(procedure.Cancel) &&
		last.Section != string(device.Final)
	return !step.Unknown() || there && (!step.Runs || errors.Is(err, device.ErrCannotTell))
}

// journal writes the runner's steps into the store.
type journal struct {
	s     *Service
	j     *Job
	steps []store.Step // as they stood when the action began
}

// Done returns a step that was done in this very action. If a person resumed the replacement since, only steps that may
// not be repeated count, and what was cleared away, which cannot be cleared again.
func (w journal) Done(section procedure.Section, name, text string) (map[string]value.Value, bool) {
	for _, step := range w.steps {
		if step.ID > w.j.Since && step.OK && step.Section == string(section) && step.Name == name &&
			step.Text == text && (step.ID > w.j.Resumed || !step.Repeatable || section == procedure.Cancel) {
			if step.Capture == "" {
				return nil, true
			}
			values, err := w.s.openCaptured(step)
			return values, err == nil
		}
	}
	return nil, false
}

// Fate returns what the whole journal knows of a step, including entries written since.
func (w journal) Fate(section procedure.Section, name string) (f device.Fate) {
	steps, err := w.s.store.Journal.Steps(context.WithoutCancel(w.s.stopping), w.j.ID)
	if err != nil {
		steps = w.steps
	}
	for _, step := range steps {
		if step.Section != string(section) || step.Name != name {
			continue
		}
		f.Begun, f.Last = true, step.ID
		seen := !step.EndedAt.IsZero() && !step.Unknown
		if seen {
			f.Ended, f.Refused = step.EndedAt.Time, step.Refused
		} else if step.LimitAt.Time.After(f.Until) {
			f.Until, f.Limit = step.LimitAt.Time, step.LimitAt.Sub(step.BeganAt.Time)
		}
		if step.OK {
			f.Done, f.LastDone = true, step.ID
		}
	}
	return f
}

// Begin is called before a step.
func (w journal) Begin(ctx context.Context, e device.Entry) (int64, error) {
	step := store.Step{ReplacementID: w.j.ID, Section: string(e.Section), Name: e.Name, Verb: e.Verb,
		Text: e.Text, Repeatable: e.Repeat, BeganAt: w.s.moment(), LimitAt: store.At(w.s.clock().Add(e.Limit))}
	if e.Hand != nil {
		step.Task = w.s.newTask(w.j.ID, *e.Hand)
	}
	return w.s.store.Journal.BeginStep(ctx, step)
}

// Show is called while a dialog is under way. A failure to show it is ignored.
func (w journal) Show(ctx context.Context, id int64, screen string, percent int) {
	if err := w.s.store.Journal.ShowStep(ctx, store.Step{ID: id, ReplacementID: w.j.ID, Output: screen,
		Percent: percent}, w.s.moment()); err != nil {
		w.s.log.Warn("a screen is not shown", "replacement", replacement.Name(w.j.ID), "error", err)
	}
}

// End is called after a step.
func (w journal) End(ctx context.Context, id int64, o device.Outcome) error {
	step := store.Step{ID: id, ReplacementID: w.j.ID, EndedAt: w.s.moment(), OK: o.OK, Unknown: o.Unknown,
		Refused: o.Refused, ExitCode: o.Exit, Output: o.Output, Why: o.Why}
	if err := w.s.KeepCaptured(&step, o.Captured); err != nil {
		return err
	}
	w.s.KeepFiles(&step, o.Captured)
	return w.s.store.Journal.EndStep(ctx, step)
}
