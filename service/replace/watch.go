package replace

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/events"
)

// The outcomes that a person can state for such a step.
const (
	SaidDone    = "done"
	SaidNotDone = "not-done"
	SaidRepeat  = "repeat"
)

// Resume resumes a held replacement. If the outcome of a step is unknown and it may not be repeated automatically, the
// person must state it: done, not-done or repeat.
func (s *Service) Resume(ctx context.Context, id string, known contract.KnownOutcome,
	by string) (contract.Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return contract.Replacement{}, err
	}
	row, err := s.store.Replacements.Get(ctx, n)
	if err != nil {
		return contract.Replacement{}, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	steps, err := s.store.Journal.Steps(ctx, n)
	if err != nil {
		return contract.Replacement{}, err
	}
	open := engine.OpenSteps(steps, row.Resumed)
	if len(open) == 0 && known.Step != "" && row.State == replacement.Held {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" does not go on",
			"the outcome of every step is known", "resume it without an outcome", next.Resume.On(id))
	}
	for _, step := range open {
		if err := s.say(ctx, n, step, known, by); err != nil {
			return contract.Replacement{}, err
		}
	}
	return s.Ask(ctx, id, replacement.AskedResume, by)
}

// say writes into the journal what a person states about the outcome of a step.
func (s *Service) say(ctx context.Context, id int64, step store.Step, known contract.KnownOutcome, by string) error {
	row, err := s.store.Replacements.Get(ctx, id)
	if err != nil || row.State != replacement.Held {
		return err // the stage machine answers
	}
	cannot := replacement.Name(id) + " does not go on"
	switch {
	case known.Step == "" && !step.Repeatable:
		return problem.New(problem.Conflict, cannot, fmt.Sprintf("it is unknown whether the step “%s” was done, "+
			"and it is not safe to repeat: %s", step.Name, step.Text),
			"look at the device", next.ResumeDone.On(replacement.Name(id)),
			next.ResumeNotDone.On(replacement.Name(id)), next.ResumeAgain.On(replacement.Name(id)))
	case known.Step == SaidDone:
		values, err := s.told(ctx, row, step, known.Values, cannot)
		if err != nil {
			return err
		}
		if err := s.KeepCaptured(&step, values); err != nil {
			return err
		}
		s.KeepFiles(&step, values)
		step.OK, step.Unknown, step.Why, step.Output = true, false, "", by+" says that it was done"
	case known.Step == SaidNotDone:
		step.Unknown, step.Why = false, step.Why+"; "+by+" says that it was not done"
	case known.Step == SaidRepeat, known.Step == "":
		step.Unknown, step.Why = false, step.Why+"; "+by+" has it done again"
	default:
		return problem.Reject(cannot, fmt.Sprintf("%q is not an outcome", known.Step), "write done, not-done or repeat")
	}
	step.EndedAt = s.moment()
	return s.store.Journal.EndStep(ctx, step)
}

// told returns the values that a person gives in place of what a step would have captured. All of them are required.
func (s *Service) told(ctx context.Context, r store.Replacement, step store.Step, given map[string]string,
	cannot string) (map[string]value.Value, error) {
	j, err := s.Load(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	out := map[string]value.Value{}
	for _, each := range j.Family.Steps[procedure.Section(step.Section)] {
		if each.Name != step.Name && !strings.HasPrefix(step.Name, each.Name+": ") {
			continue
		}
		for _, c := range each.Capture {
			text, has := given[c.Name]
			if !has {
				return nil, problem.New(problem.Conflict, cannot,
					fmt.Sprintf("later steps need {{%s}}, which the step “%s” would have captured", c.Name, step.Name),
					"give the value of "+c.Name+", or have the step done again",
					next.ResumeAgain.On(replacement.Name(r.ID)))
			}
			if len(text) > mostAnswer {
				return nil, problem.Reject(cannot, "the value of "+c.Name+" is longer than 64 kB", "")
			}
			out[c.Name] = value.Value{Kind: value.Text, Text: text, Known: true, Secret: c.Secret, Keep: c.Keep}
		}
	}
	for name := range given {
		if _, known := out[name]; !known {
			return nil, problem.Reject(cannot, fmt.Sprintf("the step “%s” captures no {{%s}}", step.Name, name),
				"leave it out")
		}
	}
	return out, nil
}

// Ask applies a request to cancel, revert or resume a replacement.
func (s *Service) Ask(ctx context.Context, id string, what replacement.EventKind,
	by string) (contract.Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return contract.Replacement{}, err
	}
	why := by + " asked for it"
	if what == replacement.AskedRevert {
		if err := s.revertible(ctx, n); err != nil {
			return contract.Replacement{}, err
		}
	}
	action, err := s.Advance(ctx, n, replacement.Event{Kind: what, Why: why})
	var impossible replacement.Impossible
	switch {
	case errors.As(err, &impossible):
		return contract.Replacement{},
			problem.New(problem.Conflict, fmt.Sprintf("%s cannot be done with %s", wish[what], id),
				fmt.Sprintf("it is %s in stage %s", impossible.State, impossible.Stage), "",
				next.ShowReplacement.On(id))
	case errors.Is(err, store.ErrTaken):
		return contract.Replacement{},
			problem.New(problem.Conflict, fmt.Sprintf("%s cannot be done with %s", wish[what], id),
				"another replacement of its slot, or one that touches its device, is in progress",
				"wait for its end, or cancel it", next.ListReplacements.On(""))
	case err != nil:
		return contract.Replacement{}, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	s.log.Info("asked", "what", what, "replacement", id, "by", by)
	s.Drive(n, action)
	return s.Replacement(ctx, id)
}

var wish = map[replacement.EventKind]string{
	replacement.AskedCancel: "cancelling", replacement.AskedRevert: "reverting", replacement.AskedResume: "resuming",
}

// Watch passes every event of a replacement after a known one to take, as they come, until the replacement stops (its
// state is not running), take fails or the context ends. While nothing happens it calls beat, which finds out whether
// anybody listens.
func (s *Service) Watch(ctx context.Context, id string, after int64, take func(contract.Event) error,
	beat func() error) error {
	n, err := idNumber(id)
	if err != nil {
		return err
	}
	timed := func(e contract.Event) error {
		if e.Kind == "step" && e.State == "running" {
			// what it usually takes is not worth failing for
			if r, err := s.store.Replacements.Get(ctx, n); err == nil {
				e.Usual, _ = (details{s}).usual(ctx, r.Device, e.Text)
			}
		}
		return take(e)
	}
	return s.monitor.Follow(ctx, events.AboutReplacement(n), after, timed, beat, func() (bool, error) {
		r, err := s.store.Replacements.Get(ctx, n)
		if err != nil {
			return false, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
		}
		return r.State != replacement.Running, nil
	})
}
