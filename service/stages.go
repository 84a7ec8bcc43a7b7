package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/policy"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/device"
	"freshseal/store"
	"freshseal/wire"
)

// survey reads what stands, on the wire and on the device.
func (s *Service) survey(ctx context.Context, j job, runner *device.Runner) error {
	reading, err := s.read(ctx, j.slot)
	if err != nil {
		return err
	}
	switch leaf := reading.Leaf(); {
	case leaf != nil:
		if err := s.store.SetOld(ctx, j.ID, leaf.SHA256); err != nil {
			return err
		}
	case !j.Unseen:
		return fmt.Errorf("the slot cannot be read, so a way back could not be proven: %s; %s, or cancel and begin again with --unseen", strings.TrimSuffix(reading.Why.What, "."), reading.Why.Remedy)
	}
	if err := s.lookUp(ctx, j, runner.Journal); err != nil {
		return err
	}
	return s.section(ctx, j, runner, procedure.Survey)
}

// request has the device make key and request, and checks what it made.
func (s *Service) request(ctx context.Context, j job, runner *device.Runner) error {
	if err := s.clearFormer(ctx, j, runner); err != nil {
		return err
	}
	scope, err := runner.Carry(ctx, procedure.Request, j.scope)
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
		made, err = request.Parse([]byte(captured.Text))
	}
	if err != nil {
		return fmt.Errorf("making the request: %w", err)
	}
	if wrong := finding.Errors(request.Check(j.Plan.V, made)); len(wrong) > 0 {
		return fmt.Errorf("the request is not what was planned: %s; %s", wrong[0].What, wrong[0].Remedy)
	}
	if j.Plan.V.SameKey && j.OldSHA256 == "" {
		return errors.New("what the slot serves could not be read, so nobody knows whether its key is used again; read the slot, then resume, or ask again for a new key")
	}
	if j.Plan.V.SameKey {
		served, err := s.store.Certificates(ctx, []string{j.OldSHA256})
		if err != nil {
			return err
		}
		if !served[0].SameKey(made.SPKI()) {
			return errors.New("the request is for another key than the one in use, which was to be used again; see which key_file the server reads, or set the policy's renewal key to new")
		}
	}
	return s.store.SetRequest(ctx, j.ID, made)
}

// sign has bench sign at once, or waits for the desk.
func (s *Service) sign(ctx context.Context, j job) (replacement.Event, error) {
	if j.Signer != BenchSigner {
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Signer}, nil
	}
	if len(j.Path.V) > 0 { // signed already, when the service was stopped
		return replacement.Event{Kind: replacement.Done}, nil
	}
	made, err := request.Parse(j.Request)
	if err != nil {
		return replacement.Event{}, err
	}
	signed, err := s.bench.Sign(made, benchLifetime, s.now())
	if err != nil {
		return replacement.Event{}, err
	}
	p, err := s.pools(ctx)
	if err != nil {
		return replacement.Event{}, err
	}
	p.pool.Add(signed[1:]...)
	path, found, err := s.judgeNew(ctx, signed[0], p, j.Replacement)
	if err != nil {
		return replacement.Event{}, err
	}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		return replacement.Event{}, fmt.Errorf("what bench signed cannot be used: %s", wrong[0].What)
	}
	return replacement.Event{Kind: replacement.Done}, s.store.SetPath(ctx, j.ID, path.Certificates)
}

// gate waits for approval where the policy wants it.
func (s *Service) gate(ctx context.Context, j job) (replacement.Event, error) {
	rules, err := s.policies(ctx)
	if err != nil {
		return replacement.Event{}, err
	}
	if *rules.of(j.slot).Approval == policy.ApprovedByNobody || j.ApprovedBy != "" {
		return replacement.Event{Kind: replacement.Done}, nil
	}
	return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Approval}, nil
}

// section carries out a stage that consists of the procedure's steps alone. Before
// anything goes to the device, the leaf's key is compared with the request's:
// servers' own tests do not do that.
func (s *Service) section(ctx context.Context, j job, runner *device.Runner, section procedure.Section) error {
	if j.material.Path != nil && (j.material.Request == nil || !j.material.Path.Certificates[0].SameKey(j.material.Request.SPKI())) {
		return errors.New("the leaf is for another key than the request's; nothing was sent")
	}
	if section == procedure.Backup {
		if err := runner.Keep(ctx, j.scope); err != nil {
			return err
		}
	}
	_, err := runner.Carry(ctx, section, j.scope)
	return err
}

// prove reads the slot until it serves the new leaf with its whole chain.
func (s *Service) prove(ctx context.Context, j job, runner *device.Runner) error {
	path := *j.material.Path
	err := s.await(ctx, j, runner, func(reading wire.Reading) string {
		if said := notNew(j.Replacement, reading); said != "" {
			return said
		}
		for _, f := range chain.Served(path, reading.Chain) {
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

// await reads the slot again and again until wrong finds nothing wrong, for as
// long as a restart of this family may take.
func (s *Service) await(ctx context.Context, j job, runner *device.Runner, wrong func(wire.Reading) string) error {
	const pause = 400 * time.Millisecond
	limit := time.Now().Add(j.procedure.Traits.RestartLimit)
	runner.Close()
	j.seat.give() // others can work while this device restarts
	for {
		reading, err := s.read(ctx, j.slot)
		if err != nil {
			return err
		}
		said := wrong(reading)
		if said == "" {
			return j.seat.take(ctx, s, j.device.Site)
		}
		if time.Now().After(limit) {
			return fmt.Errorf("after %s the wire still says: %s", j.procedure.Traits.RestartLimit, said)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// install records which leaf the slot must serve from now on, and names its
// condition anew.
func (s *Service) install(ctx context.Context, j job, sha256 string) error {
	signer := j.Signer
	if sha256 == "" {
		signer = "" // what is back was not signed through us, as far as is known
	}
	if err := s.store.SetInstalled(ctx, j.SlotID, sha256, signer); err != nil {
		return err
	}
	row, err := s.store.Slot(ctx, j.Device, j.Slot)
	if err != nil {
		return err
	}
	s.knowledge.judged.Delete(row.ID)
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return err
	}
	served, err := s.store.Certificates(ctx, row.Chain.V)
	switch {
	case err != nil:
		return err
	case len(served) > 0:
		settleOn(&row, snapshot.Judge(served, judgedSlot(row), s.now()))
	case row.Failure.V != nil:
		settleOn(&row, snapshot.Dark(*row.Failure.V, judgedSlot(row)))
	}
	return s.store.SetJudgements(ctx, []store.Slot{row}, s.moment())
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
	err := s.section(ctx, j, runner, procedure.Seal)
	if ctx.Err() != nil || errors.Is(err, device.ErrPerson) {
		return err
	}
	return s.leave(ctx, j, errors.Join(err, s.tidyAfter(ctx, j, runner)))
}

// leave records what is left on the device; nil: nothing.
func (s *Service) leave(ctx context.Context, j job, left error) error {
	what := ""
	if left != nil {
		what = left.Error()
		s.options.Log.Warn("something is left on the device", "replacement", idText(j.ID), "error", left)
	}
	if what == j.Leftover {
		return nil
	}
	return s.store.SetLeftover(context.WithoutCancel(ctx), j.ID, what)
}

// tidyAfter clears the work folder after the seal, but for what a later revert
// needs, and removes those of the slot's earlier replacements, with their keys.
func (s *Service) tidyAfter(ctx context.Context, j job, runner *device.Runner) error {
	if !j.procedure.Uses(procedure.SSH) {
		return nil
	}
	folders, ids, err := s.earlier(ctx, j, func(r store.Replacement) bool { return r.SlotID == j.SlotID && r.ID < j.ID })
	if err != nil {
		return err
	}
	if err := runner.Tidy(ctx, true, folders...); err != nil {
		return err
	}
	return s.store.SetTidied(ctx, ids)
}

// earlier are the work folders of a device's replacements that are over and
// chosen, with their numbers.
func (s *Service) earlier(ctx context.Context, j job, chosen func(store.Replacement) bool) (folders []string, ids []int64, err error) {
	all, err := s.store.ReplacementsOf(ctx, j.DeviceID)
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

// Clear tries again to clear away what a replacement left on its device.
func (s *Service) Clear(ctx context.Context, id string) (Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return Replacement{}, err
	}
	j, err := s.load(ctx, n)
	if err != nil {
		return Replacement{}, notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
	}
	if !j.State.Over() || j.Leftover == "" {
		return Replacement{}, &Error{Conflict, id + " has nothing to clear", "it is " + string(j.State) + ", and nothing of it is left on the device as far as is known", "see: freshseal replacement show " + id}
	}
	runner, leave, err := s.runner(ctx, &j)
	if err != nil {
		return Replacement{}, err
	}
	defer leave()
	if j.State == replacement.Sealed {
		_, err = runner.Carry(ctx, procedure.Seal, j.scope)
		err = errors.Join(err, s.tidyAfter(ctx, j, runner))
	} else {
		err = runner.Tidy(ctx, false)
	}
	if err := s.leave(ctx, j, err); err != nil {
		return Replacement{}, err
	}
	if err != nil {
		return Replacement{}, &Error{Outside, "something of " + id + " is still left on the device", err.Error(), "correct the cause and clear it again"}
	}
	return s.Replacement(ctx, id)
}

// Tidied is what was removed from a device.
type Tidied struct {
	Device       string   `json:"device" required:"true"`
	Replacements []string `json:"replacements" required:"true" description:"whose work folders were removed; they cannot be reverted any more"`
}

// TidyDevice removes the work folders of all replacements of a device that are
// over, with the copies of old keys in them. Those cannot be reverted any more.
func (s *Service) TidyDevice(ctx context.Context, name string) (Tidied, error) {
	out := Tidied{Device: name, Replacements: []string{}}
	d, err := s.store.Device(ctx, name)
	if err != nil {
		return out, notFound(err, "see: freshseal device list", "no device is called %s", name)
	}
	all, err := s.store.ReplacementsOf(ctx, d.ID)
	if err != nil || len(all) == 0 {
		return out, err
	}
	if !all[0].State.Over() {
		return out, &Error{Conflict, name + " was not tidied", "its replacement " + idText(all[0].ID) + " is under way", "wait for its end, or cancel it"}
	}
	j, err := s.load(ctx, all[0].ID)
	if err != nil || !j.procedure.Uses(procedure.SSH) {
		return out, err
	}
	folders, ids, err := s.earlier(ctx, j, func(store.Replacement) bool { return true })
	if err != nil || len(ids) == 0 {
		return out, err
	}
	runner, leave, err := s.runner(ctx, &j)
	if err != nil {
		return out, err
	}
	defer leave()
	if err := runner.Tidy(ctx, false, folders...); err != nil {
		return out, &Error{Outside, name + " was not tidied", err.Error(), "see: freshseal device try " + name}
	}
	for _, id := range ids {
		out.Replacements = append(out.Replacements, idText(id))
	}
	return out, s.store.SetTidied(ctx, ids)
}
