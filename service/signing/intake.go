package signing

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/chains"
	"freshseal/store/issuance"
)

// TakeIn sorts a pile, matches leaves to waiting requests by their public key, completes and judges each chain, and
// continues the replacements whose chain is good. Roots in the pile are trusted only if the terms say so.
func (s *Service) TakeIn(ctx context.Context, files []pile.File, terms contract.IntakeTerms,
	by string) (contract.Intake, error) {
	accounts, err := pile.Sort(files, pile.Options{Passphrases: terms.Passphrases})
	if err != nil {
		return contract.Intake{}, problem.Reject("the pile was not taken in", err.Error(), "split it")
	}
	out := contract.Intake{Files: accounts, Answers: []contract.Answer{}}
	authorities, leaves := split(pile.Certificates(accounts))
	if authorities, leaves, err = s.markedLeaves(ctx, authorities, leaves); err != nil {
		return out, err
	}
	defer s.monitor.Forget()
	if err := s.store.Chains.AddAuthorities(ctx, authorities); errors.Is(err, store.ErrTooMany) {
		return out, problem.Reject("the pile was not taken in",
			fmt.Sprintf("it brings more authorities than the %d that are kept", chains.MostAuthorities),
			"remove authorities that are not needed, or leave them out of the pile", next.ListAuthorities.On(""))
	} else if err != nil {
		return out, err
	}
	if terms.TrustRoots {
		for _, c := range authorities {
			if c.SelfSigned() {
				if _, err := s.monitor.AddAnchors(ctx, monitor.Fleet, c.PEM(), problem.Any); err != nil {
					return out, err
				}
			}
		}
	}
	came := len(leaves)
	leaves, told, err := s.withEarlier(ctx, leaves)
	if err != nil {
		return out, err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return out, err
	}
	p.Pool.Add(authorities...)
	t := &taking{Pools: p, by: by}
	if terms.Keys {
		t.accounts = accounts
	}
	if t.Trusting, err = s.monitor.Trusting(ctx, p); err != nil {
		return out, err
	}
	defer func() { // also of a pile that could not be taken in whole
		for _, each := range t.accepted {
			s.replacements.Drive(each.id, each.action)
		}
	}()
	for i, leaf := range leaves {
		answer, err := s.answer(ctx, leaf, t)
		if err != nil {
			return out, err
		}
		if i >= came && !answer.Accepted && answer.Why == told[answer.SHA256] {
			continue // it came earlier, and was told of then
		}
		s.log.Info("intake", "leaf", leaf.ShortName(), "replacement", answer.Replacement, "accepted", answer.Accepted,
			"why", answer.Why, "by", by)
		out.Answers = append(out.Answers, answer)
	}
	return out, nil
}

// taking is a pile being taken in.
type taking struct {
	monitor.Pools
	monitor.Trusting
	by       string
	accounts []pile.Account // where private keys are taken in
	accepted []accepted
	near     neighbours // once somebody wants to know
}

// accepted is a replacement that continues once the whole pile is sorted.
type accepted struct {
	id     int64
	action replacement.Action
}

// markedLeaves takes certificates out of the authorities that are marked as such although their key is that of a
// pending request.
func (s *Service) markedLeaves(ctx context.Context, authorities,
	leaves []*cert.Certificate) (_, _ []*cert.Certificate, err error) {
	waiting, err := s.store.Replacements.In(ctx, replacement.Waiting)
	asked := map[string]bool{}
	for _, r := range waiting {
		asked[r.SPKI] = r.Progress().AtSigner() && r.SPKI != ""
	}
	var rest []*cert.Certificate
	for _, c := range authorities {
		if asked[cert.Fingerprint(c.RawSubjectPublicKeyInfo)] {
			leaves = append(leaves, c)
		} else {
			rest = append(rest, c)
		}
	}
	return rest, leaves, err
}

func split(certificates []*cert.Certificate) (authorities, leaves []*cert.Certificate) {
	for _, c := range certificates {
		if c.IsAuthority() || c.SelfSigned() {
			authorities = append(authorities, c)
		} else {
			leaves = append(leaves, c)
		}
	}
	return authorities, leaves
}

// withEarlier adds the leaves that came earlier and still lack something, which
// this pile may bring, and those that were unmatched and are waited for by now. told is
// why those that came earlier were not accepted, by SHA-256.
func (s *Service) withEarlier(ctx context.Context,
	leaves []*cert.Certificate) (_ []*cert.Certificate, told map[string]string, err error) {
	told = map[string]string{}
	waiting, err := s.store.Replacements.In(ctx, replacement.Waiting)
	if err != nil {
		return nil, told, err
	}
	given, asked := map[string]bool{}, map[string]bool{}
	for _, leaf := range leaves {
		given[cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)] = true
	}
	for _, r := range waiting {
		if given[r.SPKI] || !r.Progress().AtSigner() { // what is given now counts
			continue
		}
		asked[r.SPKI] = true
		if r.Offered == "" {
			continue
		}
		earlier, err := s.store.Chains.Certificates(ctx, []string{r.Offered})
		if err != nil {
			return nil, told, err
		}
		leaves = append(leaves, earlier...)
		unused, err := s.store.Signers.UnusedAnswers(ctx, r.ID)
		if err != nil {
			return nil, told, err
		}
		for _, a := range unused {
			told[a.SHA256] = a.Why
		}
	}
	unmatched, err := s.store.Signers.Unmatched(ctx)
	for _, a := range unmatched {
		leaf, err := cert.Parse(a.DER)
		if err != nil {
			return nil, told, err
		}
		if asked[cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)] {
			leaves = append(leaves, leaf)
		}
	}
	return leaves, told, err
}

// answer finds the request that a leaf answers, and continues its replacement if the chain is good.
func (s *Service) answer(ctx context.Context, leaf *cert.Certificate, t *taking) (contract.Answer, error) {
	out := contract.Answer{Leaf: leaf.ShortName(), SHA256: leaf.SHA256, Findings: []finding.Finding{},
		Chain: []contract.Link{}, Trust: []contract.Trust{}, Near: []contract.Near{}}
	matches, err := s.store.Replacements.ByKey(ctx, cert.Fingerprint(leaf.RawSubjectPublicKeyInfo))
	if err != nil {
		return out, err
	}
	if len(matches) == 0 || !matches[0].Progress().AtSigner() { // else a key that was used again may be that of both
		if former, err := s.answersFormer(ctx, leaf, &out, t.by); err != nil || former {
			return out, err
		}
	}
	if len(matches) == 0 {
		taken, err := s.takeKey(ctx, leaf, &out, t)
		if err != nil || out.Why != "" {
			return out, err
		}
		if !taken {
			return out, s.keepUnmatched(ctx, leaf, &out, t)
		}
		if matches, err = s.store.Replacements.ByKey(ctx, cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)); err != nil {
			return out, err
		}
	}
	r := matches[0]
	out.Replacement, out.Device, out.Slot = replacement.Name(r.ID), r.Device, r.Slot
	switch {
	case leaf.SHA256 == r.OldSHA256: // the same key again: what stands has it too
		out.Why = "it is what the slot serves already"
		out.Next = "give what the signer made of the newer request"
		return out, nil
	case !r.Progress().AtSigner():
		out.Why = fmt.Sprintf("the replacement it answers does not wait for it: it is %s in stage %s", r.State, r.Stage)
		out.Actions = []next.Action{next.ShowReplacement.On(out.Replacement)}
		return out, nil
	}
	path, found, err := s.judgeWhole(ctx, leaf, t.Pools, r)
	if err != nil {
		return out, err
	}
	out.Chain = monitor.Draw(path, path.Certificates)
	out.Trust = t.Trusting.Of(path.Certificates, s.now())
	out.Findings = append(out.Findings, found...)
	unused := issuance.UnusedAnswer{ReplacementID: r.ID, CameAt: s.moment(), CameBy: t.by}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		out.Why, out.Next, unused.Why = wrong[0].What, wrong[0].Remedy, wrong[0].What
		if slices.ContainsFunc(wrong, func(f finding.Finding) bool { return f.Code == finding.NameMissing }) {
			unused.Learns = learnt(r.Signer, path, r.Plan.V.Names, false, t.by)
		}
		return out, s.store.Signers.PutUnusedAnswer(ctx, leaf, unused, true)
	}
	if doubts := finding.Doubts(found); len(doubts) > 0 {
		out.Doubtful, out.Why, out.Next, unused.Why = true, doubts[0].What, "ask the signer whether it is correct; "+
			"if so, accept it", doubts[0].What
		out.Actions = []next.Action{next.AcceptAnswer.On(out.Replacement)}
		return out, s.store.Signers.PutUnusedAnswer(ctx, leaf, unused, true)
	}
	_, action, err := s.store.Replacements.Accept(ctx, r.ID, path.Certificates,
		learnt(r.Signer, path, r.Plan.V.Names, false, t.by), s.moment())
	if errors.Is(err, store.ErrNotFound) || errors.As(err, new(replacement.Impossible)) {
		out.Why, out.Actions = "somebody gave an answer to it at the same moment",
			[]next.Action{next.ShowReplacement.On(out.Replacement)}
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Accepted = true
	t.accepted = append(t.accepted, accepted{r.ID, action})
	return out, nil
}

// judgeWhole is JudgeNew, once what is missing of the path and can be fetched was fetched.
func (s *Service) judgeWhole(ctx context.Context, leaf *cert.Certificate, p monitor.Pools,
	r store.Replacement) (path chain.Path, found []finding.Finding, err error) {
	path, found, err = s.JudgeNew(ctx, leaf, p, r)
	for range mostFetches {
		if err != nil {
			break
		}
		more, failed := s.fetchMissing(ctx, path, p)
		if failed != nil || !more {
			return path, found, failed
		}
		path, found, err = s.JudgeNew(ctx, leaf, p, r)
	}
	return path, found, err
}

// JudgeNew completes and judges a chain that is going to be installed. A root
// that came with the pile but is not trusted by the fleet is a warning: who
// gives the pile may know better than we do. Doubtful answers have findings whose
// code says so (finding.Code.Doubt).
func (s *Service) JudgeNew(ctx context.Context, leaf *cert.Certificate, p monitor.Pools,
	r store.Replacement) (chain.Path, []finding.Finding, error) {
	key := leaf.RawSubjectPublicKeyInfo // of a device that is its own signer, which makes no request
	if len(r.Request) > 0 {
		made, err := request.Parse(r.Request)
		if err != nil {
			return chain.Path{}, nil, err
		}
		key = made.SPKI()
	}
	path := chain.Complete(leaf, p.Pool, p.Anchors, s.now())
	slot, err := s.store.Slots.Get(ctx, r.Device, r.Slot)
	if err != nil {
		return path, nil, err
	}
	found := chain.Judge(path, chain.Terms{At: s.now(), Names: r.Plan.V.Names, SPKI: key, Client: slot.ClientUse,
		Weak: r.Plan.V.Weak})
	by, err := s.Signer(ctx, r.Signer)
	if known := (*problem.Error)(nil); err != nil && !errors.As(err, &known) { // it may have been removed since
		return path, nil, err
	}
	found = append(found, policy.JudgeLife(leaf, r.Signer, by.MaxDays, by.Terms.Public)...)
	rules, err := s.monitor.RulesFor(ctx, slot)
	if err != nil {
		return path, nil, err
	}
	doubts, err := s.doubts(ctx, by, path, p, r, slot, rules)
	if err != nil {
		return path, nil, err
	}
	found = append(found, doubts...)
	for i, f := range found {
		if f.Code == finding.AnchorUnknown || f.Code == finding.SelfSigned && r.Signer == contract.OwnKeySigner {
			found[i] = f.As(finding.Warning)
		}
	}
	for _, f := range rules.Judge(path.Certificates) {
		found = append(found, f.As(finding.Warning)) // clients take it; the policy may change
	}
	return path, found, nil
}

// answersFormer reports whether a leaf answers an obsolete request.
func (s *Service) answersFormer(ctx context.Context, leaf *cert.Certificate, out *contract.Answer,
	by string) (bool, error) {
	old, err := s.store.Requests.ObsoleteByKey(ctx, cert.Fingerprint(leaf.RawSubjectPublicKeyInfo))
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	r, err := s.store.Replacements.Get(ctx, old.ReplacementID)
	if err != nil {
		return false, err
	}
	out.Replacement, out.Device, out.Slot = replacement.Name(r.ID), r.Device, r.Slot
	out.Why = fmt.Sprintf("it answers an earlier request of %s, which %s requested again on %s (%s); the key of "+
		"that one is gone", replacement.Name(r.ID), old.By, old.At.Format("2006-01-02 15:04 MST"), old.Reason)
	out.Next = "ask the signer to revoke it and to sign the newer request"
	if !r.Progress().AtSigner() {
		out.Next = "ask the signer to revoke it; the replacement is " + string(r.State) + " without it"
	}
	return true, s.store.Signers.PutUnusedAnswer(ctx, leaf, issuance.UnusedAnswer{ReplacementID: r.ID, Why: out.Why,
		CameAt: s.moment(), CameBy: by}, false)
}
