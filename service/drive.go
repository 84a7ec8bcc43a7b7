package service

import (
	"context"
	"errors"
	"fmt"

	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/store"
)

// drive carries a replacement on in the background until it waits, is held or
// is over. A replacement has at most one driver.
func (s *Service) drive(id int64, action replacement.Action) {
	if action == replacement.Nothing {
		return
	}
	if _, has := s.driven.LoadOrStore(id, struct{}{}); has {
		return // its driver looks once more before it leaves
	}
	s.running.Go(func() {
		if s.driveOn(id, action) {
			s.lookAgain(id)
		}
	})
}

// lookAgain drives a replacement that somebody let go on just while its driver
// was leaving.
func (s *Service) lookAgain(id int64) {
	r, err := s.store.Replacement(s.stopping, id)
	if err == nil && r.State == replacement.Running {
		s.drive(id, r.Progress().InHand())
	}
}

// driveOn carries a replacement on until it stands still, and says whether it
// stands where it should.
func (s *Service) driveOn(id int64, action replacement.Action) bool {
	defer s.driven.Delete(id)
	select {
	case s.places <- struct{}{}:
		defer func() { <-s.places }()
	case <-s.stopping.Done():
		return false
	}
	for action != replacement.Nothing {
		event, err := s.perform(s.stopping, id, action)
		if s.stopping.Err() != nil {
			return false // taken up at the next start
		}
		if err != nil {
			event = replacement.Event{Kind: failureOf(action), Why: err.Error()}
		}
		if action, err = s.advance(context.WithoutCancel(s.stopping), id, event); err != nil {
			s.options.Log.Error("replacement stands still", "replacement", idText(id), "event", event.Kind, "error", err)
			return false
		}
	}
	return true
}

// failureOf is the event that an action's failure without further facts is.
func failureOf(action replacement.Action) replacement.EventKind {
	if action == replacement.ClearAway {
		return replacement.NotClearable
	}
	return replacement.Failed
}

// advance tells the stage machine what happened, and the watchers.
func (s *Service) advance(ctx context.Context, id int64, e replacement.Event) (replacement.Action, error) {
	r, action, err := s.store.Advance(ctx, id, e, s.moment())
	if err != nil {
		return replacement.Nothing, err
	}
	s.options.Log.Info("replacement", "replacement", idText(id), "device", r.Device, "slot", r.Slot, "stage", r.Stage, "state", r.State, "event", e.Kind, "why", e.Why)
	s.watchers.tell(id)
	return action, nil
}

// takeUpOne goes on with a replacement that was running when the service
// stopped. Where a step was under way that may not be repeated, nobody knows
// whether it was done, and a person decides.
func (s *Service) takeUpOne(ctx context.Context, r store.Replacement) error {
	steps, err := s.store.Steps(ctx, r.ID)
	if err != nil {
		return err
	}
	event := replacement.Event{Kind: replacement.Interrupted}
	if n := len(steps); n > 0 && steps[n-1].EndedAt.IsZero() && !steps[n-1].Repeatable {
		event = replacement.Event{Kind: replacement.Unknown, Why: fmt.Sprintf("the service was stopped during the step “%s”, which may not be repeated; see on the device whether it was done: %s", steps[n-1].Name, steps[n-1].Text)}
	}
	action, err := s.advance(ctx, r.ID, event)
	if err != nil {
		return err
	}
	s.drive(r.ID, action)
	return nil
}

// perform does what the stage machine wants and says what became of it.
func (s *Service) perform(ctx context.Context, id int64, action replacement.Action) (replacement.Event, error) {
	j, err := s.load(ctx, id)
	if err != nil {
		return replacement.Event{}, err
	}
	target, err := s.target(ctx, j.device)
	if err != nil {
		return replacement.Event{}, err
	}
	steps, err := s.store.Steps(ctx, id)
	if err != nil {
		return replacement.Event{}, err
	}
	j.recall(steps)
	leave, err := s.enter(ctx, "link", j.device.Site)
	if err != nil {
		return replacement.Event{}, err
	}
	defer leave()
	runner := &device.Runner{Dial: s.way(j.device.Site), Target: target, Hard: s.hard, Journal: journal{s, id, j.Since, steps}}
	if j.device.Family == ownFamily {
		runner.Own = own{s, j}
	}
	defer runner.Close()
	switch action {
	case replacement.PutBack:
		return s.putBack(ctx, j, runner)
	case replacement.ClearAway:
		if err := s.clearAway(ctx, j, runner); err != nil {
			return replacement.Event{Kind: replacement.NotClearable, Why: "given up; " + err.Error()}, nil
		}
		return replacement.Event{Kind: replacement.ClearedAway}, nil
	}
	return s.carry(ctx, j, runner)
}

// carry carries out the stage in hand.
func (s *Service) carry(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	var err error
	switch j.Stage {
	case replacement.Survey:
		err = s.survey(ctx, j, runner)
	case replacement.Request:
		err = s.request(ctx, j, runner)
	case replacement.Sign:
		return s.sign(ctx, j)
	case replacement.Gate:
		return s.gate(ctx, j)
	case replacement.Mirror:
		// Nobody to carry it to.
	case replacement.Prove:
		err = s.prove(ctx, j, runner)
	case replacement.Seal:
		err = s.seal(ctx, j, runner)
	default:
		err = s.section(ctx, j, runner, procedure.Section(j.Stage))
	}
	return outcome(err), nil
}

// outcome makes an event of what became of a stage.
func outcome(err error) replacement.Event {
	var step *device.StepError
	switch {
	case err == nil:
		return replacement.Event{Kind: replacement.Done}
	case errors.Is(err, device.ErrPerson):
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Person}
	case errors.As(err, &step) && step.Unknown():
		return replacement.Event{Kind: replacement.Unknown, Why: err.Error()}
	}
	return replacement.Event{Kind: replacement.Failed, Why: err.Error()}
}

// recall adds to the values of a job what its steps captured so far.
func (j *job) recall(steps []store.Step) {
	for _, step := range steps {
		if step.OK && step.Capture != "" {
			j.scope = j.scope.With(step.Capture, procedure.ContentValue(step.Captured))
		}
	}
}

// journal writes the runner's steps into the store and tells the watchers.
type journal struct {
	s     *Service
	id    int64
	since int64        // entries up to here belong to earlier actions
	steps []store.Step // as they stood when the action began
}

// Done finds a step that was done in this very action before the service was stopped.
func (w journal) Done(section procedure.Section, name string) ([]byte, bool) {
	for _, step := range w.steps {
		if step.ID > w.since && step.Section == string(section) && step.Name == name && step.OK {
			return step.Captured, true
		}
	}
	return nil, false
}

// Begin is called before a step.
func (w journal) Begin(ctx context.Context, e device.Entry) (int64, error) {
	defer w.s.watchers.tell(w.id)
	step := store.Step{ReplacementID: w.id, Section: string(e.Section), Name: e.Name, Verb: string(e.Verb),
		Text: e.Text, Repeatable: e.Repeat, BeganAt: w.s.moment()}
	if e.Hand != nil {
		step.Task = w.s.newTask(*e.Hand)
	}
	return w.s.store.BeginStep(ctx, step)
}

// End is called after a step.
func (w journal) End(ctx context.Context, id int64, o device.Outcome) error {
	defer w.s.watchers.tell(w.id)
	return w.s.store.EndStep(ctx, store.Step{ID: id, ReplacementID: w.id, EndedAt: w.s.moment(), OK: o.OK, ExitCode: o.Exit, Output: o.Output, Why: o.Why,
		Capture: o.Capture, Captured: o.Captured})
}
