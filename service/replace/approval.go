package replace

import (
	"context"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/problem"
)

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
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil {
		return contract.Replacement{}, err
	}
	shaped, err := s.ShapedBy(ctx, j.Replacement)
	if err != nil {
		return contract.Replacement{}, err
	}
	if *rules.Approval == policy.ApprovedByAnother && slices.Contains(shaped, by) {
		return contract.Replacement{}, problem.New(problem.Refused, cannot, by+" requested it, and the policy "+
			"requires another person", "ask another operator")
	}
	effect, err := s.Effect(ctx, j)
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
	if err := s.Arrive(ctx, j.ID); err != nil {
		return contract.Replacement{}, err
	}
	return s.Replacement(ctx, id)
}
