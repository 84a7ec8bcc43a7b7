package service

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"time"

	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/pack"
	"freshseal/core/policy"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/device"
	"freshseal/wire"
)

// survey reads what stands, on the wire and on the device.
func (s *Service) survey(ctx context.Context, j job, runner *device.Runner) error {
	reading, err := s.read(ctx, j.slot)
	if err != nil {
		return err
	}
	if leaf := reading.Leaf(); leaf != nil {
		if err := s.store.SetOld(ctx, j.ID, leaf.SHA256); err != nil {
			return err
		}
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
	scope, err := runner.Carry(ctx, j.procedure.Procedure, procedure.Request, j.scope)
	if err != nil {
		return err
	}
	var made request.Request
	if j.procedure.Traits.KeyGiven {
		made, err = s.makeRequest(ctx, j)
	} else {
		made, err = request.Parse([]byte(scope["request"].Text))
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

// scopeOfChain adds what comes from the signer to the values of a job. Before
// anything goes to the device, the leaf's key is compared with the request's:
// servers' own tests do not do that.
func (s *Service) scopeOfChain(ctx context.Context, j job) (procedure.Scope, chain.Path, error) {
	certificates, err := s.store.Certificates(ctx, j.Path.V)
	if err != nil {
		return nil, chain.Path{}, err
	}
	made, err := request.Parse(j.Request)
	if err != nil {
		return nil, chain.Path{}, err
	}
	if !certificates[0].SameKey(made.SPKI()) {
		return nil, chain.Path{}, errors.New("the leaf is for another key than the request's; nothing was sent")
	}
	path := chain.Path{Certificates: certificates, Complete: true}
	scope := j.scope.With("request_key", procedure.ContentValue(made.PublicKeyPEM()))
	scope["new_sha256"] = procedure.TextValue(certificates[0].SHA256)
	for name, form := range map[string]pack.Form{
		"leaf": pack.Leaf, "leaf_first": j.procedure.Traits.Form, "intermediates": pack.Intermediates, "anchor": pack.Root,
	} {
		content, err := pack.Make(form, path)
		if errors.Is(err, pack.ErrNoRoot) {
			continue // a step that names it will say that it is missing
		}
		if err != nil {
			return nil, path, err
		}
		scope[name] = procedure.ContentValue(content)
	}
	key, passphrase, err := s.keyToGive(ctx, j)
	if err != nil {
		return nil, path, err
	}
	if key != nil {
		if err := addGiven(j, path, key, passphrase, scope); err != nil {
			return nil, path, err
		}
	}
	if err := addPacks(j, path, key, passphrase, scope); err != nil {
		return nil, path, err
	}
	for name, dressed := range map[string]struct {
		form  pack.Form
		dress pack.Dress
	}{
		"leaf_der": {pack.Leaf, pack.Dress{Encoding: pack.DER}}, "pkcs7": {pack.LeafFirst, pack.Dress{Encoding: pack.PKCS7}}, "pkcs7_pem": {pack.LeafFirst, pack.Dress{Encoding: pack.PKCS7PEM}},
	} {
		content, err := pack.Write(dressed.form, dressed.dress, path, nil)
		if err != nil {
			return nil, path, err
		}
		scope[name] = procedure.ContentValue(content)
	}
	return scope, path, nil
}

// addPacks adds the files in the forms that the family wants, as far as the chain
// holds what they want: a step that names what is missing says so, and one with
// when is left out.
func addPacks(j job, path chain.Path, key crypto.Signer, passphrase string, scope procedure.Scope) error {
	for _, p := range j.procedure.Packs {
		if p.Secret() && key == nil {
			continue // given already and forgotten
		}
		d := p.Dress
		d.Passphrase = passphrase
		content, err := pack.Write(p.Form, d, path, key)
		switch {
		case errors.Is(err, pack.ErrNoRoot), errors.Is(err, pack.ErrNoIntermediate):
		case err != nil:
			return fmt.Errorf("making the pack %s: %w", p.Name, err)
		case p.Secret():
			scope[p.Name] = procedure.SecretValue(content)
		default:
			scope[p.Name] = procedure.ContentValue(content)
		}
	}
	return nil
}

// section carries out a stage that consists of the procedure's steps alone.
func (s *Service) section(ctx context.Context, j job, runner *device.Runner, section procedure.Section) error {
	scope := j.scope
	if len(j.Path.V) > 0 {
		var err error
		if scope, _, err = s.scopeOfChain(ctx, j); err != nil {
			return err
		}
	}
	_, err := runner.Carry(ctx, j.procedure.Procedure, section, scope)
	return err
}

// prove reads the slot until it serves the new leaf with its whole chain.
func (s *Service) prove(ctx context.Context, j job, runner *device.Runner) error {
	_, path, err := s.scopeOfChain(ctx, j)
	if err != nil {
		return err
	}
	err = s.await(ctx, j, func(reading wire.Reading) string {
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
func (s *Service) await(ctx context.Context, j job, wrong func(wire.Reading) string) error {
	const pause = 400 * time.Millisecond
	limit := time.Now().Add(j.procedure.Traits.RestartLimit)
	for {
		reading, err := s.read(ctx, j.slot)
		if err != nil {
			return err
		}
		said := wrong(reading)
		if said == "" {
			return nil
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
	rules, err := s.policies(ctx)
	if err != nil {
		return err
	}
	stand(&row, rules.of(row))
	return s.store.SetJudgement(ctx, row, s.moment())
}

// seal records what is installed now and clears the device of what is not
// needed any more. That may fail without harm: the work is done and proven.
func (s *Service) seal(ctx context.Context, j job, runner *device.Runner) error {
	if err := s.install(ctx, j, j.NewSHA256); err != nil {
		return err
	}
	if err := s.forgetKey(ctx, j); err != nil {
		return err
	}
	if err := s.section(ctx, j, runner, procedure.Seal); err != nil {
		s.options.Log.Warn("sealed, and something is left on the device", "replacement", idText(j.ID), "error", err)
	}
	return nil
}
