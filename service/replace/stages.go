package replace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
)

// survey reads what stands, on the wire and on the device.
func (s *Service) survey(ctx context.Context, j job, runner *device.Runner) error {
	for _, t := range j.targets {
		sight, err := s.monitor.Read(ctx, t.Slot)
		if err != nil {
			return err
		}
		why := sight.Why
		if leaf := sight.Leaf(); leaf != nil {
			if err := s.store.Replacements.SetOld(ctx, j.ID, t.ID, leaf.SHA256); err != nil {
				return err
			}
			why = nil
		}
		for _, o := range sight.Others {
			why = cmp.Or(why, o.Failure)
		}
		if why != nil && !j.Unseen && why.NoTLS() {
			return fmt.Errorf("the slot %s serves no TLS: %s; %s. If this is its first certificate, cancel it and "+
				"begin again accepting that the slot cannot be read: the way back then ends without TLS", t.Name,
				strings.TrimSuffix(why.What, "."), why.Remedy)
		}
		if why != nil && !j.Unseen {
			return fmt.Errorf("the slot %s cannot be read, so a way back could not be proven: %s; %s, or cancel it "+
				"and begin again, accepting that the slot cannot be read", t.Name, strings.TrimSuffix(why.What, "."),
				why.Remedy)
		}
	}
	if err := s.lookUp(ctx, j, runner.Journal); err != nil {
		return err
	}
	return s.section(ctx, j, runner, procedure.Survey)
}

// request has the device make key and request, and checks what it made.
func (s *Service) request(ctx context.Context, j job, runner *device.Runner) error {
	if j.procedure.Traits.SignsItself || j.RetryOf != nil && len(j.Request) > 0 {
		return nil // there is none, or that of the first try is used again
	}
	if err := s.clearFormer(ctx, j, runner); err != nil {
		return err
	}
	scope, err := runner.Run(ctx, procedure.Request, j.scope)
	if err != nil {
		return err
	}
	var made request.Request
	if j.procedure.Traits.KeyGiven {
		made, err = s.makeRequest(ctx, j)
	} else {
		captured, missing := scope.Value("request")
		if missing != nil {
			return fmt.Errorf("the request %w", missing)
		}
		if made, err = request.Parse([]byte(captured.Text)); err != nil {
			err = fmt.Errorf("%w; the device answered %s", err, device.Shown(captured.Text, scope))
		}
	}
	if err != nil {
		return fmt.Errorf("making the request: %w", err)
	}
	signer, err := s.signing.Signer(ctx, j.Signer)
	if err != nil {
		return err
	}
	if wrong := append(finding.Errors(request.Check(j.Plan.V, made)),
		request.Demanded(request.Compare(j.Plan.V, made, signer.Terms))...); len(wrong) > 0 {
		return fmt.Errorf("the request differs from the plan: %s; %s", wrong[0].What, wrong[0].Remedy)
	}
	if err := s.keysFit(ctx, j.ID, made); err != nil {
		return err
	}
	if j.Plan.V.SameKey && j.OldSHA256 == "" {
		return errors.New("what the slot serves could not be read, so nobody knows whether its key is used again; " +
			"read the slot, then resume, or ask again for a new key")
	}
	if j.Plan.V.SameKey {
		served, err := s.store.Chains.Certificates(ctx, []string{j.OldSHA256})
		if err != nil {
			return err
		}
		if !served[0].SameKey(made.SPKI()) {
			return errors.New("the request is for another key than the one in use, which was to be used again; see " +
				"which key_file the server reads, or set the policy's renewal key to new")
		}
	}
	return s.store.Replacements.SetRequest(ctx, j.ID, made)
}

// sign submits the request to its signer and collects the answer, or waits for it.
func (s *Service) sign(ctx context.Context, j job) (replacement.Event, error) {
	// signed already, when the service was stopped; or later, by the device
	if len(j.Path.V) > 0 || j.procedure.Traits.SignsItself {
		return replacement.Event{Kind: replacement.Done}, nil
	}
	made, err := request.Parse(j.Request)
	if err != nil {
		return replacement.Event{}, err
	}
	by, err := s.signing.Named(ctx, j.Signer)
	if err != nil {
		return replacement.Event{}, err
	}
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil {
		return replacement.Event{}, err
	}
	errand := signer.Errand{Replacement: replacement.Name(j.ID), Device: j.Device, Slot: j.Slot, Request: made,
		Days: rules.Lifetime(0, false, s.now())}
	signed, err := s.collect(ctx, j, by, errand)
	switch {
	case errors.Is(err, signer.ErrPending):
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Signer}, nil
	case err != nil:
		return replacement.Event{}, err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return replacement.Event{}, err
	}
	p.Pool.Add(signed[1:]...)
	path, found, err := s.signing.JudgeNew(ctx, signed[0], p, j.Replacement)
	if err != nil {
		return replacement.Event{}, err
	}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		return replacement.Event{}, fmt.Errorf("what %s signed cannot be used: %s", j.Signer, wrong[0].What)
	}
	if doubts := finding.Doubts(found); len(doubts) > 0 { // a person accepts it
		err := s.store.Signers.PutUnusedAnswer(ctx, signed[0],
			store.UnusedAnswer{ReplacementID: j.ID, Why: doubts[0].What, CameAt: s.moment(), CameBy: j.Signer}, true)
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Signer}, err
	}
	return replacement.Event{Kind: replacement.Done}, s.store.Replacements.SetPath(ctx, j.ID, path.Certificates)
}

// collect submits a request to its signer and collects the answer: the leaf, then what is above it.
func (s *Service) collect(ctx context.Context, j job, by signer.Signer,
	errand signer.Errand) ([]*cert.Certificate, error) {
	if j.Signer == contract.OwnKeySigner {
		key, _, err := s.givenKeyOf(ctx, j.ID)
		if err != nil {
			return nil, fmt.Errorf("signing with its own key: %w", err)
		}
		made, err := signer.SelfSign(errand.Request, key, errand.Days, s.now())
		return []*cert.Certificate{made}, err
	}
	if err := by.Submit(ctx, errand); err != nil {
		return nil, fmt.Errorf("submitting the request to %s: %w", j.Signer, err)
	}
	signed, err := by.Collect(ctx, errand)
	if err != nil && !errors.Is(err, signer.ErrPending) {
		err = fmt.Errorf("collecting the answer of %s: %w", j.Signer, err)
	}
	return signed, err
}

// section carries out a stage that consists of the procedure's steps alone. Before
// anything goes to the device, the leaf's key is compared with the request's:
// servers' own tests do not do that.
func (s *Service) section(ctx context.Context, j job, runner *device.Runner, section procedure.Section) error {
	if j.material.Path != nil && !j.procedure.Traits.SignsItself &&
		(j.material.Request == nil || !j.material.Path.Certificates[0].SameKey(j.material.Request.SPKI())) {
		return errors.New("the leaf is for another key than the request's; nothing was sent")
	}
	if section == procedure.Backup {
		scope, err := runner.Run(ctx, section, j.scope)
		if err != nil {
			return err
		}
		return runner.Keep(ctx, scope) // what it captured may name the files
	}
	_, err := runner.Run(ctx, section, j.scope)
	return err
}

// prove reads the slot until it serves the new leaf with its whole chain.
func (s *Service) prove(ctx context.Context, j job, runner *device.Runner) error {
	if j.procedure.Traits.SignsItself && j.material.Path == nil {
		if err := s.seeSigned(ctx, &j, runner); err != nil {
			return err
		}
	}
	path := *j.material.Path
	mirrored := len(j.procedure.Steps[procedure.Mirror]) > 0 // nodes get it later
	err := s.await(ctx, j, runner, func(_ store.Target, sight monitor.Sight) string {
		if said := notNew(j.NewSHA256, sight, !mirrored); said != "" {
			return said
		}
		for _, f := range chain.Served(path, sight.Chain) {
			if f.Code == finding.ChainNotServed {
				return "it serves the new leaf, and " + f.What
			}
		}
		return ""
	})
	if err != nil {
		return err
	}
	return s.section(ctx, j, runner, procedure.Prove)
}

// mirror carries the certificate to the nodes, and reads them until they serve it.
func (s *Service) mirror(ctx context.Context, j job, runner *device.Runner) error {
	if err := s.section(ctx, j, runner, procedure.Mirror); err != nil ||
		len(j.procedure.Steps[procedure.Mirror]) == 0 || len(j.device.Nodes.V) == 0 {
		return err
	}
	return s.await(ctx, j, runner, func(_ store.Target, sight monitor.Sight) string {
		return notNew(j.NewSHA256, sight, true)
	})
}

// await reads the slots again and again until wrong finds nothing wrong, for as
// long as a restart of this family may take.
func (s *Service) await(ctx context.Context, j job, runner *device.Runner,
	wrong func(store.Target, monitor.Sight) string) error {
	const pause = 400 * time.Millisecond
	limit := time.Now().Add(j.procedure.Traits.RestartLimit)
	runner.Close()
	j.place.Give() // others can work while this device restarts
	for {
		said, err := s.wrongAt(ctx, j.targets, j.NewSHA256, wrong)
		if err != nil {
			return err
		}
		if said == "" {
			return j.place.Take(ctx, s.access, j.device.Site)
		}
		if time.Now().After(limit) {
			return fmt.Errorf("after %s the wire still says: %s", j.procedure.Traits.RestartLimit, said)
		}
		if runner.Stop(ctx) {
			return fmt.Errorf("%w while the wire still said: %s", device.ErrStopped, said)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// install records which leaf the slots must serve from now on, and names their
// conditions anew.
func (s *Service) install(ctx context.Context, j job, sha256 string) error {
	signer := j.Signer
	if sha256 == "" {
		signer = "" // what is back was not signed through us, as far as is known
	}
	for _, t := range j.targets {
		from := t.OldSHA256
		if sha256 == "" {
			from = j.NewSHA256
		}
		if err := s.installed(ctx, j, t, sha256, signer, []string{from}); err != nil {
			return err
		}
	}
	return s.judgeTargets(ctx, j)
}

// installed records which leaf a slot must serve from now on (empty: what it served before), and moves the pins to it
// that were on one of others.
func (s *Service) installed(ctx context.Context, j job, t store.Target, sha256, signer string, others []string) error {
	if err := s.store.Slots.SetInstalled(ctx, t.ID, sha256, signer, s.moment()); err != nil {
		return err
	}
	to := cmp.Or(sha256, t.OldSHA256)
	addresses := []string{j.device.Address}
	for _, place := range monitor.Places(t.Slot.ToRead()) {
		addresses = append(addresses, place.Address)
	}
	for _, from := range others {
		if from == to || from == "" || to == "" {
			continue
		}
		if err := s.store.Devices.MovePins(ctx, procedure.HTTPS, from, to, j.DeviceID, addresses,
			j.slotIDs()); err != nil {
			return err
		}
	}
	return nil
}

// judgeTargets names the conditions of a replacement's slots anew.
func (s *Service) judgeTargets(ctx context.Context, j job) error {
	var rows []store.Slot
	for _, t := range j.targets {
		row, err := s.store.Slots.Get(ctx, j.Device, t.Name)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return s.monitor.JudgeSlots(ctx, rows)
}

// seal records what is installed now, does what is always done, and clears the
// device of what is not needed any more. The work is done and proven: what fails
// of the clearing is told as a leftover, and can be cleared later.
func (s *Service) seal(ctx context.Context, j job, runner *device.Runner) error {
	if err := s.install(ctx, j, j.NewSHA256); err != nil {
		return err
	}
	if err := runner.Finish(ctx, j.scope); err != nil {
		return err
	}
	if err := s.forgetKey(ctx, j); err != nil {
		return err
	}
	if err := s.endOffers(ctx, j); err != nil {
		return err
	}
	err := s.section(ctx, j, runner, procedure.Seal)
	if ctx.Err() != nil || errors.Is(err, device.ErrPerson) {
		return err
	}
	if err := s.leave(ctx, j, errors.Join(err, s.tidyAfter(ctx, j, runner))); err != nil {
		return err
	}
	return runner.Leave(ctx, j.scope, true)
}

// endOffers removes what earlier replacements of the slots keep for another try: a later one is sealed. What cannot
// be cleared stands as their leftover.
func (s *Service) endOffers(ctx context.Context, j job) (err error) {
	j.place.Give() // each takes a place of its own
	defer func() {
		if again := j.place.Take(ctx, s.access, j.device.Site); err == nil {
			err = again
		}
	}()
	for _, t := range j.targets {
		kept, err := s.store.Replacements.KeptOf(ctx, t.ID, j.ID)
		if err != nil {
			return err
		}
		for _, id := range kept {
			if err := s.dropKept(ctx, id, false); err != nil && ctx.Err() != nil {
				return err
			}
		}
	}
	return nil
}

// leftoverDays is by when what is left on a device is to be removed.
const leftoverDays = 30

// leave records what is left on the device; nil: nothing.
func (s *Service) leave(ctx context.Context, j job, left error) error {
	what := ""
	if left != nil {
		what = left.Error()
		s.log.Warn("something is left on the device", "replacement", replacement.Name(j.ID), "error", left)
	}
	if what == j.Leftover {
		return nil
	}
	return s.store.Replacements.SetLeftover(context.WithoutCancel(ctx), j.ID, what, s.moment(),
		store.At(s.now().AddDate(0, 0, leftoverDays)))
}

// tidyAfter clears the work folder after the seal, but for what a later revert
// needs, and removes those of the slot's earlier replacements, with their keys.
func (s *Service) tidyAfter(ctx context.Context, j job, runner *device.Runner) error {
	if !j.procedure.HasFolder() {
		return nil
	}
	folders, ids, err := s.earlier(ctx, j, func(r store.Replacement) bool {
		return r.SlotID == j.SlotID && r.ID < j.ID
	})
	if err != nil {
		return err
	}
	if err := runner.Tidy(ctx, true, j.scope, folders...); err != nil {
		return err
	}
	return s.store.Replacements.SetTidied(ctx, ids)
}

// earlier are the work folders of a device's replacements that are over and
// chosen, with their numbers.
func (s *Service) earlier(ctx context.Context, j job,
	chosen func(store.Replacement) bool) (folders []string, ids []int64, err error) {
	all, err := s.store.Replacements.Of(ctx, j.DeviceID)
	if err != nil {
		return nil, nil, err
	}
	base, err := j.scope.Value(procedure.WorkFolder)
	if err != nil {
		return nil, nil, err
	}
	for _, r := range all {
		if r.State.Over() && !r.Tidied && r.Mark != "" && chosen(r) {
			folders, ids = append(folders, workFolder(base.Text, r)), append(ids, r.ID)
		}
	}
	return folders, ids, nil
}

// Clear removes what a replacement left on its device.
func (s *Service) Clear(ctx context.Context, id string) (contract.Replacement, error) {
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	n := j.ID
	if !j.State.Over() || j.Leftover == "" && j.KeepsUntil.IsZero() {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" has nothing to clear",
			"it is "+string(j.State)+", and nothing of it is known to be left on the device", "",
			next.ShowReplacement.On(id))
	}
	if waits, err := s.waitsToEnter(ctx, n); err != nil || waits != "" {
		return contract.Replacement{},
			cmp.Or(err, error(problem.New(problem.Conflict, id+" was not cleared", "a person must do the task "+waits+
				" first", "", next.FinishTask.On(waits))))
	}
	unlock, free := s.tryDevice(j.DeviceID)
	if !free {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" was not cleared",
			"its device is being worked on", "clear it when that has ended", next.ListReplacements.On(""))
	}
	defer unlock()
	if j.State != replacement.Sealed {
		if err := s.dropKept(ctx, n, false); err != nil {
			return contract.Replacement{}, problem.New(problem.Outside, id+" still has something left on the device",
				err.Error(), "correct what it says and clear it again")
		}
		return s.Replacement(ctx, id)
	}
	runner, leave, err := s.runner(ctx, &j)
	if err != nil {
		return contract.Replacement{}, err
	}
	defer leave()
	_, err = runner.Run(ctx, procedure.Seal, j.scope)
	err = s.leaveAfter(ctx, j, runner, errors.Join(err, s.tidyAfter(ctx, j, runner)))
	if err := s.leave(ctx, j, err); err != nil {
		return contract.Replacement{}, err
	}
	if err != nil {
		return contract.Replacement{}, problem.New(problem.Outside, id+" still has something left on the device",
			err.Error(), "correct what it says and clear it again")
	}
	return s.Replacement(ctx, id)
}

// leaveAfter leaves a visit to the device of a replacement that is over, after what became of it. Where a person must
// let Fresh Seal in first, or out, that is a task, after which the clearing is tried again.
func (s *Service) leaveAfter(ctx context.Context, j job, runner *device.Runner, err error) error {
	if errors.Is(err, device.ErrPerson) {
		return errors.New("a person must let Fresh Seal onto the device first; see the tasks of " +
			replacement.Name(j.ID))
	}
	if ctx.Err() == nil && runner.Within(j.scope) {
		if left := runner.LeaveVisit(ctx, j.scope); !errors.Is(left, device.ErrPerson) {
			err = errors.Join(err, left)
		}
	}
	return err
}

// waitsToEnter returns the task of a replacement that is over by which a person lets Fresh Seal onto the device, or
// out of it; empty: there is none.
func (s *Service) waitsToEnter(ctx context.Context, id int64) (string, error) {
	open, err := s.store.Tasks.Open(ctx)
	for _, row := range open {
		if row.ReplacementID == id && row.After && row.Section == string(procedure.Enclosure) {
			return taskText(row.StepID), nil
		}
	}
	return "", err
}

// TidyDevice removes the work folders of all replacements of a device that are
// over, with the copies of old keys in them. Those cannot be reverted any more.
func (s *Service) TidyDevice(ctx context.Context, name string) (contract.Tidied, error) {
	out := contract.Tidied{Device: name, Replacements: []string{}}
	d, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return out, problem.Missing(err, next.ListDevices, "no device is called %s", name)
	}
	all, err := s.store.Replacements.Of(ctx, d.ID)
	if err != nil || len(all) == 0 {
		return out, err
	}
	if !all[0].State.Over() {
		return out, problem.New(problem.Conflict, name+" was not tidied", "its replacement "+
			replacement.Name(all[0].ID)+" is in progress", "wait for its end, or cancel it")
	}
	j, err := s.load(ctx, all[0].ID)
	if err != nil || !j.procedure.HasFolder() {
		return out, err
	}
	folders, ids, err := s.earlier(ctx, j, func(store.Replacement) bool { return true })
	if err != nil || len(ids) == 0 {
		return out, err
	}
	unlock, free := s.tryDevice(d.ID)
	if !free {
		return out, problem.New(problem.Conflict, name+" was not tidied", "it is being worked on",
			"try again when that has ended")
	}
	defer unlock()
	runner, leave, err := s.runner(ctx, &j)
	if err != nil {
		return out, err
	}
	defer leave()
	if err = s.leaveAfter(ctx, j, runner, runner.Tidy(ctx, false, j.scope, folders...)); err != nil {
		return out, problem.New(problem.Outside, name+" was not tidied", err.Error(), "", next.TryDevice.On(name))
	}
	for _, id := range ids {
		out.Replacements = append(out.Replacements, replacement.Name(id))
	}
	return out, s.store.Replacements.SetTidied(ctx, ids)
}
