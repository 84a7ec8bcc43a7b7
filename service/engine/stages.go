package engine

import (
	"context"
	"errors"
	"fmt"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/signer"
	"freshseal/store/issuance"
)

// request makes the device create key and request, and checks the request.
func (w *visit) request(ctx context.Context) error {
	if w.j.Family.Traits.SignsItself || w.j.RetryOf != nil && len(w.j.Request) > 0 {
		return nil // there is none, or that of the first try is used again
	}
	if err := w.clearFormer(ctx); err != nil {
		return err
	}
	scope, err := w.Runner.Run(ctx, procedure.Request, w.j.Scope)
	if err != nil {
		return err
	}
	var made request.Request
	if w.j.Family.Traits.KeyGiven {
		made, err = w.makeRequest(ctx, w.j)
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
	signer, err := w.signing.Signer(ctx, w.j.Signer)
	if err != nil {
		return err
	}
	if wrong := append(finding.Errors(request.Check(w.j.Plan.V, made)),
		request.Demanded(request.Compare(w.j.Plan.V, made, signer.Terms))...); len(wrong) > 0 {
		return fmt.Errorf("the request differs from the plan: %s; %s", wrong[0].What, wrong[0].Remedy)
	}
	if err := w.keysFit(ctx, w.j.ID, made); err != nil {
		return err
	}
	if w.j.Plan.V.SameKey && w.j.OldSHA256 == "" {
		return errors.New("what the slot serves could not be read, so nobody knows whether its key is used again; " +
			"read the slot, then resume, or ask again for a new key")
	}
	if w.j.Plan.V.SameKey {
		served, err := w.store.Chains.Certificates(ctx, []string{w.j.OldSHA256})
		if err != nil {
			return err
		}
		if !served[0].SameKey(made.SPKI()) {
			return errors.New("the request is for another key than the one in use, which was to be used again; see " +
				"which key_file the server reads, or set the policy's renewal key to new")
		}
	}
	return w.store.Replacements.SetRequest(ctx, w.j.ID, made)
}

// sign submits the request to its signer and collects the answer, or waits for it.
func (s *Service) sign(ctx context.Context, j *Job) (replacement.Event, error) {
	// signed already, when the service was stopped; or later, by the device
	if len(j.Path.V) > 0 || j.Family.Traits.SignsItself {
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
	rules, err := s.monitor.RulesFor(ctx, j.First)
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
			issuance.UnusedAnswer{ReplacementID: j.ID, Why: doubts[0].What, CameAt: s.moment(), CameBy: j.Signer}, true)
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Signer}, err
	}
	return replacement.Event{Kind: replacement.Done}, s.store.Replacements.SetPath(ctx, j.ID, path.Certificates)
}

// collect submits a request to its signer and returns the answer: the leaf, then the certificates above it.
func (s *Service) collect(ctx context.Context, j *Job, by signer.Signer,
	errand signer.Errand) ([]*cert.Certificate, error) {
	if j.Signer == contract.OwnKeySigner {
		key, _, err := s.GivenKeyOf(ctx, j.ID)
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

// section runs a stage that consists of the procedure's steps alone. Before anything is sent to the device, the leaf's
// key is compared with the request's, which the configuration tests of servers do not do.
func (w *visit) section(ctx context.Context, section procedure.Section) error {
	if w.j.Material.Path != nil && !w.j.Family.Traits.SignsItself &&
		(w.j.Material.Request == nil || !w.j.Material.Path.Certificates[0].SameKey(w.j.Material.Request.SPKI())) {
		return errors.New("the leaf is for another key than the request's; nothing was sent")
	}
	if section == procedure.Backup {
		scope, err := w.Runner.Run(ctx, section, w.j.Scope)
		if err != nil {
			return err
		}
		return w.Runner.Keep(ctx, scope) // what it captured may name the files
	}
	_, err := w.Runner.Run(ctx, section, w.j.Scope)
	return err
}
