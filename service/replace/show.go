package replace

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/look"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/device/links"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/service/signing"
	"freshseal/store"
)

// chosenByDevice is the plan of a replacement whose device signs for itself: it chooses subject, names and key.
var chosenByDevice = request.Plan{Names: []string{}}

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
	if len(row.Request) > 0 {
		r, err := request.Parse(row.Request)
		if err != nil {
			return out, err
		}
		facts := factsOf(r)
		out.Request = &facts
		terms := request.Terms{}
		if signer, err := s.signing.Signer(ctx, row.Signer); err == nil { // it may have been removed since
			terms = signer.Terms
		}
		out.Differs = request.Compare(row.Plan.V, r, terms)
	}
	if row.Signer == contract.DeviceSigner {
		out.Plan = chosenByDevice
	}
	if out.Former, err = s.former(ctx, n); err != nil {
		return out, err
	}
	if err := s.showUnused(ctx, row, &out); err != nil {
		return out, err
	}
	if row.OldSHA256 != "" {
		old, err := s.store.Chains.Certificates(ctx, []string{row.OldSHA256})
		if err != nil {
			return out, err
		}
		facts := old[0].Facts()
		out.OldCertificate = &facts
	}
	if row.State == replacement.Waiting &&
		(row.WaitingFor == replacement.Approval || row.WaitingFor == replacement.GoAhead) {
		j, err := s.load(ctx, n)
		if err != nil {
			return out, err
		}
		if row.WaitingFor == replacement.GoAhead {
			out.Closed = j.restsBefore()
		} else if effect, err := s.effect(ctx, j); err != nil {
			return out, err
		} else {
			out.Effect = &effect
		}
	}
	if row.Progress().AtSigner() && row.ParcelID != nil && len(out.Actions) > 0 &&
		out.Actions[0].Do != next.AcceptAnswer {
		p, err := s.signing.Parcel(ctx, out.Parcel)
		if err != nil {
			return out, err
		}
		switch {
		case p.Late:
			out.Next = p.Reminder
		case p.BackBy != nil && out.WaitingFor == replacement.Signer:
			out.Next = fmt.Sprintf("%s has it, to be back by %s", p.HandedTo, p.BackBy.Format(time.DateOnly))
		}
	}
	kept, err := s.store.Journal.KeptFiles(ctx, n)
	if err != nil {
		return out, err
	}
	out.KeptFiles = showKeptFiles(kept)
	told, err := s.store.Pins.Updates(ctx, n)
	if err != nil {
		return out, err
	}
	for _, t := range told {
		if t.ConfirmedAt.IsZero() {
			out.PendingPins++
		}
	}
	if len(row.Path.V) > 0 {
		if out.Chain, out.Findings, err = s.planned(ctx, row); err != nil {
			return out, err
		}
	}
	steps, err := s.store.Journal.Steps(ctx, n)
	if err != nil {
		return out, err
	}
	// it is a task
	steps = slices.DeleteFunc(steps, func(step store.Step) bool { return step.Section == store.Clearing })
	for _, step := range steps {
		out.Steps = append(out.Steps, showStep(step))
	}
	if n := len(steps); n > 0 && steps[n-1].EndedAt.IsZero() {
		if out.Steps[n-1].Usual, err = s.usual(ctx, row.Device, steps[n-1].Name); err != nil {
			return out, err
		}
	}
	if out.Kept, err = s.kept(ctx, row); err != nil {
		return out, err
	}
	if out.State == replacement.Held {
		err = s.showHeld(ctx, row, targets[n], steps, &out)
	}
	return out, err
}

// showUnused adds the answers that came and were not used; where one of them can be accepted, that is what a person
// does next.
func (s *Service) showUnused(ctx context.Context, row store.Replacement, out *contract.Replacement) error {
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
				out.Next = "nothing is wrong with the answer any more: accept it"
			}
			if shown.Acceptable = len(wrong) == 0; shown.Acceptable {
				out.Actions = []next.Action{next.AcceptAnswer.On(out.ID), next.TakeIn.On("")}
			}
		}
		out.Unused = append(out.Unused, shown)
	}
	return nil
}

// showHeld adds what a person needs to decide: what each address serves, and the exits that are open.
func (s *Service) showHeld(ctx context.Context, row store.Replacement, targets []store.Target, steps []store.Step,
	out *contract.Replacement) error {
	j, err := s.load(ctx, row.ID)
	if err != nil { // what it serves and its exits are shown all the same
		j = job{Replacement: row}
	}
	j.targets = targets
	w, err := s.sights(ctx, &j)
	if err != nil {
		return err
	}
	var words []look.Word
	for _, t := range targets {
		for i, at := range monitor.Places(t.Slot.ToRead()) {
			v := served{slot: t, place: at, first: i == 0}
			if i == 0 && t.Failure.V == nil && len(t.Chain.V) > 0 {
				v.sha256, v.said = t.Chain.V[0], t.Subject
			} else if i == 0 && t.Failure.V != nil {
				v.said = t.Failure.V.What
			}
			for _, o := range t.Others.V {
				if i > 0 && o.Address == at.Address && o.Port == at.Port {
					if v.sha256, v.said = o.SHA256, o.Subject; o.Failure != nil {
						v.sha256, v.said = "", o.Failure.What
					}
				}
			}
			if v.said == "" {
				v.said = v.at() + " was not read yet"
			}
			which := w.place(v).Word(row.NewSHA256)
			words = append(words, which)
			out.Serves = append(out.Serves, contract.Serving{Slot: t.Name, Address: v.at(), SHA256: v.sha256,
				Which: which, Text: v.text()})
		}
	}
	var helps []next.Action
	out.Next, helps = correct(out.Why, out.Device)
	out.Actions = append(helps, next.Resume.On(out.ID))
	for _, open := range openSteps(steps, row.Resumed) {
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
func (s *Service) planned(ctx context.Context, row store.Replacement) ([]contract.Link, []finding.Finding, error) {
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
		BegunAt: row.BegunAt.Time, ChangedAt: row.ChangedAt.Time}
	out.Leftover, out.Targets, out.ClosedAs = row.Leftover, showTargets(targets), row.ClosedAs
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

// nextFor says what a person can do about a replacement that stands still.
func nextFor(r contract.Replacement) (say string, actions []next.Action) {
	only := func(do next.Do) []next.Action { return []next.Action{do.On(r.ID)} }
	switch {
	case r.Leftover != "":
		say, helps := correct(r.Leftover, r.Device)
		return say, append(helps, next.Clear.On(r.ID))
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Signer && r.Parcel == "":
		return "pack its request", []next.Action{next.PackParcel.On(r.Signer)}
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Signer:
		return "give what the signer sends back", []next.Action{next.TakeIn.On("")}
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Validation:
		return "prove to the signer whose the domain is", []next.Action{next.ListTasks.On("")}
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Approval:
		return "look at it and approve it", only(next.Approve)
	case r.State == replacement.Waiting && r.WaitingFor == replacement.GoAhead:
		return "look at it, then let it go on", only(next.GoOn)
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Window && r.OpensAt != nil:
		return "it goes on by itself at " + r.OpensAt.UTC().Format("2006-01-02 15:04 MST") + "; or touch the " +
			"device all the same", only(next.GoOn)
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Window:
		return "wait until that is over, or touch the device all the same", only(next.GoOn)
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Device:
		return "it goes on by itself when that one has ended", []next.Action{next.ListReplacements.On("")}
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Person:
		return "do the next step by hand", []next.Action{next.ListTasks.On("")}
	case r.State == replacement.Held:
		say, helps := correct(r.Why, r.Device)
		return say, append(helps, next.Resume.On(r.ID), giveUp(r))
	case r.State == replacement.Reverted && r.Kept != nil:
		say, helps := correct(r.Why, r.Device)
		return say + "; then use what was signed", append(helps, next.Retry.On(r.ID))
	case r.State == replacement.Reverted:
		say, helps := correct(r.Why, r.Device)
		return say, append(helps, next.Replace.On(r.Device+"/"+r.Slot))
	}
	return "", nil
}

// causes are what stops replacements again and again, by a part of the reason, with what helps.
var causes = []struct {
	part, say string
	do        next.Do // to the device
}{
	{"host key", "if the new host key is right, change it in the device's access", next.ChangeDevice},
	{links.ErrSignIn.Error(), "correct the credential of the device", next.ChangeDevice},
	{device.NotReached, "see that the device is on and can be reached", next.TryDevice},
	{"disk full", "make room on the device", ""},
	{"No space left", "make room on the device", ""},
	{links.ErrTimeLimit.Error(), "see whether the device hangs", next.TryDevice},
}

// correct says what a person has to correct on a device by the reason that stands beside it, and what helps with that.
func correct(why, device string) (say string, helps []next.Action) {
	for _, c := range causes {
		if strings.Contains(why, c.part) {
			if c.do != "" {
				helps = append(helps, c.do.On(device))
			}
			return c.say, helps
		}
	}
	if strings.TrimSpace(why) == "" {
		return "find out what happened", nil
	}
	return "correct what the reason names", nil
}

// giveUp is how a replacement is given up.
func giveUp(r contract.Replacement) next.Action {
	if r.Touched() {
		return next.Revert.On(r.ID)
	}
	return next.Cancel.On(r.ID)
}

// usual is how many seconds a step usually takes on devices of this one's family: the
// median of the last ones, 0 where there were none or it is no time at all.
func (s *Service) usual(ctx context.Context, device, step string) (int, error) {
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
