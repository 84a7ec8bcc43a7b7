package desk

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/answer"
	"freshseal/core/cert"
	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/next"
	"freshseal/core/policy"
	"freshseal/core/replacement"
	"freshseal/service/deed"
	"freshseal/service/problem"
	"freshseal/service/watch"
	"freshseal/store"
)

// SignerIssuer is a certification authority with which a signer signs.
type SignerIssuer struct {
	KeySHA256 string    `json:"key_sha256" required:"true" description:"SHA-256 of its public key (subject public key info)"`
	Subject   string    `json:"subject" required:"true"`
	Days      int       `json:"days,omitempty" description:"the shortest lifetime that was accepted from it"`
	Confirmed bool      `json:"confirmed" required:"true" description:"by a person; else it was learnt from an answer"`
	KnownBy   string    `json:"known_by" required:"true"`
	KnownAt   time.Time `json:"known_at" required:"true"`
}

func showIssuers(rows []store.SignerIssuer) []SignerIssuer {
	var out []SignerIssuer
	for _, r := range rows {
		out = append(out, SignerIssuer{r.SPKI, r.Subject, r.Days, r.Confirmed, r.KnownBy, r.KnownAt.Time})
	}
	return out
}

// doubts returns what is doubtful in a path for a slot: by what is known of the signer, of what the slot serves and of its clients.
func (s *Service) doubts(ctx context.Context, by Signer, path chain.Path, p watch.Pools, r store.Replacement, slot store.Slot, rules policy.Rules) ([]finding.Finding, error) {
	if r.Signer == DeviceSigner {
		return nil, nil
	}
	e := answer.Expected{At: s.now(), Signer: r.Signer, Habits: by.habits}
	if r.Signer != BenchSigner { // whose answers are our own
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
	old, err := s.store.Certificates(ctx, stood)
	if err != nil {
		return nil, err
	}
	e.Replaces = old[0]
	trusting, err := s.watch.Trusting(ctx, p)
	if err != nil {
		return nil, err
	}
	after := map[string]bool{}
	for _, t := range trusting.Of(path.Certificates, s.now()) {
		after[t.Audience] = t.Trusted
	}
	for _, t := range trusting.Of(old, s.now()) {
		if t.Trusted && !after[t.Audience] && (len(slot.Audiences.V) == 0 || slices.Contains(slot.Audiences.V, t.Audience)) {
			e.Lost = append(e.Lost, t.Audience)
		}
	}
	return answer.Doubts(path.Certificates, e), nil
}

// learnt is what an accepted answer tells about its signer. The desk stands for any authority and bench is our own: nothing is remembered of them.
func learnt(signer string, path chain.Path, asked []string, confirmed bool, by string) *store.Learnt {
	if signer == DeskSigner || signer == BenchSigner || signer == DeviceSigner || signer == OwnKeySigner || len(path.Certificates) < 2 {
		return nil
	}
	return &store.Learnt{Signer: signer, Issuer: answer.By(path.Certificates[0], path.Certificates[1]), Asked: asked, Confirmed: confirmed, By: by}
}

// Acceptance names the doubtful answer that a person accepts.
type Acceptance struct {
	SHA256 string `json:"sha256" required:"true" description:"of the certificate that is accepted: another may have come meanwhile"`
}

// AcceptAnswer lets a replacement go on with a doubtful answer. An issuer that was not expected is expected from then on. Answers with errors are
// refused.
func (s *Service) AcceptAnswer(ctx context.Context, id string, a Acceptance, by string) error {
	cannot := "the answer was not accepted"
	n, ok := replacement.Number(id)
	if !ok {
		return problem.New(problem.NotFound, fmt.Sprintf("no replacement is called %s", id), "", "", next.ListReplacements.On(""))
	}
	r, err := s.store.Replacement(ctx, n)
	if err != nil {
		return problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	switch {
	case !r.Progress().AtSigner():
		return problem.New(problem.Conflict, cannot, fmt.Sprintf("%s does not wait for an answer: it is %s in stage %s", id, r.State, r.Stage), "", next.ShowReplacement.On(id))
	case r.Offered == "":
		return problem.New(problem.Conflict, cannot, "no answer to it has come", "give what the signer sends back", next.TakeIn.On(""))
	case !strings.EqualFold(r.Offered, a.SHA256):
		return problem.New(problem.Conflict, cannot, "another answer came meanwhile, with the SHA-256 "+r.Offered, "look at it", next.ShowReplacement.On(id))
	}
	offered, err := s.store.Certificates(ctx, []string{r.Offered})
	if err != nil {
		return err
	}
	p, err := s.watch.Pools(ctx)
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
		deed.Say(ctx, "%s: %s", id, f.What)
		if f.Code == finding.LifetimeTooShort && learns != nil { // once, for this one: the next is doubtful again
			learns.Issuer.Days = 0
		}
	}
	defer s.watch.Forget()
	_, action, err := s.store.Accept(ctx, n, path.Certificates, learns, s.moment())
	if errors.Is(err, store.ErrNotFound) || errors.As(err, new(replacement.Impossible)) {
		return problem.New(problem.Conflict, cannot, "somebody accepted an answer at the same moment", "", next.ShowReplacement.On(id))
	}
	if err != nil {
		return err
	}
	s.replacements.Drive(n, action)
	return nil
}

// NewIssuer names an issuer of a signer, by the certificate of the issuer or by its public key where that is known already.
type NewIssuer struct {
	SHA256 string `json:"sha256" required:"true" description:"of a root or intermediate that is known here, or of the public key of an issuer of this signer"`
}

// PutIssuer has answers of a signer under an issuer expected, or confirms one that was learnt.
func (s *Service) PutIssuer(ctx context.Context, signer string, i NewIssuer, by string) (Signer, error) {
	cannot, sha256 := "the issuer was not added", strings.ToLower(i.SHA256)
	known, err := s.Signer(ctx, signer)
	if err != nil {
		return known, err
	}
	if known.Kind != DeskSigner || signer == DeskSigner {
		return known, problem.Reject(cannot, "the issuers of "+signer+" are not recorded", "add a signer of your own for this authority", next.ListSigners.On(""))
	}
	row := store.SignerIssuer{Signer: signer, Confirmed: true, KnownBy: by, KnownAt: s.moment()}
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
	deed.Say(ctx, "“%s”, key %s", row.Subject, row.SPKI)
	if err := s.store.PutSignerIssuer(ctx, row); errors.Is(err, store.ErrTooMany) {
		return known, problem.Reject(cannot, fmt.Sprintf("%s has %d issuers", signer, store.MaxIssuers), "remove one that it does not use any more")
	} else if err != nil {
		return known, err
	}
	return s.Signer(ctx, signer)
}

// authority returns a root or intermediate that is known here.
func (s *Service) authority(ctx context.Context, sha256 string) (*cert.Certificate, error) {
	none := problem.New(problem.NotFound, "no root or intermediate with the SHA-256 "+sha256+" is known", "", "take its certificate in first", next.TakeIn.On(""), next.ListAuthorities.On(""))
	if _, err := hex.DecodeString(sha256); err != nil {
		return nil, none
	}
	found, err := s.store.Certificates(ctx, []string{sha256})
	if errors.Is(err, store.ErrNotFound) || err == nil && (len(found) == 0 || !found[0].IsAuthority()) {
		return nil, none
	}
	if err != nil {
		return nil, err
	}
	return found[0], nil
}

// RemoveIssuer has answers of a signer under an issuer wait for a person from now on.
func (s *Service) RemoveIssuer(ctx context.Context, signer, key string) error {
	err := s.store.RemoveSignerIssuer(ctx, signer, strings.ToLower(key))
	return problem.Missing(err, next.ListSigners, "%s has no issuer with the public key %s", signer, key)
}
