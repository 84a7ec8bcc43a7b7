package replace

import (
	"context"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/engine"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
)

// setMoment takes from an order when the device may be touched, and where the replacement is to stop.
func (s *Service) setMoment(ctx context.Context, j *engine.Job, o contract.Order) error {
	cannot := fmt.Sprintf("%s/%s is not replaced", o.Device, o.Slot)
	switch o.StopAfter {
	case "", string(replacement.Sign):
	case string(replacement.Trial):
		if len(j.Family.Steps[procedure.Trial]) == 0 {
			return problem.Reject(cannot, "its family has no trial", "stop after sign instead",
				next.Give.On("stop_after"))
		}
	default:
		return problem.Reject(cannot, fmt.Sprintf("it cannot stop after %q", o.StopAfter), "give sign or trial",
			next.Give.On("stop_after"))
	}
	j.StopAfter = o.StopAfter
	if o.At != nil {
		if o.At.After(s.now().AddDate(1, 0, 0)) {
			return problem.Reject(cannot, "the time is more than a year ahead", "give an earlier one",
				next.Give.On("at"))
		}
		j.NotBefore = store.At(*o.At)
	}
	if !o.NextOpen {
		return nil
	}
	times, err := s.monitor.Touches(ctx, j.First, j.Box.Tags.V)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(times.Sets, func(set monitor.Windows) bool { return len(set) > 0 }) {
		return problem.Reject(cannot, "no window is set for it", "set one by policy, or give a time",
			next.Give.On("at"))
	}
	j.AfterOpen = s.moment()
	return nil
}

// mostReason bounds a reason, in bytes.
const mostReason = 400

// GoOn resumes a replacement that waits for a go-ahead or for a window.
func (s *Service) GoOn(ctx context.Context, id string, g contract.GoAhead) (contract.Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return contract.Replacement{}, err
	}
	r, err := s.store.Replacements.Get(ctx, n)
	if err != nil {
		return contract.Replacement{}, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	cannot := id + " does not go on"
	paused := r.PausedBy != "" && !r.State.Over()
	switch {
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Window && g.Reason == "":
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, r.Closed, "wait, or give a reason to "+
			"touch the device all the same", next.Give.On("reason"))
	case (r.State != replacement.Waiting || r.WaitingFor != replacement.GoAhead &&
		r.WaitingFor != replacement.Window) && !paused:
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("it waits for no "+
			"go-ahead: it is %s in stage %s", r.State, r.Stage), "", next.ShowReplacement.On(id))
	case len(g.Reason) > mostReason || g.Reason != "" && !oneLine(g.Reason, mostReason):
		return contract.Replacement{}, problem.Reject(cannot, "the reason is not a line of up to 400 characters",
			"shorten it", next.Give.On("reason"))
	}
	if g.Reason != "" {
		audit.Say(ctx, "%s outside of its windows: %s", id, g.Reason)
	}
	if err := s.store.Replacements.SetGoAhead(ctx, n, g.Reason); err != nil {
		return contract.Replacement{}, err
	}
	if r.State == replacement.Waiting && (r.WaitingFor == replacement.GoAhead || r.WaitingFor == replacement.Window) {
		if err := s.Arrive(ctx, n); err != nil {
			return contract.Replacement{}, err
		}
	}
	return s.Replacement(ctx, id)
}

// Pause makes a replacement wait for a go-ahead before its next stage, until its change is served.
func (s *Service) Pause(ctx context.Context, id, by string) (contract.Replacement, error) {
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	if j.State.Over() || j.Reverting || j.Stopping || j.Serving() {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" is not paused",
			fmt.Sprintf("it is %s in stage %s", j.State, j.Stage), "cancel or revert it instead",
			next.ShowReplacement.On(id))
	}
	if err := s.store.Replacements.SetPaused(ctx, j.ID, by); err != nil {
		return contract.Replacement{}, err
	}
	return s.Replacement(ctx, id)
}
