package replace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
)

// setMoment takes over from an order when the device may be touched, and where the replacement is to stop.
func (s *Service) setMoment(ctx context.Context, j *job, o contract.Order) error {
	cannot := fmt.Sprintf("%s/%s is not replaced", o.Device, o.Slot)
	switch o.StopAfter {
	case "", string(replacement.Sign):
	case string(replacement.Trial):
		if len(j.procedure.Steps[procedure.Trial]) == 0 {
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
	times, err := s.monitor.Touches(ctx, j.slot, j.device.Tags.V)
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

// restsBefore returns why a replacement waits for a go-ahead before the stage in hand; empty: it does not.
func (j job) restsBefore() string {
	if j.Reverting || j.Stopping {
		return ""
	}
	switch {
	case j.PausedBy != "" && !j.serving():
		return "it was paused by " + j.PausedBy
	case j.StopAfter == string(replacement.Sign) && j.Stage == replacement.Gate:
		return "it was to stop after sign"
	case j.StopAfter == string(replacement.Trial) && j.Stage == replacement.Activate:
		return "it was to stop after the trial: look at the test address"
	}
	return ""
}

// serving reports whether the new certificate may be served already: from here on a pause would only delay the proof.
func (j job) serving() bool {
	return slices.Contains([]replacement.Stage{replacement.Prove, replacement.Mirror, replacement.Seal}, j.Stage)
}

// gate lets a replacement pass once it is approved, those who pinned the root know of it, the device may be touched,
// and no other replacement touches it.
func (s *Service) gate(ctx context.Context, j job) (replacement.Event, error) {
	waits := func(whom replacement.WaitingFor) (replacement.Event, error) {
		return replacement.Event{Kind: replacement.Waits, Waiting: whom}, nil
	}
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil {
		return replacement.Event{}, err
	}
	if _, err := s.store.Pins.TellRoots(ctx, j.ID, s.moment()); err != nil {
		return replacement.Event{}, err
	}
	if *rules.Approval != policy.ApprovedByNobody {
		effect, err := s.effect(ctx, j)
		if err != nil {
			return replacement.Event{}, err
		}
		if j.ApprovedBy != "" && j.ApprovedWhat != effect.Digest {
			s.log.Info("what was approved changed", "replacement", replacement.Name(j.ID), "approved_by", j.ApprovedBy)
			if err := s.store.Replacements.SetApproved(ctx, j.ID, "", ""); err != nil {
				return replacement.Event{}, err
			}
			j.ApprovedBy = ""
		}
		if j.ApprovedBy == "" {
			return waits(replacement.Approval)
		}
	}
	opens, closed, err := s.closed(ctx, j)
	if err == nil {
		err = s.store.Replacements.SetOpens(ctx, j.ID, store.At(opens), closed)
	}
	if err != nil {
		return replacement.Event{}, err
	}
	if closed != "" {
		return waits(replacement.Window)
	}
	if other, err := s.store.Replacements.Touching(ctx, j.DeviceID, j.Cluster, j.ID); err != nil || other != 0 {
		if err == nil {
			err = s.store.Replacements.SetOpens(ctx, j.ID, store.Moment{}, replacement.Name(other)+" is at work there")
		}
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Device}, err
	}
	return replacement.Event{Kind: replacement.Done}, nil
}

// closed returns what opening does; where the policy wants it, those who pinned the root and have not confirmed the
// new one are in the way too, and nobody can tell until when.
func (s *Service) closed(ctx context.Context, j job) (opens time.Time, why string, err error) {
	opens, why, err = s.opening(ctx, j)
	if err != nil || why != "" || j.AnyTime != "" {
		return opens, why, err
	}
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil || !policy.Is(rules.RootPinsFirst) {
		return opens, "", err
	}
	pending, err := s.store.Pins.TellRoots(ctx, j.ID, s.moment())
	if err != nil || pending == 0 {
		return opens, "", err
	}
	return time.Time{}, fmt.Sprintf("%d who pinned the root have not confirmed the new one", pending), nil
}

// opening returns when a device may be touched, zero where nobody can tell, and what is in the way now; empty: nothing.
func (s *Service) opening(ctx context.Context, j job) (opens time.Time, closed string, err error) {
	now := s.now()
	if j.AnyTime != "" {
		return now, "", nil
	}
	site, err := s.store.Sites.NamedSite(ctx, j.device.Site)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return time.Time{}, "", err
	}
	if site.Paused {
		return time.Time{}, "the site " + site.Name + " is paused", nil
	}
	times, err := s.monitor.Touches(ctx, j.slot, j.device.Tags.V)
	if err != nil {
		return time.Time{}, "", err
	}
	need, err := s.takes(ctx, j)
	if err != nil {
		return time.Time{}, "", err
	}
	from := now
	if j.NotBefore.After(now) {
		from, closed = j.NotBefore.Time, "it was to begin at "+j.NotBefore.UTC().Format("2006-01-02 15:04 MST")
	}
	opens, why := times.Opening(from, need)
	// one is open: it counts where it opened after it was asked for
	if !j.AfterOpen.IsZero() && closed == "" && why == "" {
		if !times.OpenedSince(j.AfterOpen.Time, from) {
			opens, closed = times.OpensAfter(from, need), "it was to wait for the next window"
		}
	}
	if closed == "" {
		closed = why
	}
	if opens.IsZero() && why != "" {
		closed += fmt.Sprintf("; work and way back take up to %s, which fits into no window of the next 400 days",
			need.Round(time.Second))
	}
	return opens, closed, nil
}

// fewest is how many earlier replacements of a family are needed to know how long they take.
const fewest = 5

// takes returns how long work on a device and the way back may take: twice the time within which nine of ten earlier
// replacements of the family ended, or by the limits of its procedure.
func (s *Service) takes(ctx context.Context, j job) (time.Duration, error) {
	took, err := s.store.Replacements.TookLive(ctx, j.device.Family, 50)
	if err != nil {
		return 0, err
	}
	if len(took) < fewest {
		return 2*j.procedure.Traits.RestartLimit + j.procedure.Traits.RollsBack + 2*time.Minute, nil
	}
	slices.Sort(took)
	return 2 * time.Duration(took[(len(took)*9-1)/10]) * time.Millisecond, nil
}

// unknownEvery is after how many looks a gate is looked at again of which nobody knows when it opens.
const unknownEvery = 5

// watchGates lets replacements pass whose device may be touched by now. A gate that opens later is not looked at
// before, unless a rule changed.
func (s *Service) watchGates() {
	for looks, seen := 0, int64(-1); ; looks++ {
		rows, err := s.store.Replacements.AtGates(s.stopping)
		var rules int64
		if err == nil && len(rows) > 0 {
			rules, err = s.monitor.Version(s.stopping)
		}
		now, changed := s.now(), rules != seen
		seen = rules
		for _, row := range rows {
			if row.WaitingFor == replacement.Window && !changed && (row.OpensAt.After(now) || row.OpensAt.IsZero() &&
				looks%unknownEvery != 0) {
				continue
			}
			if err := s.tryGate(s.stopping, row); err != nil && s.stopping.Err() == nil {
				s.log.Error("looking whether a device may be touched", "replacement", replacement.Name(row.ID),
					"error", err)
			}
		}
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("looking for replacements at the gate", "error", err)
		}
		select {
		case <-time.After(gateEvery):
		case <-s.stopping.Done():
			return
		}
	}
}

// tryGate has the gate looked at again where what was in the way is over. That a window opens earlier than was known,
// because a rule changed, is found here too.
func (s *Service) tryGate(ctx context.Context, row store.AtGate) error {
	if row.WaitingFor == replacement.Device {
		other, err := s.store.Replacements.Touching(ctx, row.DeviceID, row.Cluster, row.ID)
		if err != nil || other != 0 {
			return err
		}
	} else {
		j, err := s.load(ctx, row.ID)
		if err != nil {
			return err
		}
		opens, closed, err := s.closed(ctx, j)
		if err != nil {
			return err
		}
		if closed != "" {
			if !opens.Equal(row.OpensAt.Time) || closed != row.Closed {
				return s.store.Replacements.SetOpens(ctx, row.ID, store.At(opens), closed)
			}
			return nil
		}
	}
	return s.arrive(ctx, row.ID)
}

// toldRoot has the gate of a replacement looked at again, after somebody confirmed its root.
func (s *Service) toldRoot(ctx context.Context, id int64) error {
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil || r.State != replacement.Waiting || r.WaitingFor != replacement.Window {
		return err
	}
	return s.tryGate(ctx, store.AtGate{ID: r.ID, DeviceID: r.DeviceID, Cluster: r.Cluster, WaitingFor: r.WaitingFor,
		OpensAt: r.OpensAt, Closed: r.Closed})
}

// arrive lets a replacement go on that waits.
func (s *Service) arrive(ctx context.Context, id int64) error {
	action, err := s.advance(ctx, id, replacement.Event{Kind: replacement.Arrived})
	if errors.As(err, new(replacement.Impossible)) {
		return nil // somebody was faster
	}
	if err == nil {
		s.Drive(id, action)
	}
	return err
}

// mostReason bounds a reason, in bytes.
const mostReason = 400

// GoOn lets a replacement go on that waits for a go-ahead or for a window.
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
		if err := s.arrive(ctx, n); err != nil {
			return contract.Replacement{}, err
		}
	}
	return s.Replacement(ctx, id)
}

// Pause has a replacement wait for a go-ahead before its next stage, until what it changed is served.
func (s *Service) Pause(ctx context.Context, id, by string) (contract.Replacement, error) {
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	if j.State.Over() || j.Reverting || j.Stopping || j.serving() {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" is not paused",
			fmt.Sprintf("it is %s in stage %s", j.State, j.Stage), "cancel or revert it instead",
			next.ShowReplacement.On(id))
	}
	if err := s.store.Replacements.SetPaused(ctx, j.ID, by); err != nil {
		return contract.Replacement{}, err
	}
	return s.Replacement(ctx, id)
}
