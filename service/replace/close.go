package replace

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/look"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/service/problem"
	"freshseal/store"
)

// How a replacement is closed.
const (
	CloseNew     = "new"
	CloseOld     = "old"
	CloseNeither = "neither"
)

// Close ends a held replacement: the slots count as serving what the wire shows. Device and cluster are free from
// then on; what is left on the device is cleared after that.
func (s *Service) Close(ctx context.Context, id string, c contract.Closing, by string) (contract.Replacement, error) {
	cannot := id + " was not closed"
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	n := j.ID
	if c.Reason = strings.TrimSpace(c.Reason); len(c.Reason) < 3 || len(c.Reason) > 500 {
		return contract.Replacement{}, problem.Reject(cannot, "the reason is missing", "say in 3 to 500 "+
			"characters why", next.Give.On("reason"))
	}
	if j.State != replacement.Held {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("only a held replacement "+
			"is closed, and it is %s in stage %s", j.State, j.Stage), "", next.ShowReplacement.On(id))
	}
	installed, err := s.closes(ctx, &j, c.As, cannot)
	if err != nil {
		return contract.Replacement{}, err
	}
	if err := s.audit.Record(ctx, by, "close "+id+" as "+c.As, c.Reason); err != nil {
		return contract.Replacement{}, err
	}
	_, err = s.advance(ctx, n, replacement.Event{Kind: replacement.AskedClose, Why: by + " closed it as " + c.As +
		": " + c.Reason})
	var impossible replacement.Impossible
	if errors.As(err, &impossible) {
		return contract.Replacement{},
			problem.New(problem.Conflict, cannot, fmt.Sprintf("it is %s in stage %s", impossible.State,
				impossible.Stage), "", next.ShowReplacement.On(id))
	} else if err != nil {
		return contract.Replacement{}, err
	}
	if err := s.store.Replacements.SetClosed(ctx, n, c.As); err != nil {
		return contract.Replacement{}, err
	}
	if err := s.accept(ctx, j, installed); err != nil {
		return contract.Replacement{}, err
	}
	s.running.Go(func() { s.clearClosed(n) })
	return s.Replacement(ctx, id)
}

// closes sees what the wire shows, and returns the leaf that each slot counts as serving from now on; empty: whatever
// is served.
func (s *Service) closes(ctx context.Context, j *job, as, cannot string) (map[int64]string, error) {
	w, all, err := s.look(ctx, j)
	if err != nil {
		return nil, err
	}
	want := map[string]look.Word{CloseNew: look.New, CloseOld: look.Before}[as]
	if want == "" && as != CloseNeither {
		return nil, problem.Reject(cannot, fmt.Sprintf("%q is not new, old or neither", as), "", next.Give.On("as"))
	}
	out := map[int64]string{}
	for _, v := range all {
		if word := w.place(v).Word(j.NewSHA256); want != "" && word != want {
			return nil, problem.New(problem.Conflict, cannot,
				fmt.Sprintf("not every address serves the %s certificate: %s", as, v.text()), "accept what is served",
				next.CloseNeither.On(replacement.Name(j.ID)))
		}
		if v.first {
			out[v.slot.ID] = v.sha256
		}
	}
	return out, nil
}

// accept records what the slots serve as what is installed, and moves the pins to it.
func (s *Service) accept(ctx context.Context, j job, served map[int64]string) error {
	for _, t := range j.targets {
		leaf := served[t.ID]
		signer := ""
		if leaf == j.NewSHA256 {
			signer = j.Signer
		}
		if err := s.installed(ctx, j, t, leaf, signer, []string{t.OldSHA256, j.NewSHA256}); err != nil {
			return err
		}
	}
	return s.judgeTargets(ctx, j)
}

// clearClosed clears the device of what a closed replacement left there, after it set device and cluster free. What
// cannot be cleared is told as a leftover, which can be cleared later.
func (s *Service) clearClosed(id int64) {
	ctx := s.stopping
	if err := s.dropKept(ctx, id, true); err != nil && ctx.Err() == nil {
		s.log.Warn("a closed replacement is not cleared", "replacement", replacement.Name(id), "error", err)
	}
}

// dropKept removes what a replacement that is over keeps for another try, here and on its device. What cannot be
// cleared there is recorded as a leftover.
func (s *Service) dropKept(ctx context.Context, id int64, lock bool) error {
	j, err := s.load(ctx, id)
	if err != nil {
		return err
	}
	if lock {
		defer s.lockDevice(j.DeviceID)()
	}
	runner, leave, err := s.runner(ctx, &j)
	if err != nil {
		return err
	}
	defer leave()
	inUse, err := s.newInUse(ctx, j)
	if err != nil {
		return err
	}
	err = s.leaveAfter(ctx, j, runner, s.clearAll(ctx, j, runner, !inUse))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if keptErr := s.store.Replacements.SetKeeps(ctx, []int64{id}, store.Moment{}); keptErr != nil {
		return keptErr
	}
	if recorded := s.leave(ctx, j, err); recorded != nil {
		return recorded
	}
	if err == nil {
		return s.store.Replacements.SetTidied(ctx, []int64{id})
	}
	return err
}

// newInUse reports whether a slot of the replacement serves its new certificate: what request made is in use then.
func (s *Service) newInUse(ctx context.Context, j job) (bool, error) {
	all, err := s.serves(ctx, j.targets, nil)
	for _, v := range all {
		if v.sha256 != "" && v.sha256 == j.NewSHA256 {
			return true, nil
		}
	}
	return false, err
}

// clearAll forgets the key and the captured secrets, undoes what request made where that is said, does what is always
// done, and removes the work folder.
func (s *Service) clearAll(ctx context.Context, j job, runner *device.Runner, unmake bool) error {
	if err := errors.Join(s.store.Secrets.Remove(ctx, keyPurpose(j.ID)),
		s.forgetCaptured(ctx, j.ID, everySection)); err != nil {
		return err
	}
	var failed error
	if unmake {
		failed = runner.Unmake(ctx, j.scope)
	}
	failed = errors.Join(failed, runner.Finish(ctx, j.scope))
	if ctx.Err() == nil && !errors.Is(failed, device.ErrPerson) {
		failed = errors.Join(failed, s.tidyOwn(ctx, j, runner))
	}
	return failed
}
