package replace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/service/signing"
	"freshseal/store"
)

// AskAgain takes back a pending request and makes the device create another one, with a new key. A certificate that is
// still signed for the old request is reported as such when it arrives, and never installed.
func (s *Service) AskAgain(ctx context.Context, id string, a contract.Again, by string) (contract.Replacement, error) {
	cannot := "another request cannot be asked for"
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	n := j.ID
	if a.Reason = strings.TrimSpace(a.Reason); a.Reason == "" || len(a.Reason) > 500 {
		return contract.Replacement{}, problem.Reject(cannot, "the reason is missing", "give in up to 500 "+
			"characters what is wrong with the pending request")
	}
	if a.Signer == "" {
		a.Signer = j.Signer
	}
	signer, err := s.signing.Signer(ctx, a.Signer)
	if err != nil {
		return contract.Replacement{}, err
	}
	plan := overPlan(a, j.Plan.V)
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil {
		return contract.Replacement{}, err
	}
	if err := fitsPlan(j, plan, signer, rules, cannot); err != nil {
		return contract.Replacement{}, err
	}
	_, action, err := s.store.Requests.AskAgain(ctx, n, a.Signer, plan,
		store.Obsolete{Reason: a.Reason, By: by, At: s.moment()}, engine.KeyPurpose(n))
	var impossible replacement.Impossible
	switch {
	case errors.As(err, &impossible):
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("%s is not waiting for a "+
			"signer: it is %s in stage %s", id, impossible.State, impossible.Stage), "", next.ShowReplacement.On(id))
	case err != nil:
		return contract.Replacement{}, err
	}
	s.Made.Delete(n)
	s.log.Info("asked again", "replacement", id, "reason", a.Reason, "by", by)
	s.Drive(n, action)
	return s.Replacement(ctx, id)
}

// overPlan returns the plan with the corrections applied.
func overPlan(a contract.Again, plan request.Plan) request.Plan {
	sources := map[string]string{}
	for what, source := range plan.Sources {
		sources[what] = source
	}
	plan.Names = slices.DeleteFunc(slices.Clone(plan.Names), func(name string) bool {
		return slices.ContainsFunc(a.Without, func(w string) bool { return request.PlainName(w) == name })
	})
	if !slices.Contains(plan.Names, plan.Subject.CommonName) {
		plan.Subject.CommonName = ""
	}
	for _, name := range a.Names {
		plan.Names = append(plan.Names, name)
		sources[request.PlainName(name)] = "asked again"
	}
	for _, field := range overlay(&plan.Subject, a.Subject) {
		sources[field] = "asked again"
	}
	if a.Key != "" {
		plan.Key = a.Key
	}
	// Answers are told apart by their keys, so this one is new whatever the policy says.
	plan.SameKey, sources["key"] = false, "asked again: a new one"
	plan = plan.Complete()
	if cn := plan.Subject.CommonName; cn != "" && sources["common_name"] == "" {
		sources["common_name"] = "the first name, " + cn
	}
	for _, name := range a.Without {
		delete(sources, request.PlainName(name))
	}
	plan.Sources = sources
	return plan
}

// former returns the obsolete requests of a replacement.
func (s *Service) former(ctx context.Context, id int64) ([]contract.OldRequest, error) {
	rows, err := s.store.Requests.ObsoleteOf(ctx, id)
	var out []contract.OldRequest
	for _, row := range rows {
		r, err := request.Parse(row.Request)
		if err != nil {
			return nil, err
		}
		old := contract.OldRequest{RequestFacts: factsOf(r), Reason: row.Reason, By: row.By}
		if row.ParcelID != nil {
			old.Parcel = signing.ParcelName(*row.ParcelID)
		}
		out = append(out, old)
	}
	return out, err
}

func factsOf(r request.Request) contract.RequestFacts {
	return contract.RequestFacts{Subject: cert.NameText(r.Subject), Names: r.Names(), Key: r.Key(),
		SHA256: r.SHA256(), PEM: string(r.PEM())}
}
