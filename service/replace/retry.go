package replace

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/store"
)

// kept shows what is kept of a replacement.
func (s *Service) kept(ctx context.Context, row store.Replacement) (*contract.Kept, error) {
	if row.KeepsUntil.IsZero() {
		return nil, nil
	}
	out := &contract.Kept{Until: row.KeepsUntil.Time, What: []string{"the signed chain"}}
	_, err := s.store.Secrets.Get(ctx, engine.KeyPurpose(row.ID))
	switch {
	case err == nil:
		out.What = append(out.What, "its private key, sealed here")
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	default:
		out.What = append(out.What, "its private key, on the device")
	}
	if row.Mark != "" {
		out.What = append(out.What, "what the request left on the device")
	}
	return out, nil
}

// Retry creates a replacement that takes over the request, the signed chain and the key of a reverted one. Names,
// policy, time, revocation and trust groups are judged again; approval is required again if the policy wants it.
func (s *Service) Retry(ctx context.Context, id string, by string) (contract.Replacement, error) {
	cannot := id + " is not retried"
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	n := j.ID
	again := next.Replace.On(j.Device + "/" + j.Slot)
	if j.KeepsUntil.IsZero() || !j.State.Over() {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, "nothing is kept of it: only a "+
			"replacement that went back after it was signed can be retried", "", again)
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return contract.Replacement{}, err
	}
	p.Pool.Add(j.Material.Path.Certificates[1:]...)
	_, found, err := s.signing.JudgeNew(ctx, j.Material.Path.Certificates[0], p, j.Replacement)
	if err != nil {
		return contract.Replacement{}, err
	}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, "its certificate cannot be used "+
			"any more: "+wrong[0].What, "request a new one", again)
	}
	if why, err := s.holdsKey(ctx, j); err != nil {
		return contract.Replacement{}, err
	} else if why != "" {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, why+"; nothing was touched",
			"request a new certificate", again)
	}
	row := j.Replacement
	row.NotBefore, row.AfterOpen, row.StopAfter = store.Moment{}, store.Moment{}, ""
	row.AskedBy, row.ApprovedBy, row.StartedAt, row.ChangedAt, row.Unseen = by, "", s.moment(), s.moment(), false
	row.Work, row.Mark, row.RetryOf = engine.WorkName(j.Replacement), strings.ToLower(rand.Text()[:10]), &n
	progress, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		return contract.Replacement{}, err
	}
	steps, err := s.store.Journal.Steps(ctx, n)
	if err != nil {
		return contract.Replacement{}, err
	}
	newID, err := s.store.Replacements.Retry(ctx, row, j.SlotIDs(), progress, j.Family.Text(),
		func(newID int64) ([]store.Step, map[string][]byte, error) {
			return s.takenOver(ctx, n, newID, steps)
		}, func(stepID int64, text []byte) []byte { return s.box.Seal(engine.CapturePurpose(stepID), text) })
	if errors.Is(err, store.ErrTaken) {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, "its slot has a replacement in progress",
			"wait for its end, or cancel it", next.ListReplacements.On(""))
	}
	if err != nil {
		return contract.Replacement{}, err
	}
	s.log.Info("replacement retried", "replacement", replacement.Name(newID), "of", id, "by", by)
	s.Drive(newID, replacement.Advance)
	return s.Replacement(ctx, replacement.Name(newID))
}

// takenOver returns the journal entries that a retry takes over, those of request with their captured values, and the
// sealed key; both sealed again.
func (s *Service) takenOver(ctx context.Context, old, id int64,
	steps []store.Step) ([]store.Step, map[string][]byte, error) {
	var out []store.Step
	for _, step := range steps {
		if step.Section != string(procedure.Request) || !step.OK {
			continue
		}
		if step.Capture == engine.KeptSealed {
			text, err := s.box.Open(engine.CapturePurpose(step.ID), step.Captured)
			if err != nil {
				return nil, nil, err
			}
			step.Captured = text // sealed once its number is known
		}
		out = append(out, step)
	}
	secrets := map[string][]byte{}
	sealed, err := s.store.Secrets.Get(ctx, engine.KeyPurpose(old))
	if errors.Is(err, store.ErrNotFound) {
		return out, secrets, nil
	}
	if err != nil {
		return nil, nil, err
	}
	key, err := s.box.Open(engine.KeyPurpose(old), sealed)
	if err != nil {
		return nil, nil, err
	}
	secrets[engine.KeyPurpose(id)] = s.box.Seal(engine.KeyPurpose(id), key)
	return out, secrets, nil
}

// holdsKey returns why the device no longer holds the key of the request, as far as it can be asked.
func (s *Service) holdsKey(ctx context.Context, j *engine.Job) (string, error) {
	asks := false
	for _, name := range j.Family.Looks() {
		asks = asks || name == look.Pending
	}
	if !asks || j.Material.Request == nil {
		return "", nil
	}
	unlock, free := s.TryDevice(j.DeviceID)
	if !free {
		return "the device is being worked on", nil
	}
	defer unlock()
	w, leave, err := s.Visit(ctx, j)
	if err != nil {
		return "", err
	}
	defer leave()
	told, err := w.Runner.Looks(ctx, j.Scope, false)
	if err != nil {
		return fmt.Sprintf("the device cannot be asked whether it still holds the key: %v", err), nil
	}
	if !request.Names(*j.Material.Request, told[look.Pending]) {
		return "the device no longer holds the key of the request", nil
	}
	return "", nil
}
