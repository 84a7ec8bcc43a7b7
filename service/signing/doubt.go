package signing

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/answer"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/issuance"
)

func showIssuers(rows []issuance.SignerIssuer) []contract.SignerIssuer {
	var out []contract.SignerIssuer
	for _, r := range rows {
		out = append(out, contract.SignerIssuer{KeySHA256: r.SPKI, Subject: r.Subject, Days: r.Days,
			Confirmed: r.Confirmed, KnownBy: r.KnownBy, KnownAt: r.KnownAt.Time})
	}
	return out
}

// doubts returns the doubtful points of a path for a slot, by what is known of the signer, of what the slot serves and
// of its clients.
func (s *Service) doubts(ctx context.Context, by contract.Signer, path chain.Path, p monitor.Pools,
	r store.Replacement, slot store.Slot, rules policy.Rules) ([]finding.Finding, error) {
	if r.Signer == contract.DeviceSigner {
		return nil, nil
	}
	habits, err := s.store.Signers.Habits(ctx)
	if err != nil {
		return nil, err
	}
	e := answer.Expected{At: s.now(), Signer: r.Signer, Habits: habits[r.Signer]}
	if r.Signer != contract.BenchSigner { // whose answers are our own
		e.MinDays, e.MaxDays, e.Lead = by.MinDays, by.MaxDays, time.Duration(*rules.RenewalDays)*24*time.Hour
	}
	for _, each := range by.Issuers {
		e.Issuers = append(e.Issuers, answer.Issuer{SPKI: each.KeySHA256, Subject: each.Subject, Days: each.Days})
	}
	if r.OldSHA256 == "" {
		return answer.Doubts(path.Certificates, e), nil
	}
	stood := []string{r.OldSHA256}
	if len(slot.Chain.V) > 0 && slot.Chain.V[0] == r.OldSHA256 {
		stood = slot.Chain.V
	}
	old, err := s.store.Chains.Certificates(ctx, stood)
	if err != nil {
		return nil, err
	}
	e.Replaces = old[0]
	trusting, err := s.monitor.Trusting(ctx, p)
	if err != nil {
		return nil, err
	}
	after := map[string]bool{}
	for _, t := range trusting.Of(path.Certificates, s.now()) {
		after[t.TrustGroup] = t.Trusted
	}
	for _, t := range trusting.Of(old, s.now()) {
		if t.Trusted && !after[t.TrustGroup] &&
			(len(slot.TrustGroups.V) == 0 || slices.Contains(slot.TrustGroups.V, t.TrustGroup)) {
			e.Lost = append(e.Lost, t.TrustGroup)
		}
	}
	return answer.Doubts(path.Certificates, e), nil
}

// learnt returns what an accepted answer tells about its signer. desk may be any authority and bench is our own:
// nothing is remembered of them.
func learnt(signer string, path chain.Path, asked []string, confirmed bool, by string) *issuance.Learnt {
	if signer == contract.DeskSigner || signer == contract.BenchSigner || signer == contract.DeviceSigner ||
		signer == contract.OwnKeySigner || len(path.Certificates) < 2 {
		return nil
	}
	return &issuance.Learnt{Signer: signer, Issuer: answer.By(path.Certificates[0], path.Certificates[1]), Asked: asked,
		Confirmed: confirmed, By: by}
}

// AcceptAnswer continues a replacement with a doubtful answer. An unexpected issuer is expected from then on. Answers
// with errors are refused.
func (s *Service) AcceptAnswer(ctx context.Context, id string, a contract.Acceptance, by string) error {
	cannot := "the answer was not accepted"
	n, ok := replacement.Number(id)
	if !ok {
		return problem.New(problem.NotFound, fmt.Sprintf("no replacement is called %s", id), "", "",
			next.ListReplacements.On(""))
	}
	r, err := s.store.Replacements.Get(ctx, n)
	if err != nil {
		return problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	switch {
	case !r.Progress().AtSigner():
		return problem.New(problem.Conflict, cannot, fmt.Sprintf("%s does not wait for an answer: it is %s "+
			"in stage %s", id, r.State, r.Stage), "", next.ShowReplacement.On(id))
	case r.Offered == "":
		return problem.New(problem.Conflict, cannot, "no answer to it has come", "give what the signer sends back",
			next.TakeIn.On(""))
	case !strings.EqualFold(r.Offered, a.SHA256):
		return problem.New(problem.Conflict, cannot, "another answer came meanwhile, with the SHA-256 "+r.Offered,
			"look at it", next.ShowReplacement.On(id))
	}
	offered, err := s.store.Chains.Certificates(ctx, []string{r.Offered})
	if err != nil {
		return err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return err
	}
	path, found, err := s.JudgeNew(ctx, offered[0], p, r)
	if err != nil {
		return err
	}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		return problem.New(problem.Conflict, cannot, wrong[0].What, wrong[0].Remedy, next.TakeIn.On(""))
	}
	learns := learnt(r.Signer, path, r.Plan.V.Names, true, by)
	for _, f := range finding.Doubts(found) {
		audit.Say(ctx, "%s: %s", id, f.What)
		if f.Code == finding.LifetimeTooShort && learns != nil { // once, for this one: the next is doubtful again
			learns.Issuer.Days = 0
		}
	}
	defer s.monitor.Forget()
	_, action, err := s.store.Replacements.Accept(ctx, n, path.Certificates, learns, s.moment())
	if errors.Is(err, store.ErrNotFound) || errors.As(err, new(replacement.Impossible)) {
		return problem.New(problem.Conflict, cannot, "somebody accepted an answer at the same moment", "",
			next.ShowReplacement.On(id))
	}
	if err != nil {
		return err
	}
	s.replacements.Drive(n, action)
	return nil
}

// PutIssuer makes answers of a signer under an issuer expected, or confirms a learnt one.
func (s *Service) PutIssuer(ctx context.Context, signer string, i contract.NewIssuer,
	by string) (contract.Signer, error) {
	cannot, sha256 := "the issuer was not added", strings.ToLower(i.SHA256)
	known, err := s.Signer(ctx, signer)
	if err != nil {
		return known, err
	}
	if known.Kind != contract.DeskSigner || signer == contract.DeskSigner {
		return known, problem.Reject(cannot, "the issuers of "+signer+" are not recorded",
			"add a signer of your own for this authority", next.ListSigners.On(""))
	}
	row := issuance.SignerIssuer{Signer: signer, Confirmed: true, KnownBy: by, KnownAt: s.moment()}
	for _, each := range known.Issuers {
		if each.KeySHA256 == sha256 {
			row.SPKI, row.Subject = each.KeySHA256, each.Subject
		}
	}
	if row.SPKI == "" {
		issuer, err := s.authority(ctx, sha256)
		if err != nil {
			return known, err
		}
		row.SPKI, row.Subject = cert.Fingerprint(issuer.RawSubjectPublicKeyInfo), issuer.Subject()
	}
	audit.Say(ctx, "“%s”, key %s", row.Subject, row.SPKI)
	if err := s.store.Signers.PutIssuer(ctx, row); errors.Is(err, store.ErrTooMany) {
		return known, problem.Reject(cannot, fmt.Sprintf("%s has %d issuers", signer, issuance.MaxIssuers),
			"remove one that it no longer uses")
	} else if err != nil {
		return known, err
	}
	return s.Signer(ctx, signer)
}

// authority returns a root or intermediate that is known here.
func (s *Service) authority(ctx context.Context, sha256 string) (*cert.Certificate, error) {
	none := problem.New(problem.NotFound, "no root or intermediate with the SHA-256 "+sha256+" is known", "",
		"take its certificate in first", next.TakeIn.On(""), next.ListAuthorities.On(""))
	if _, err := hex.DecodeString(sha256); err != nil {
		return nil, none
	}
	found, err := s.store.Chains.Certificates(ctx, []string{sha256})
	if errors.Is(err, store.ErrNotFound) || err == nil && (len(found) == 0 || !found[0].IsAuthority()) {
		return nil, none
	}
	if err != nil {
		return nil, err
	}
	return found[0], nil
}

// RemoveIssuer makes answers of a signer under an issuer wait for a person from now on.
func (s *Service) RemoveIssuer(ctx context.Context, signer, key string) error {
	err := s.store.Signers.RemoveIssuer(ctx, signer, strings.ToLower(key))
	return problem.Missing(err, next.ListSigners, "%s has no issuer with the public key %s", signer, key)
}
