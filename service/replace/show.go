package replace

import (
	"context"
	"fmt"
	"slices"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/look"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/service/signing"
	"freshseal/store"
)

// chosenByDevice is the plan of a replacement whose device signs for itself: it chooses subject, names and key.
var chosenByDevice = request.Plan{Names: []string{}}

// details are the parts of a replacement that only its own page shows.
type details struct{ *Service }

// Replacement shows one replacement with its journal.
func (s *Service) Replacement(ctx context.Context, id string) (contract.Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return contract.Replacement{}, err
	}
	row, err := s.store.Replacements.Get(ctx, n)
	if err != nil {
		return contract.Replacement{}, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	targets, err := s.store.Replacements.Targets(ctx, n)
	if err != nil {
		return contract.Replacement{}, err
	}
	out := showReplacement(row, targets[n])
	d := details{s}
	for _, add := range []func(context.Context, store.Replacement, *contract.Replacement) error{d.requested,
		d.showUnused,
		d.certificates, d.awaited, d.kept} {
		if err := add(ctx, row, &out); err != nil {
			return out, err
		}
	}
	steps, err := d.journalled(ctx, row, &out)
	if err == nil && out.State == replacement.Held {
		err = d.showHeld(ctx, row, targets[n], steps, &out)
	}
	return out, err
}

// requested adds the request, its differences from the plan, and the requests that it replaced.
func (s details) requested(ctx context.Context, row store.Replacement, out *contract.Replacement) error {
	if row.Signer == contract.DeviceSigner {
		out.Plan = chosenByDevice
	}
	if len(row.Request) > 0 {
		r, err := request.Parse(row.Request)
		if err != nil {
			return err
		}
		facts := factsOf(r)
		out.Request = &facts
		terms := request.Terms{}
		if signer, err := s.signing.Signer(ctx, row.Signer); err == nil { // it may have been removed since
			terms = signer.Terms
		}
		out.Differs = request.Compare(row.Plan.V, r, terms)
	}
	var err error
	out.Former, err = s.former(ctx, row.ID)
	return err
}

// certificates adds the old certificate, and the new one with its chain.
func (s details) certificates(ctx context.Context, row store.Replacement, out *contract.Replacement) error {
	if row.OldSHA256 != "" {
		old, err := s.store.Chains.Certificates(ctx, []string{row.OldSHA256})
		if err != nil {
			return err
		}
		facts := old[0].Facts()
		out.OldCertificate = &facts
	}
	if len(row.Path.V) == 0 {
		return nil
	}
	var err error
	out.Chain, out.Findings, err = s.planned(ctx, row)
	return err
}

// awaited adds what a user needs to approve or resume it, and the progress of its signer.
func (s details) awaited(ctx context.Context, row store.Replacement, out *contract.Replacement) error {
	if row.State == replacement.Waiting &&
		(row.WaitingFor == replacement.Approval || row.WaitingFor == replacement.GoAhead) {
		j, err := s.Load(ctx, row.ID)
		if err != nil {
			return err
		}
		if row.WaitingFor == replacement.GoAhead {
			out.Closed = j.RestsBefore()
		} else if effect, err := s.Effect(ctx, j); err != nil {
			return err
		} else {
			out.Effect = &effect
		}
	}
	if !row.Progress().AtSigner() || row.ParcelID == nil || len(out.Actions) == 0 ||
		out.Actions[0].Do == next.AcceptAnswer {
		return nil
	}
	p, err := s.signing.Parcel(ctx, out.Parcel)
	switch {
	case err != nil:
		return err
	case p.Late:
		out.Next = p.Reminder
	case p.BackBy != nil && out.WaitingFor == replacement.Signer:
		out.Next = fmt.Sprintf("%s has it, to be back by %s", p.HandedTo, p.BackBy.Format(time.DateOnly))
	}
	return nil
}

// kept adds the kept files of the device, the pending pins, and what can be tried again.
func (s details) kept(ctx context.Context, row store.Replacement, out *contract.Replacement) error {
	files, err := s.store.Journal.KeptFiles(ctx, row.ID)
	if err != nil {
		return err
	}
	out.KeptFiles = showKeptFiles(files)
	told, err := s.store.Pins.Updates(ctx, row.ID)
	if err != nil {
		return err
	}
	for _, t := range told {
		if t.ConfirmedAt.IsZero() {
			out.PendingPins++
		}
	}
	out.Kept, err = s.Service.kept(ctx, row)
	return err
}

// journalled adds the steps, with the usual duration of the one under way, and the time spent in each stage. It returns
// the steps.
func (s details) journalled(ctx context.Context, row store.Replacement,
	out *contract.Replacement) ([]store.Step, error) {
	steps, err := s.store.Journal.Steps(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	// it is a task
	steps = slices.DeleteFunc(steps, func(step store.Step) bool { return step.Section == store.Clearing })
	for _, step := range steps {
		out.Steps = append(out.Steps, showStep(step))
	}
	entries, err := s.store.Replacements.Entries(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	out.StageTimes = replacement.Times(entries, s.now())
	if n := len(steps); n > 0 && steps[n-1].EndedAt.IsZero() {
		out.Steps[n-1].Usual, err = s.usual(ctx, row.Device, steps[n-1].Name)
	}
	return steps, err
}

// showUnused adds the answers that were not used. If one of them can be accepted, that is the next action.
func (s details) showUnused(ctx context.Context, row store.Replacement, out *contract.Replacement) error {
	unused, err := s.store.Signers.UnusedAnswers(ctx, row.ID)
	if err != nil {
		return err
	}
	for _, a := range unused {
		leaf, err := cert.Parse(a.DER)
		if err != nil {
			return err
		}
		shown := contract.UnusedAnswer{Certificate: leaf.Facts(), Why: a.Why, CameAt: a.CameAt.Time, CameBy: a.CameBy}
		if a.SHA256 == row.Offered && row.Progress().AtSigner() {
			p, err := s.monitor.Pools(ctx)
			if err != nil {
				return err
			}
			if _, shown.Findings, err = s.signing.JudgeNew(ctx, leaf, p, row); err != nil {
				return err
			}
			wrong, doubts := finding.Errors(shown.Findings), finding.Doubts(shown.Findings)
			switch {
			case len(wrong) > 0:
				shown.Why, out.Next = wrong[0].What, wrong[0].Remedy
			case len(doubts) > 0:
				shown.Why, out.Next = doubts[0].What, "look at the answer; then accept it, or ask the signer for "+
					"another one"
			default:
				out.Next = "the answer is correct now: accept it"
			}
			if shown.Acceptable = len(wrong) == 0; shown.Acceptable {
				out.Actions = []next.Action{next.AcceptAnswer.On(out.ID), next.TakeIn.On("")}
			}
		}
		out.Unused = append(out.Unused, shown)
	}
	return nil
}

// showHeld adds what a user needs to decide: what each address serves, and the open exits.
func (s details) showHeld(ctx context.Context, row store.Replacement, targets []store.Target, steps []store.Step,
	out *contract.Replacement) error {
	j, err := s.Load(ctx, row.ID)
	if err != nil { // what it serves and its exits are shown all the same
		j = &engine.Job{Replacement: row}
	}
	j.Targets = targets
	w, err := s.Sights(ctx, j)
	if err != nil {
		return err
	}
	var words []look.Word
	for _, t := range targets {
		for i, at := range monitor.Places(t.Slot.ToRead()) {
			v := engine.Served{Slot: t, Place: at, First: i == 0}
			if i == 0 && t.Failure.V == nil && len(t.Chain.V) > 0 {
				v.SHA256, v.Said = t.Chain.V[0], t.Subject
			} else if i == 0 && t.Failure.V != nil {
				v.Said = t.Failure.V.What
			}
			for _, o := range t.Others.V {
				if i > 0 && o.Address == at.Address && o.Port == at.Port {
					if v.SHA256, v.Said = o.SHA256, o.Subject; o.Failure != nil {
						v.SHA256, v.Said = "", o.Failure.What
					}
				}
			}
			if v.Said == "" {
				v.Said = v.At() + " was not read yet"
			}
			which := w.Place(v).Word(row.NewSHA256)
			words = append(words, which)
			out.Serves = append(out.Serves, contract.Serving{Slot: t.Name, Address: v.At(), SHA256: v.SHA256,
				Which: which, Text: v.Text()})
		}
	}
	var helps []next.Action
	out.Next, helps = correct(out.Why, out.Device)
	out.Actions = append(helps, next.Resume.On(out.ID))
	for _, open := range engine.OpenSteps(steps, row.Resumed) {
		if !open.Repeatable {
			out.Next = fmt.Sprintf("look at the device: it is unknown whether the step “%s” was done", open.Name)
			out.Actions = []next.Action{next.ResumeDone.On(out.ID), next.ResumeNotDone.On(out.ID),
				next.ResumeAgain.On(out.ID)}
		}
	}
	if !out.Reverting {
		out.Actions = append(out.Actions, giveUp(*out))
	}
	out.Actions = append(out.Actions, closings(out.ID, words)...)
	return nil
}

// planned shows the chain that is going to be installed, or was.
func (s details) planned(ctx context.Context, row store.Replacement) ([]contract.Link, []finding.Finding, error) {
	certificates, err := s.store.Chains.Certificates(ctx, row.Path.V)
	if err != nil {
		return nil, nil, err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return nil, nil, err
	}
	p.Pool.Add(certificates[1:]...)
	path, found, err := s.signing.JudgeNew(ctx, certificates[0], p, row)
	return monitor.Draw(path, certificates), found, err
}

func showReplacement(row store.Replacement, targets []store.Target) contract.Replacement {
	out := contract.Replacement{ID: replacement.Name(row.ID), Progress: row.Progress(), Device: row.Device,
		Slot: row.Slot, Signer: row.Signer, Plan: row.Plan.V,
		OldSHA256: row.OldSHA256, NewSHA256: row.NewSHA256, AskedBy: row.AskedBy, ApprovedBy: row.ApprovedBy,
		StartedAt: row.StartedAt.Time, ChangedAt: row.ChangedAt.Time}
	out.Leftover, out.Targets, out.ClosedAs = row.Leftover, engine.ShowTargets(targets), row.ClosedAs
	if row.RetryOf != nil {
		out.RetryOf = replacement.Name(*row.RetryOf)
	}
	if !row.KeepsUntil.IsZero() {
		out.Kept = &contract.Kept{Until: row.KeepsUntil.Time, What: []string{}}
	}
	if row.ParcelID != nil {
		out.Parcel = signing.ParcelName(*row.ParcelID)
	}
	out.PausedBy, out.StopAfter, out.AnyTime = row.PausedBy, row.StopAfter, row.AnyTime
	if !row.NotBefore.IsZero() {
		out.NotBefore = &row.NotBefore.Time
	}
	if out.WaitingFor == replacement.Window || out.WaitingFor == replacement.Device {
		if out.Closed = row.Closed; !row.OpensAt.IsZero() {
			out.OpensAt = &row.OpensAt.Time
		}
	}
	out.Next, out.Actions = nextFor(out)
	return out
}

// usual returns how many seconds a step usually takes on devices of this family: the median of the last ones, 0 if
// there were none or it takes no time.
func (s details) usual(ctx context.Context, device, step string) (int, error) {
	d, err := s.store.Devices.Get(ctx, device)
	if err != nil {
		return 0, err
	}
	took, err := s.store.Journal.Took(ctx, d.Family, step, 21)
	if err != nil || len(took) == 0 {
		return 0, err
	}
	slices.Sort(took)
	return int((took[len(took)/2] + 500) / 1000), nil
}

func showStep(step store.Step) contract.Step {
	out := contract.Step{Percent: step.Percent, Stage: step.Section, Name: step.Name, Verb: step.Verb,
		Text: step.Text, Outcome: "running",
		Exit: step.ExitCode, Output: step.Output, Why: step.Why, BeganAt: step.BeganAt.Time}
	if !step.EndedAt.IsZero() {
		out.Outcome, out.EndedAt = "failed", &step.EndedAt.Time
		switch {
		case step.OK:
			out.Outcome = "done"
		case step.Unknown:
			out.Outcome = "unknown"
		}
	}
	return out
}
