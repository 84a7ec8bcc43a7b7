package replace

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/store"
)

// Rehearse shows every step of a replacement in its final text.
func (s *Service) Rehearse(ctx context.Context, o contract.RehearsalOrder) (contract.Rehearsal, error) {
	j, err := s.prepare(ctx, o.Order)
	if err != nil {
		return contract.Rehearsal{}, err
	}
	steps, err := rehearsal.Of(j.Family.Procedure, j.Scope)
	if err != nil {
		return contract.Rehearsal{}, problem.Reject("this cannot be rehearsed", err.Error(),
			"correct the device's settings")
	}
	if o.Differences {
		if err := differ(s, ctx, j, steps); err != nil {
			return contract.Rehearsal{}, problem.New(problem.Outside, "the differences cannot be shown", err.Error(),
				"", next.TryDevice.On(o.Device))
		}
	}
	var slots []int64
	for _, t := range j.Targets {
		slots = append(slots, t.ID)
	}
	pins, err := s.PinsOf(ctx, slots...)
	if err != nil {
		return contract.Rehearsal{}, err
	}
	plan := j.Plan.V
	if j.Family.Traits.SignsItself {
		plan = chosenByDevice
	}
	return contract.Rehearsal{Plan: plan, Targets: engine.ShowTargets(j.Targets), Steps: steps, Pins: pins,
		Findings: append([]finding.Finding{}, s.Leads(ctx, j.Plan.V.Names, j.First)...)}, nil
}

// differ reads the files that steps would edit and fills in the differences. A file
// that an earlier step edits too is taken as it would be by then.
func differ(s *Service, ctx context.Context, j *engine.Job, steps []rehearsal.Rehearsed) error {
	w, leave, err := s.Visit(ctx, j)
	if err != nil {
		return err
	}
	defer leave()
	files := map[string][]byte{}
	for i, step := range steps {
		act, ok := step.Differs()
		if !ok {
			continue
		}
		old, known := files[act.File()]
		if !known {
			if old, err = w.Runner.Look(ctx, act.File()); err != nil {
				return err
			}
		}
		changed, difference, err := act.Differ(old)
		if err != nil {
			return fmt.Errorf("%s: %w", step.Name, err)
		}
		files[act.File()], steps[i].Difference = changed, difference
	}
	return nil
}

// errUnderWay means that a slot has a replacement that has not ended.
var errUnderWay = errors.New("a replacement is under way")

// Begin starts a replacement and returns at once; the replacement continues in the background.
func (s *Service) Begin(ctx context.Context, o contract.Order, by string) (contract.Replacement, error) {
	r, err := s.begin(ctx, o, by, nil)
	if errors.Is(err, errUnderWay) {
		err = problem.New(problem.Conflict, fmt.Sprintf("%s/%s has a replacement in progress", o.Device, o.Slot),
			"a slot has at most one that is not over", "wait for its end, or cancel it", next.ListReplacements.On(""))
	}
	return r, err
}

// begin is Begin, also for an item of a batch.
func (s *Service) begin(ctx context.Context, o contract.Order, by string,
	item *store.BatchItem) (contract.Replacement, error) {
	j, err := s.prepare(ctx, o)
	if err != nil {
		return contract.Replacement{}, err
	}
	if steps := j.Family.OneWay(); len(steps) > 0 && !o.OneWay {
		return contract.Replacement{}, problem.New(problem.Conflict, fmt.Sprintf("the replacement of %s/%s needs "+
			"your confirmation", o.Device, o.Slot),
			fmt.Sprintf("the step “%s” cannot be undone: %s", steps[0].Name, steps[0].Undo.Because),
			"confirm it to start", next.OneWay.On(""))
	}
	j.AskedBy, j.StartedAt, j.ChangedAt, j.Unseen, j.Mark = by, s.moment(), s.moment(), o.Unseen,
		strings.ToLower(rand.Text()[:10])
	j.Device, j.Slot, j.Cluster = o.Device, o.Slot, j.Box.Cluster
	if err := s.setMoment(ctx, j, o); err != nil {
		return contract.Replacement{}, err
	}
	progress, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		return contract.Replacement{}, err
	}
	var slots []int64
	for _, t := range j.Targets {
		slots = append(slots, t.ID)
	}
	id, err := s.store.Replacements.Add(ctx, j.Replacement, slots, progress, j.Family.Text(), item)
	if errors.Is(err, store.ErrTaken) {
		return contract.Replacement{}, errUnderWay
	}
	if err != nil {
		return contract.Replacement{}, err
	}
	s.log.Info("replacement started", "replacement", replacement.Name(id), "device", o.Device, "slot", o.Slot, "by", by)
	s.Drive(id, replacement.Advance)
	return s.Replacement(ctx, replacement.Name(id))
}

// prepare checks an order and plans its request.
func (s *Service) prepare(ctx context.Context, o contract.Order) (*engine.Job, error) {
	cannot := fmt.Sprintf("%s/%s cannot be replaced", o.Device, o.Slot)
	targets, err := s.targetsOf(ctx, o, cannot)
	if err != nil {
		return nil, err
	}
	slot := targets[0].Slot
	device, err := s.store.Devices.Get(ctx, o.Device)
	if err != nil {
		return nil, err
	}
	if device.Family == "" {
		return nil, problem.Reject(cannot, "it has no family: the device is only monitored", "give it a family",
			next.ChangeDevice.On(o.Device), next.ListProcedures.On(""))
	}
	rules, err := s.monitor.RulesFor(ctx, slot)
	if err != nil {
		return nil, err
	}
	family, err := s.fleet.Family(device.Family)
	if err != nil {
		return nil, err
	}
	if err := orderItself(&o, family.Procedure, cannot); err != nil {
		return nil, err
	}
	signer, err := s.signerFor(ctx, &o, rules, cannot)
	if err != nil {
		return nil, err
	}
	if family.Procedure, err = s.WithSettings(ctx, device, family.Procedure); err != nil {
		return nil, err
	}
	if err := suits(o, family.Procedure, signer, len(targets), cannot); err != nil {
		return nil, err
	}
	plan, err := s.plan(ctx, planning{o, slot, targets, device, rules, signer.Terms, family.Procedure})
	if err != nil {
		return nil, err
	}
	if plan.Cautions, err = s.signing.Cautions(ctx, signer.Name, plan); err != nil {
		return nil, err
	}
	j, err := s.Assemble(ctx, store.Replacement{DeviceID: device.ID, SlotID: slot.ID, Signer: o.Signer,
		Plan: store.JSON[request.Plan]{V: plan}}, device, targets)
	if err != nil {
		return nil, err
	}
	if _, err := s.Helpers(ctx, j); err != nil {
		return nil, err
	}
	return j, fitsPlan(j, plan, signer, rules, cannot)
}

// targetsOf returns the slots that an order names.
func (s *Service) targetsOf(ctx context.Context, o contract.Order, cannot string) ([]store.Target, error) {
	var targets []store.Target
	for _, name := range append([]string{o.Slot}, o.Also...) {
		row, err := s.fleet.SlotRow(ctx, o.Device, name)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(targets, func(t store.Target) bool { return t.ID == row.ID }) {
			return nil, problem.Reject(cannot, "the slot "+name+" is named twice", "name every slot once")
		}
		targets = append(targets, store.Target{Slot: row})
	}
	return targets, nil
}

// signerFor returns the signer that an order names, or the policy's, and sets it in the order.
func (s *Service) signerFor(ctx context.Context, o *contract.Order, rules policy.Rules,
	cannot string) (contract.Signer, error) {
	if o.Signer == "" && (rules.Signer == nil || *rules.Signer == "") {
		return contract.Signer{}, problem.Reject(cannot, "no signer is given, and the policy has no default signer",
			"name a signer", next.Give.On("signer"), next.ListSigners.On(""))
	} else if o.Signer == "" {
		o.Signer = *rules.Signer
	}
	return s.signing.Signer(ctx, o.Signer)
}

// suits checks that a family supports what is ordered, of this signer and for this number of slots.
func suits(o contract.Order, family procedure.Procedure, signer contract.Signer, slots int, cannot string) error {
	switch {
	case signer.Kind == contract.DeviceSigner && !family.Traits.SignsItself:
		return problem.Reject(cannot, "the signer device is only for families whose devices sign their "+
			"certificates themselves; "+family.Name+" is not one", "name another signer", next.Give.On("signer"),
			next.ListSigners.On(""))
	case signer.Kind == contract.OwnKeySigner && !family.Traits.KeyGiven:
		return problem.Reject(cannot, "the signer own-key needs the key, and devices of the family "+
			family.Name+" make it themselves and keep it", "name another signer", next.Give.On("signer"),
			next.ListSigners.On(""))
	case slots > 1 && family.OneSlot():
		return problem.Reject(cannot, "its family works on one slot at a time, and several were named",
			"replace them one by one")
	}
	for _, field := range request.SubjectFields[1:] {
		if value := *o.Subject.Field(field); value != "" && !family.Carries(field) {
			return problem.Reject(cannot, fmt.Sprintf("its family has no place for the %s in its request", field),
				"leave the "+field+" out")
		}
	}
	return nil
}

// fitsPlan checks that the signer signs what is planned, that the device can make it,
// and that the policy allows its key.
func fitsPlan(j *engine.Job, plan request.Plan, signer contract.Signer, rules policy.Rules, cannot string) error {
	if j.Family.Traits.SignsItself {
		return nil // it decides itself what it makes
	}
	if found := append(plan.Check(), plan.Meets(signer.Terms)...); len(found) > 0 {
		say, all := "correct its names, key or subject", []string{}
		for _, f := range found { // all that is missing at once
			all = append(all, f.What)
		}
		if found[0].Code != finding.PlanInvalid {
			say = found[0].Remedy
		}
		return problem.Reject(cannot, strings.Join(all, "; "), say)
	}
	if types := j.Family.Traits.KeyTypes; !slices.Contains(types, plan.Key) {
		return problem.Reject(cannot, fmt.Sprintf("its family does not support %s keys", plan.Key),
			fmt.Sprintf("choose one of %v", types))
	}
	if why := rules.Refuses(plan.Key); why != "" {
		return problem.Reject(cannot, why, "choose another key type, or change the policy", next.Give.On("key"))
	}
	return nil
}

// named loads the replacement with this name.
func (s *Service) named(ctx context.Context, id string) (*engine.Job, error) {
	n, err := idNumber(id)
	if err != nil {
		return nil, err
	}
	j, err := s.Load(ctx, n)
	if err != nil {
		return nil, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	return j, nil
}

func idNumber(text string) (int64, error) {
	n, ok := replacement.Number(text)
	if !ok {
		return 0, problem.New(problem.NotFound, fmt.Sprintf("no replacement is called %q", text), "", "",
			next.ListReplacements.On(""))
	}
	return n, nil
}
