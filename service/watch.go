package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"freshseal/core/policy"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Resume lets a held replacement go on. Where nobody knows whether its last step
// was done and it may not be repeated by itself, the person must say: done, or again.
func (s *Service) Resume(ctx context.Context, id, known, by string) (Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return Replacement{}, err
	}
	steps, err := s.store.Steps(ctx, n)
	if err != nil {
		return Replacement{}, err
	}
	if len(steps) > 0 && steps[len(steps)-1].Unknown {
		if err := s.say(ctx, n, steps[len(steps)-1], known, by); err != nil {
			return Replacement{}, err
		}
	}
	return s.Ask(ctx, id, replacement.AskedResume, by)
}

// say writes into the journal what a person knows of a step's outcome.
func (s *Service) say(ctx context.Context, id int64, step store.Step, known, by string) error {
	row, err := s.store.Replacement(ctx, id)
	if err != nil || row.State != replacement.Held {
		return err // the stage machine answers
	}
	cannot := idText(id) + " does not go on"
	switch {
	case known == "" && !step.Repeatable:
		return &Error{Conflict, cannot, fmt.Sprintf("nobody knows whether the step “%s” was done, and it may not be repeated by itself: %s", step.Name, step.Text),
			fmt.Sprintf("look at the device, then: freshseal replacement resume %s --step done, or --step again", idText(id))}
	case known == "done":
		captures, err := s.captures(ctx, row, step)
		if err != nil {
			return err
		}
		if captures {
			return &Error{Conflict, cannot, fmt.Sprintf("later steps need what the step “%s” prints", step.Name), "have it done again with --step again, or cancel"}
		}
		step.OK, step.Unknown, step.Why, step.Output = true, false, "", by+" says that it was done"
	case known == "again", known == "":
		step.Unknown, step.Why = false, step.Why+"; "+by+" has it done again"
	default:
		return invalid(cannot, fmt.Sprintf("%q says nothing about a step", known), "write done or again")
	}
	return s.store.EndStep(ctx, step)
}

// captures says whether a step gives values that later ones may name.
func (s *Service) captures(ctx context.Context, r store.Replacement, step store.Step) (bool, error) {
	j, err := s.load(ctx, r.ID)
	if err != nil {
		return false, err
	}
	for _, each := range j.procedure.Steps[procedure.Section(step.Section)] {
		if each.Name == step.Name {
			return len(each.Capture) > 0, nil
		}
	}
	return false, nil
}

// Ask lets a person cancel, revert or resume a replacement.
func (s *Service) Ask(ctx context.Context, id string, what replacement.EventKind, by string) (Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return Replacement{}, err
	}
	why := by + " asked for it"
	if what == replacement.AskedRevert {
		if err := s.revertible(ctx, n); err != nil {
			return Replacement{}, err
		}
	}
	action, err := s.advance(ctx, n, replacement.Event{Kind: what, Why: why})
	var impossible replacement.Impossible
	switch {
	case errors.As(err, &impossible):
		return Replacement{}, &Error{Conflict, fmt.Sprintf("%s cannot be done with %s", wish[what], id), fmt.Sprintf("it is %s in stage %s", impossible.State, impossible.Stage), "see: freshseal replacement show " + id}
	case errors.Is(err, store.ErrTaken):
		return Replacement{}, &Error{Conflict, fmt.Sprintf("%s cannot be done with %s", wish[what], id), "its device has another replacement under way", "wait for that one"}
	case err != nil:
		return Replacement{}, notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
	}
	s.options.Log.Info("asked", "what", what, "replacement", id, "by", by)
	s.drive(n, action)
	return s.Replacement(ctx, id)
}

// Approve lets a replacement that waits for approval go on.
func (s *Service) Approve(ctx context.Context, id, by string) (Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return Replacement{}, err
	}
	r, err := s.store.Replacement(ctx, n)
	if err != nil {
		return Replacement{}, notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
	}
	cannot := id + " cannot be approved"
	if r.State != replacement.Waiting || r.WaitingFor != replacement.Approval {
		return Replacement{}, &Error{Conflict, cannot, fmt.Sprintf("it does not wait for approval: it is %s in stage %s", r.State, r.Stage), "see: freshseal replacement show " + id}
	}
	slot, err := s.store.Slot(ctx, r.Device, r.Slot)
	if err != nil {
		return Replacement{}, err
	}
	rules, err := s.policies(ctx)
	if err != nil {
		return Replacement{}, err
	}
	if *rules.of(slot).Approval == policy.ApprovedByAnother && by == r.AskedBy {
		return Replacement{}, &Error{Refused, cannot, by + " asked for it, and the policy wants another", "ask another operator"}
	}
	if err := s.store.SetApproved(ctx, n, by); err != nil {
		return Replacement{}, err
	}
	action, err := s.advance(ctx, n, replacement.Event{Kind: replacement.Arrived})
	if err != nil {
		return Replacement{}, err
	}
	s.drive(n, action)
	return s.Replacement(ctx, id)
}

var wish = map[replacement.EventKind]string{
	replacement.AskedCancel: "cancelling", replacement.AskedRevert: "reverting", replacement.AskedResume: "resuming",
}

// Event is what watchers are told, in order of ID.
type Event struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Kind  string    `json:"kind" required:"true" enum:"stage,step,state"`
	Stage string    `json:"stage" required:"true"`
	State string    `json:"state" required:"true"`
	Text  string    `json:"text,omitempty"`
}

// JSON is the event on one line.
func (e Event) JSON() []byte {
	line, _ := json.Marshal(e) // plain fields cannot fail
	return line
}

// beatEvery is how often a watcher is told that the service is still there.
const beatEvery = 15 * time.Second

// Watch hands every event after a known one to take, as they come, until the
// replacement stands still (its state is not running), take fails or the context
// ends. While nothing happens beat is called, which finds out whether anybody listens.
func (s *Service) Watch(ctx context.Context, id string, after int64, take func(Event) error, beat func() error) error {
	n, err := idNumber(id)
	if err != nil {
		return err
	}
	wake, done := s.watchers.join(n)
	defer done()
	for {
		r, err := s.store.Replacement(ctx, n)
		if err != nil {
			return notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
		}
		events, err := s.store.Events(ctx, n, after)
		if err != nil {
			return err
		}
		for _, e := range events {
			if err := take(Event{e.ID, e.At.Time, e.Kind, e.Stage, e.State, e.Text}); err != nil {
				return err
			}
			after = e.ID
		}
		if r.State != replacement.Running && len(events) == 0 {
			return nil
		}
		if len(events) > 0 {
			continue
		}
		select {
		case <-wake:
		case <-time.After(beatEvery):
			if err := beat(); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		case <-s.stopping.Done():
			return nil
		}
	}
}
