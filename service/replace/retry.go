package replace

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/store"
)

// keep keeps the signed chain, its key and what request made for another try.
func (s *Service) keep(ctx context.Context, j job) error {
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil {
		return err
	}
	return s.store.Replacements.SetKeeps(ctx, []int64{j.ID}, store.At(s.now().AddDate(0, 0, rules.KeepSigned())))
}

// kept shows what is kept of a replacement.
func (s *Service) kept(ctx context.Context, row store.Replacement) (*contract.Kept, error) {
	if row.KeepsUntil.IsZero() {
		return nil, nil
	}
	out := &contract.Kept{Until: row.KeepsUntil.Time, What: []string{"the signed chain"}}
	_, err := s.store.Secrets.Get(ctx, keyPurpose(row.ID))
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

// Retry creates a replacement that takes over the request, the signed chain and the key of one that went back. Names,
// policy, time, revocation and trust groups are judged anew; approval is asked for again where the policy wants it.
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
	p.Pool.Add(j.material.Path.Certificates[1:]...)
	_, found, err := s.signing.JudgeNew(ctx, j.material.Path.Certificates[0], p, j.Replacement)
	if err != nil {
		return contract.Replacement{}, err
	}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, "its certificate cannot be used "+
			"any more: "+wrong[0].What, "request a new one", again)
	}
	if why, err := s.holdsKey(ctx, &j); err != nil {
		return contract.Replacement{}, err
	} else if why != "" {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, why+"; nothing was touched",
			"request a new certificate", again)
	}
	row := j.Replacement
	row.NotBefore, row.AfterOpen, row.StopAfter = store.Moment{}, store.Moment{}, ""
	row.AskedBy, row.ApprovedBy, row.BegunAt, row.ChangedAt, row.Unseen = by, "", s.moment(), s.moment(), false
	row.Work, row.Mark, row.RetryOf = workName(j.Replacement), strings.ToLower(rand.Text()[:10]), &n
	progress, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		return contract.Replacement{}, err
	}
	steps, err := s.store.Journal.Steps(ctx, n)
	if err != nil {
		return contract.Replacement{}, err
	}
	newID, err := s.store.Replacements.Retry(ctx, row, j.slotIDs(), progress, j.procedure.Text(),
		func(newID int64) ([]store.Step, map[string][]byte, error) {
			return s.takenOver(ctx, n, newID, steps)
		}, func(stepID int64, text []byte) []byte { return s.box.Seal(capturePurpose(stepID), text) })
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

// takenOver are the entries of the journal that a retry takes over, those of request with what they captured, and the
// sealed key; both sealed anew.
func (s *Service) takenOver(ctx context.Context, old, id int64,
	steps []store.Step) ([]store.Step, map[string][]byte, error) {
	var out []store.Step
	for _, step := range steps {
		if step.Section != string(procedure.Request) || !step.OK {
			continue
		}
		if step.Capture == keptSealed {
			text, err := s.box.Open(capturePurpose(step.ID), step.Captured)
			if err != nil {
				return nil, nil, err
			}
			step.Captured = text // sealed once its number is known
		}
		out = append(out, step)
	}
	secrets := map[string][]byte{}
	sealed, err := s.store.Secrets.Get(ctx, keyPurpose(old))
	if errors.Is(err, store.ErrNotFound) {
		return out, secrets, nil
	}
	if err != nil {
		return nil, nil, err
	}
	key, err := s.box.Open(keyPurpose(old), sealed)
	if err != nil {
		return nil, nil, err
	}
	secrets[keyPurpose(id)] = s.box.Seal(keyPurpose(id), key)
	return out, secrets, nil
}

// holdsKey says why the device does not hold the key of the request any more, as far as it can be asked.
func (s *Service) holdsKey(ctx context.Context, j *job) (string, error) {
	asks := false
	for _, name := range j.procedure.Looks() {
		asks = asks || name == look.Pending
	}
	if !asks || j.material.Request == nil {
		return "", nil
	}
	unlock, free := s.tryDevice(j.DeviceID)
	if !free {
		return "the device is being worked on", nil
	}
	defer unlock()
	runner, leave, err := s.runner(ctx, j)
	if err != nil {
		return "", err
	}
	defer leave()
	told, err := runner.Looks(ctx, j.scope, false)
	if err != nil {
		return fmt.Sprintf("the device cannot be asked whether it still holds the key: %v", err), nil
	}
	if !request.Names(*j.material.Request, told[look.Pending]) {
		return "the device does not hold the key of the request any more", nil
	}
	return "", nil
}

// workName is the name of a replacement's folder on its device.
func workName(r store.Replacement) string {
	if r.Work != "" {
		return r.Work
	}
	return replacement.Name(r.ID) + "-" + r.Mark
}

// keptEvery is how often it is looked for what is kept longer than its time.
const keptEvery = time.Hour

// watchKept removes what is kept for another try once its time is over.
func (s *Service) watchKept() {
	for {
		rows, err := s.store.Replacements.KeptUntil(s.stopping, s.moment())
		for _, id := range rows {
			if err := s.dropKept(s.stopping, id, true); err != nil && s.stopping.Err() == nil {
				s.log.Warn("what was kept for another try is left on the device", "replacement", replacement.Name(id),
					"error", err)
			}
		}
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("looking for what is kept", "error", err)
		}
		select {
		case <-time.After(keptEvery):
		case <-s.stopping.Done():
			return
		}
	}
}
