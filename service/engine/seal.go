package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/chain"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/store"
)

// forgetKey deletes the key of a replacement once the device has it, unless the policy keeps it. A key that a step
// fetched or a person provided is deleted in any case.
func (s keys) forgetKey(ctx context.Context, j *Job) error {
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil {
		return err
	}
	if err := s.forgetCaptured(ctx, j.ID, procedure.Request); err != nil {
		return err
	}
	if keep := rules.KeepKeys; keep != nil && *keep {
		return nil
	}
	return s.store.Secrets.Remove(ctx, KeyPurpose(j.ID))
}

// survey reads the current state, on the wire and on the device.
func (w *visit) survey(ctx context.Context) error {
	for _, t := range w.j.Targets {
		sight, err := w.monitor.Read(ctx, t.Slot)
		if err != nil {
			return err
		}
		why := sight.Why
		if leaf := sight.Leaf(); leaf != nil {
			if err := w.store.Replacements.SetOld(ctx, w.j.ID, t.ID, leaf.SHA256); err != nil {
				return err
			}
			why = nil
		}
		for _, o := range sight.Others {
			why = cmp.Or(why, o.Failure)
		}
		if why != nil && !w.j.Unseen && why.NoTLS() {
			return fmt.Errorf("the slot %s serves no TLS: %s; %s. If this is its first certificate, cancel it and "+
				"begin again accepting that the slot cannot be read: the way back then ends without TLS", t.Name,
				strings.TrimSuffix(why.What, "."), why.Remedy)
		}
		if why != nil && !w.j.Unseen {
			return fmt.Errorf("the slot %s cannot be read, so a way back could not be proven: %s; %s, or cancel it "+
				"and begin again, accepting that the slot cannot be read", t.Name, strings.TrimSuffix(why.What, "."),
				why.Remedy)
		}
	}
	if err := w.lookUp(ctx, w.j, w.journal); err != nil {
		return err
	}
	return w.section(ctx, procedure.Survey)
}

// prove reads the slot until it serves the new leaf with its whole chain.
func (w *visit) prove(ctx context.Context) error {
	if w.j.Family.Traits.SignsItself && w.j.Material.Path == nil {
		if err := w.seeSigned(ctx); err != nil {
			return err
		}
	}
	path := *w.j.Material.Path
	mirrored := len(w.j.Family.Steps[procedure.Mirror]) > 0 // nodes get it later
	err := w.await(ctx, func(_ store.Target, sight monitor.Sight) string {
		if said := NotNew(w.j.NewSHA256, sight, !mirrored); said != "" {
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
	return w.section(ctx, procedure.Prove)
}

// mirror copies the certificate to the nodes, and reads them until they serve it.
func (w *visit) mirror(ctx context.Context) error {
	if err := w.section(ctx, procedure.Mirror); err != nil ||
		len(w.j.Family.Steps[procedure.Mirror]) == 0 || len(w.j.Box.Nodes.V) == 0 {
		return err
	}
	return w.await(ctx, func(_ store.Target, sight monitor.Sight) string {
		return NotNew(w.j.NewSHA256, sight, true)
	})
}

// await reads the slots repeatedly until wrong returns nothing, for as long as a restart of this family may take.
func (w *visit) await(ctx context.Context, wrong func(store.Target, monitor.Sight) string) error {
	limit := time.Now().Add(w.j.Family.Traits.RestartLimit)
	w.Runner.Close()
	w.j.place.Give() // others can work while this device restarts
	for {
		said, err := w.WrongAt(ctx, w.j.Targets, w.j.NewSHA256, wrong)
		if err != nil {
			return err
		}
		if said == "" {
			return w.access.Take(ctx, w.j.place, w.j.Box.Site)
		}
		if time.Now().After(limit) {
			return fmt.Errorf("after %s the wire still says: %s", w.j.Family.Traits.RestartLimit, said)
		}
		if w.stop(ctx) {
			return fmt.Errorf("%w while the wire still said: %s", device.ErrStopped, said)
		}
		select {
		case <-time.After(w.between):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// install records which leaf the slots must serve from now on, and derives their conditions again.
func (s *Service) install(ctx context.Context, j *Job, sha256 string) error {
	signer := j.Signer
	if sha256 == "" {
		signer = "" // what is back was not signed through us, as far as is known
	}
	for _, t := range j.Targets {
		from := t.OldSHA256
		if sha256 == "" {
			from = j.NewSHA256
		}
		if err := s.Installed(ctx, j, t, sha256, signer, []string{from}); err != nil {
			return err
		}
	}
	return s.JudgeTargets(ctx, j)
}

// Installed records which leaf a slot must serve from now on, empty for what it served before, and moves to it the pins
// on the former leaf.
func (s *Service) Installed(ctx context.Context, j *Job, t store.Target, sha256, signer string, others []string) error {
	if err := s.store.Slots.SetInstalled(ctx, t.ID, sha256, signer, s.moment()); err != nil {
		return err
	}
	to := cmp.Or(sha256, t.OldSHA256)
	addresses := []string{j.Box.Address}
	for _, place := range monitor.Places(t.Slot.ToRead()) {
		addresses = append(addresses, place.Address)
	}
	for _, from := range others {
		if from == to || from == "" || to == "" {
			continue
		}
		if err := s.store.Devices.MovePins(ctx, procedure.HTTPS, from, to, j.DeviceID, addresses,
			j.SlotIDs()); err != nil {
			return err
		}
	}
	return nil
}

// JudgeTargets derives the conditions of a replacement's slots again.
func (s *Service) JudgeTargets(ctx context.Context, j *Job) error {
	var rows []store.Slot
	for _, t := range j.Targets {
		row, err := s.store.Slots.Get(ctx, j.Device, t.Name)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return s.monitor.JudgeSlots(ctx, rows)
}

// seal records what is installed now, runs the steps of finally, and removes from the device what is no longer needed.
// The replacement is done and proven by then: what cannot be removed is recorded as a leftover, which can be removed
// later.
func (w *visit) seal(ctx context.Context) error {
	if err := w.install(ctx, w.j, w.j.NewSHA256); err != nil {
		return err
	}
	if err := w.Runner.Finish(ctx, w.j.Scope); err != nil {
		return err
	}
	if err := w.forgetKey(ctx, w.j); err != nil {
		return err
	}
	if err := w.endOffers(ctx, w.j); err != nil {
		return err
	}
	err := w.section(ctx, procedure.Seal)
	if ctx.Err() != nil || errors.Is(err, device.ErrPerson) {
		return err
	}
	if err := w.Leave(ctx, w.j, errors.Join(err, w.TidyAfter(ctx))); err != nil {
		return err
	}
	return w.Runner.Leave(ctx, w.j.Scope, true)
}
