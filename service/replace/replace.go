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
	"freshseal/core/next"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
)

// job is a replacement with all that is needed to work on it.
type job struct {
	store.Replacement
	device    store.Device
	slot      store.Slot     // the first of those that get the certificate
	targets   []store.Target // all of them
	procedure procedure.Source
	material  procedure.Material // what the given values are made of
	scope     *procedure.Scope   // settings, captures and what Fresh Seal brings
	place     *access.Place
}

// Rehearse shows every step of a replacement in its final text.
func (s *Service) Rehearse(ctx context.Context, o contract.RehearsalOrder) (contract.Rehearsal, error) {
	j, err := s.prepare(ctx, o.Order)
	if err != nil {
		return contract.Rehearsal{}, err
	}
	steps, err := j.procedure.Rehearse(j.scope)
	if err != nil {
		return contract.Rehearsal{}, problem.Reject("this cannot be rehearsed", err.Error(),
			"correct the device's settings")
	}
	if o.Differences {
		if err := s.differ(ctx, &j, steps); err != nil {
			return contract.Rehearsal{}, problem.New(problem.Outside, "the differences cannot be shown", err.Error(),
				"", next.TryDevice.On(o.Device))
		}
	}
	var slots []int64
	for _, t := range j.targets {
		slots = append(slots, t.ID)
	}
	pins, err := s.pinsOf(ctx, slots...)
	if err != nil {
		return contract.Rehearsal{}, err
	}
	plan := j.Plan.V
	if j.procedure.Traits.SignsItself {
		plan = chosenByDevice
	}
	return contract.Rehearsal{Plan: plan, Targets: showTargets(j.targets), Steps: steps, Pins: pins,
		Findings: append([]finding.Finding{}, s.leads(ctx, j.Plan.V.Names, j.slot)...)}, nil
}

// differ reads the files that steps would edit and fills in the differences. A file
// that an earlier step edits too is taken as it would be by then.
func (s *Service) differ(ctx context.Context, j *job, steps []procedure.Rehearsed) error {
	runner, leave, err := s.runner(ctx, j)
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
			if old, err = runner.Look(ctx, act.File()); err != nil {
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

// errUnderWay says that a slot has a replacement that is not over.
var errUnderWay = errors.New("a replacement is under way")

// Begin begins a replacement and returns at once; it goes on by itself.
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
	if steps := j.procedure.OneWay(); len(steps) > 0 && !o.OneWay {
		return contract.Replacement{}, problem.New(problem.Conflict, fmt.Sprintf("the replacement of %s/%s needs "+
			"your confirmation", o.Device, o.Slot),
			fmt.Sprintf("the step “%s” cannot be undone: %s", steps[0].Name, steps[0].Undo.Because),
			"confirm it to start", next.OneWay.On(""))
	}
	j.AskedBy, j.BegunAt, j.ChangedAt, j.Unseen, j.Mark = by, s.moment(), s.moment(), o.Unseen,
		strings.ToLower(rand.Text()[:10])
	j.Device, j.Slot, j.Cluster = o.Device, o.Slot, j.device.Cluster
	if err := s.setMoment(ctx, &j, o); err != nil {
		return contract.Replacement{}, err
	}
	progress, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		return contract.Replacement{}, err
	}
	var slots []int64
	for _, t := range j.targets {
		slots = append(slots, t.ID)
	}
	id, err := s.store.Replacements.Add(ctx, j.Replacement, slots, progress, j.procedure.Text(), item)
	if errors.Is(err, store.ErrTaken) {
		return contract.Replacement{}, errUnderWay
	}
	if err != nil {
		return contract.Replacement{}, err
	}
	s.log.Info("replacement begun", "replacement", replacement.Name(id), "device", o.Device, "slot", o.Slot, "by", by)
	s.Drive(id, replacement.Advance)
	return s.Replacement(ctx, replacement.Name(id))
}

// prepare checks an order and plans its request.
func (s *Service) prepare(ctx context.Context, o contract.Order) (job, error) {
	cannot := fmt.Sprintf("%s/%s cannot be replaced", o.Device, o.Slot)
	targets := []store.Target{}
	for _, name := range append([]string{o.Slot}, o.Also...) {
		row, err := s.fleet.SlotRow(ctx, o.Device, name)
		if err != nil {
			return job{}, err
		}
		if slices.ContainsFunc(targets, func(t store.Target) bool { return t.ID == row.ID }) {
			return job{}, problem.Reject(cannot, "the slot "+name+" is named twice", "name every slot once")
		}
		targets = append(targets, store.Target{Slot: row})
	}
	slot := targets[0].Slot
	device, err := s.store.Devices.Get(ctx, o.Device)
	if err != nil {
		return job{}, err
	}
	if device.Family == "" {
		return job{}, problem.Reject(cannot, "it has no family: the device is only monitored", "give it a family",
			next.ChangeDevice.On(o.Device), next.ListProcedures.On(""))
	}
	rules, err := s.monitor.RulesFor(ctx, slot)
	if err != nil {
		return job{}, err
	}
	family, err := s.fleet.Family(device.Family)
	if err != nil {
		return job{}, err
	}
	if err := orderItself(&o, family.Procedure, cannot); err != nil {
		return job{}, err
	}
	if o.Signer == "" && (rules.Signer == nil || *rules.Signer == "") {
		return job{}, problem.Reject(cannot, "no signer is given, and the policy has no default signer",
			"name a signer", next.Give.On("signer"), next.ListSigners.On(""))
	} else if o.Signer == "" {
		o.Signer = *rules.Signer
	}
	signer, err := s.signing.Signer(ctx, o.Signer)
	if err != nil {
		return job{}, err
	}
	if signer.Kind == contract.DeviceSigner && !family.Traits.SignsItself {
		return job{}, problem.Reject(cannot, "the signer device is only for families whose devices sign their "+
			"certificates themselves; "+family.Name+" is not one", "name another signer", next.Give.On("signer"),
			next.ListSigners.On(""))
	}
	if family.Procedure, err = s.withSettings(ctx, device, family.Procedure); err != nil {
		return job{}, err
	}
	if signer.Kind == contract.OwnKeySigner && !family.Traits.KeyGiven {
		return job{}, problem.Reject(cannot, "the signer own-key needs the key, and devices of the family "+
			family.Name+" make it themselves and keep it", "name another signer", next.Give.On("signer"),
			next.ListSigners.On(""))
	}
	if len(targets) > 1 && family.OneSlot() {
		return job{}, problem.Reject(cannot, "its family works on one slot at a time, and several were named",
			"replace them one by one")
	}
	for _, field := range request.SubjectFields[1:] {
		if value := *o.Subject.Field(field); value != "" && !family.Carries(field) {
			return job{},
				problem.Reject(cannot, fmt.Sprintf("its family has no place for the %s in its request", field),
					"leave the "+field+" out")
		}
	}
	plan, err := s.plan(ctx, planning{o, slot, targets, device, rules, signer.Terms, family.Procedure})
	if err != nil {
		return job{}, err
	}
	if plan.Cautions, err = s.signing.Cautions(ctx, signer.Name, plan); err != nil {
		return job{}, err
	}
	j, err := s.assemble(ctx, store.Replacement{DeviceID: device.ID, SlotID: slot.ID, Signer: o.Signer,
		Plan: store.JSON[request.Plan]{V: plan}}, device, targets)
	if err != nil {
		return job{}, err
	}
	if _, err := s.helpers(ctx, j); err != nil {
		return job{}, err
	}
	return j, j.fits(plan, signer, rules, cannot)
}

// fits sees that the signer signs what is planned, that the device can make it,
// and that the policy allows its key.
func (j job) fits(plan request.Plan, signer contract.Signer, rules policy.Rules, cannot string) error {
	if j.procedure.Traits.SignsItself {
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
	if types := j.procedure.Traits.KeyTypes; !slices.Contains(types, plan.Key) {
		return problem.Reject(cannot, fmt.Sprintf("its family does not support %s keys", plan.Key),
			fmt.Sprintf("choose one of %v", types))
	}
	if why := rules.Refuses(plan.Key); why != "" {
		return problem.Reject(cannot, why, "choose another key type, or change the policy", next.Give.On("key"))
	}
	return nil
}

// assemble puts together a job: the procedure that it began with, settings, and
// what the given values are made of, as far as it is there.
func (s *Service) assemble(ctx context.Context, r store.Replacement, device store.Device,
	targets []store.Target) (job, error) {
	p, err := s.procedureOf(ctx, r, device)
	if err != nil {
		return job{}, err
	}
	settings, err := s.fleet.OpenSettings(ctx, device)
	if err != nil {
		return job{}, err
	}
	m := procedure.Material{Procedure: p.Procedure, Address: device.Address, Plan: r.Plan.V, OldSHA256: r.OldSHA256}
	for _, t := range targets {
		m.Slots = append(m.Slots, t.Name)
	}
	for _, n := range device.Nodes.V {
		m.Nodes = append(m.Nodes, n.Address)
	}
	if r.ID != 0 { // a retry goes on with what was named after the first try
		m.Replacement, _, _ = strings.Cut(workName(r), "-")
	}
	var made *procedure.Made
	if r.ID != 0 {
		kept, _ := s.made.LoadOrStore(r.ID, &procedure.Made{})
		made = kept.(*procedure.Made)
	}
	if p.Uses(procedure.HTTPS) {
		web, err := s.access.Web(ctx, device)
		if err != nil {
			return job{}, err
		}
		m.WebUser, m.WebPassword = web.User, web.Password
	}
	j := job{Replacement: r, device: device, slot: targets[0].Slot, targets: targets, procedure: p,
		place: &access.Place{}}
	scope, err := procedure.NewScope(m, settings, made)
	if err != nil {
		return job{}, unfit(device, err)
	}
	m.Procedure = scope.Procedure()
	j.procedure.Procedure = m.Procedure
	if work, err := scope.Value(procedure.WorkFolder); err == nil {
		m.Work = workFolder(work.Text, r)
	}
	if err := s.addSigned(ctx, &m, j); err != nil {
		return job{}, err
	}
	j.material, j.scope = m, scope.WithMaterial(m)
	return j, nil
}

// withSettings is a family as it is for a device with its settings.
func (s *Service) withSettings(ctx context.Context, device store.Device,
	p procedure.Procedure) (procedure.Procedure, error) {
	settings, err := s.fleet.OpenSettings(ctx, device)
	if err != nil {
		return p, err
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p}, settings, nil)
	if err != nil {
		return p, unfit(device, err)
	}
	return scope.Procedure(), nil
}

func unfit(device store.Device, err error) error {
	return problem.Reject("the device's settings do not fit its family", err.Error(), "",
		next.ShowProcedure.On(device.Family))
}

// workFolder is a replacement's folder on its device. The mark makes it unlike
// that of any other replacement, of this database or another.
func workFolder(base string, r store.Replacement) string {
	if r.ID == 0 {
		return base + "/rehearsal"
	}
	return base + "/" + workName(r)
}

// procedureOf is the procedure that a replacement began with, whatever became of
// its file since.
func (s *Service) procedureOf(ctx context.Context, r store.Replacement, device store.Device) (procedure.Source, error) {
	if r.Procedure == "" {
		return s.fleet.Family(device.Family)
	}
	if p, err := s.fleet.Procedure(device.Family); err == nil && p.Usable() && store.Digest(p.Text()) == r.Procedure {
		return p, nil
	}
	yaml, err := s.store.Replacements.ProcedureText(ctx, r.Procedure)
	if err != nil {
		return procedure.Source{}, fmt.Errorf("the procedure that %s began with: %w", replacement.Name(r.ID), err)
	}
	return procedure.Read(yaml)
}

// addSigned adds the request, the new chain and the key to give, as far as they
// are there.
func (s *Service) addSigned(ctx context.Context, m *procedure.Material, j job) error {
	if len(j.Request) > 0 {
		made, err := request.Parse(j.Request)
		if err != nil {
			return err
		}
		m.Request = &made
	}
	if len(j.Path.V) == 0 {
		return nil
	}
	certificates, err := s.store.Chains.Certificates(ctx, j.Path.V)
	if err != nil {
		return err
	}
	m.Path = &chain.Path{Certificates: certificates, Complete: true}
	m.Key, m.Passphrase, err = s.keyToGive(ctx, j)
	return err
}

// load assembles the job of a replacement that is under way.
func (s *Service) load(ctx context.Context, id int64) (job, error) {
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil {
		return job{}, err
	}
	device, err := s.store.Devices.Get(ctx, r.Device)
	if err != nil {
		return job{}, err
	}
	targets, err := s.store.Replacements.Targets(ctx, id)
	if err != nil {
		return job{}, err
	}
	if len(targets[id]) == 0 {
		return job{}, fmt.Errorf("%s has no slot: %w", replacement.Name(id), store.ErrNotFound)
	}
	return s.assemble(ctx, r, device, targets[id])
}

// named is load for the replacement that a person named.
func (s *Service) named(ctx context.Context, id string) (job, error) {
	n, err := idNumber(id)
	if err != nil {
		return job{}, err
	}
	j, err := s.load(ctx, n)
	if err != nil {
		return job{}, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
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
