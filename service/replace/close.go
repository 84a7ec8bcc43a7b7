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
	"freshseal/service/engine"
	"freshseal/service/monitor"
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
	installed, err := s.closes(ctx, j, c.As, cannot)
	if err != nil {
		return contract.Replacement{}, err
	}
	if err := s.audit.Record(ctx, by, "close "+id+" as "+c.As, c.Reason); err != nil {
		return contract.Replacement{}, err
	}
	_, err = s.Advance(ctx, n, replacement.Event{Kind: replacement.AskedClose, Why: by + " closed it as " + c.As +
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
	s.running.Go(func() { s.ClearClosed(n) })
	return s.Replacement(ctx, id)
}

// closes sees what the wire shows, and returns the leaf that each slot counts as serving from now on; empty: whatever
// is served.
func (s *Service) closes(ctx context.Context, j *engine.Job, as, cannot string) (map[int64]string, error) {
	w, all, err := s.Look(ctx, j)
	if err != nil {
		return nil, err
	}
	want := map[string]look.Word{CloseNew: look.New, CloseOld: look.Before}[as]
	if want == "" && as != CloseNeither {
		return nil, problem.Reject(cannot, fmt.Sprintf("%q is not new, old or neither", as), "", next.Give.On("as"))
	}
	out := map[int64]string{}
	for _, v := range all {
		if word := w.Place(v).Word(j.NewSHA256); want != "" && word != want {
			return nil, problem.New(problem.Conflict, cannot,
				fmt.Sprintf("not every address serves the %s certificate: %s", as, v.Text()), "accept what is served",
				next.CloseNeither.On(replacement.Name(j.ID)))
		}
		if v.First {
			out[v.Slot.ID] = v.SHA256
		}
	}
	return out, nil
}

// accept records what the slots serve as what is installed, and moves the pins to it.
func (s *Service) accept(ctx context.Context, j *engine.Job, served map[int64]string) error {
	for _, t := range j.Targets {
		leaf := served[t.ID]
		signer := ""
		if leaf == j.NewSHA256 {
			signer = j.Signer
		}
		if err := s.Installed(ctx, j, t, leaf, signer, []string{t.OldSHA256, j.NewSHA256}); err != nil {
			return err
		}
	}
	return s.JudgeTargets(ctx, j)
}

// revertible returns why a sealed replacement cannot be reverted any more.
func (s *Service) revertible(ctx context.Context, id int64) error {
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil || r.State != replacement.Sealed {
		return nil // the stage machine answers
	}
	cannot := replacement.Name(id) + " is not reverted"
	if r.Tidied {
		return problem.New(problem.Conflict, cannot, "its copies of the old files were removed from the device",
			"replace the slot again", next.Replace.On(r.Device+"/"+r.Slot))
	}
	targets, err := s.store.Replacements.Targets(ctx, r.ID)
	if err != nil {
		return err
	}
	said, err := s.WrongAt(ctx, targets[r.ID], r.NewSHA256, func(t store.Target, sight monitor.Sight) string {
		leaf := sight.Leaf()
		if sight.Why != nil && leaf == nil || leaf != nil && leaf.SHA256 == t.OldSHA256 {
			return "" // what cannot be read may well be why it is reverted; so may a device that took it back by itself
		}
		return engine.NotNew(r.NewSHA256, monitor.Sight{Reading: sight.Reading}, false)
	})
	if err != nil {
		return err
	}
	if said != "" {
		return problem.New(problem.Conflict, cannot, said+" that it installed: it was changed since", "",
			next.ShowSlot.On(r.Device+"/"+r.Slot))
	}
	return nil
}

// closings returns the ways in which a person can end a held replacement, by what the wire shows: closing as old or new
// needs every address to serve it.
func closings(id string, words []look.Word) []next.Action {
	all := func(want look.Word) bool {
		for _, word := range words {
			if word != want {
				return false
			}
		}
		return len(words) > 0
	}
	switch {
	case all(look.New):
		return []next.Action{next.CloseNew.On(id)}
	case all(look.Before):
		return []next.Action{next.CloseOld.On(id)}
	}
	return []next.Action{next.CloseNeither.On(id)}
}
