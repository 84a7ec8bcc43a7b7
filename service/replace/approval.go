package replace

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// effect returns what a replacement is about to do.
func (s *Service) effect(ctx context.Context, j job) (contract.Effect, error) {
	out := contract.Effect{NamesAdded: []string{}, NamesLost: []string{}, Trust: []contract.Trust{}, Stages: []string{}}
	old := []string{}
	if j.OldSHA256 != "" {
		found, err := s.store.Chains.Certificates(ctx, []string{j.OldSHA256})
		if err != nil {
			return out, err
		}
		facts := found[0].Facts()
		out.Old, old = &facts, facts.Names
	}
	if j.material.Path != nil {
		facts := j.material.Path.Certificates[0].Facts()
		out.New = &facts
		p, err := s.monitor.Pools(ctx)
		if err != nil {
			return out, err
		}
		trusting, err := s.monitor.Trusting(ctx, p)
		if err != nil {
			return out, err
		}
		out.Trust = trusting.Of(j.material.Path.Certificates, s.now())
		for _, name := range facts.Names {
			if !slices.Contains(old, name) {
				out.NamesAdded = append(out.NamesAdded, name)
			}
		}
		for _, name := range old {
			if !slices.Contains(facts.Names, name) {
				out.NamesLost = append(out.NamesLost, name)
			}
		}
	}
	var err error
	if out.Pins, err = s.pinsOf(ctx, j.slotIDs()...); err != nil {
		return out, err
	}
	for _, stage := range replacement.Stages[slices.Index(replacement.Stages, replacement.Backup):] {
		for _, step := range j.procedure.Steps[procedure.Section(stage)] {
			if step.When.Hold(j.scope) {
				out.Stages = append(out.Stages, string(stage)+": "+step.Name)
			}
		}
	}
	text, err := json.Marshal(struct {
		contract.Effect
		Path, Settings any
		Procedure      string
		Signer         string
		Nodes, Slots   any
		Address        string
	}{out, j.Path.V, j.device.Settings.V, j.Replacement.Procedure, j.Signer, j.device.Nodes.V, showTargets(j.targets),
		j.device.Address})
	sum := sha256.Sum256(text)
	out.Digest = hex.EncodeToString(sum[:])
	return out, err
}

// shapedBy are those who shaped what is to be approved: who asked for it, and who asked
// again with other names, another key or signer.
func (s *Service) shapedBy(ctx context.Context, r store.Replacement) ([]string, error) {
	out := []string{r.AskedBy}
	former, err := s.store.Requests.ObsoleteOf(ctx, r.ID)
	for _, f := range former {
		out = append(out, f.By)
	}
	return out, err
}

// Approve approves a replacement that waits for it, and resumes it.
func (s *Service) Approve(ctx context.Context, id string, a contract.Approval,
	by string) (contract.Replacement, error) {
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	cannot := id + " cannot be approved"
	if j.State != replacement.Waiting || j.WaitingFor != replacement.Approval {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("it is not waiting for "+
			"approval: it is %s in stage %s", j.State, j.Stage), "", next.ShowReplacement.On(id))
	}
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil {
		return contract.Replacement{}, err
	}
	shaped, err := s.shapedBy(ctx, j.Replacement)
	if err != nil {
		return contract.Replacement{}, err
	}
	if *rules.Approval == policy.ApprovedByAnother && slices.Contains(shaped, by) {
		return contract.Replacement{}, problem.New(problem.Refused, cannot, by+" requested it, and the policy "+
			"requires another person", "ask another operator")
	}
	effect, err := s.effect(ctx, j)
	if err != nil {
		return contract.Replacement{}, err
	}
	if a.Digest != "" && a.Digest != effect.Digest {
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, "what it is about to do changed since "+
			"you looked", "look again, then approve it", next.ShowReplacement.On(id))
	}
	audit.Say(ctx, "%s: %s", id, effect.Digest)
	if err := s.store.Replacements.SetApproved(ctx, j.ID, by, effect.Digest); err != nil {
		return contract.Replacement{}, err
	}
	if err := s.arrive(ctx, j.ID); err != nil {
		return contract.Replacement{}, err
	}
	return s.Replacement(ctx, id)
}
