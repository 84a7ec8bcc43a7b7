package monitor

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/judgement/window"
	"freshseal/core/next"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/store/issuance"
)

// RulesFor returns the rules that count for a slot.
func (s *Service) RulesFor(ctx context.Context, row store.Slot) (policy.Rules, error) {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return policy.Rules{}, err
	}
	return snapshot.Rules(placeOf(row)), nil
}

// RulesOf returns the rules that count for the slot of a replacement.
func (s *Service) RulesOf(ctx context.Context, r store.Replacement) (policy.Rules, error) {
	slot, err := s.store.Slots.Get(ctx, r.Device, r.Slot)
	if err != nil {
		return policy.Rules{}, err
	}
	return s.RulesFor(ctx, slot)
}

// Version returns a number that changes with the rules, sites, signers and trust groups by which slots are judged.
func (s *Service) Version(ctx context.Context) (int64, error) {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return 0, err
	}
	return snapshot.Version, nil
}

// Windows are those of one place.
type Windows = window.Windows

// Touches returns when a device with these tags may be touched for a slot of it.
func (s *Service) Touches(ctx context.Context, row store.Slot, tags []string) (window.Times, error) {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return window.Times{}, err
	}
	return snapshot.Touches(placeOf(row), tags), nil
}

// Policies returns the rules of every scope that has any, the fleet's first.
func (s *Policies) Policies(ctx context.Context) ([]contract.Policy, error) {
	all, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.store.Revisions.OfKind(ctx, "policy")
	out := []contract.Policy{{Scope: Fleet, Rules: policy.Default.Under(all.Scopes[Fleet]), Revision: known[Fleet]}}
	for scope, rules := range all.Scopes {
		if scope != Fleet {
			out = append(out, contract.Policy{Scope: scope, Rules: rules, Revision: known[scope]})
		}
	}
	slices.SortFunc(out[1:], func(a, b contract.Policy) int { return strings.Compare(a.Scope, b.Scope) })
	return out, err
}

// SetPolicy sets the rules of a scope, and judges the slots again.
func (s *Policies) SetPolicy(ctx context.Context, n contract.NewPolicy,
	known problem.Revision) (contract.Policy, error) {
	p := contract.Policy{Scope: n.Scope, Rules: n.Rules}
	if err := s.checkPolicy(ctx, p); err != nil {
		return p, err
	}
	was, err := s.store.Policies.List(ctx)
	if err != nil {
		return p, err
	}
	audit.Differences(ctx, map[string]string{p.Scope: rulesText(was[p.Scope])},
		map[string]string{p.Scope: rulesText(p.Rules)})
	err = s.store.Policies.Set(ctx, p.Scope, p.Rules, known)
	if err != nil {
		return p, problem.Outdated(err)
	}
	if p.Revision, err = s.store.Revisions.Of(ctx, "policy/"+p.Scope); err != nil {
		return p, err
	}
	if minutes := p.Rules.ReadMinutes; minutes != nil &&
		(was[p.Scope].ReadMinutes == nil || *minutes < *was[p.Scope].ReadMinutes) {
		if err := s.store.Readings.Hasten(ctx, s.moment(), time.Duration(*minutes)*time.Minute); err != nil {
			return p, err
		}
	}
	return p, s.rejudging.judgeAgain(ctx)
}

// ChangesApproval reports whether rules change who must approve in their scope.
func (s *Policies) ChangesApproval(ctx context.Context, n contract.NewPolicy) (bool, error) {
	was, err := s.store.Policies.List(ctx)
	said := func(r policy.Rules) string {
		if n.Scope == Fleet {
			r = policy.Default.Under(r)
		}
		if r.Approval == nil {
			return "" // what holds for the scope above
		}
		return *r.Approval
	}
	return said(was[n.Scope]) != said(n.Rules), err
}

// checkPolicy checks that a scope is there, and that the rules make sense in it.
func (s *Policies) checkPolicy(ctx context.Context, p contract.Policy) error {
	kind, name, _ := strings.Cut(p.Scope, "/")
	if p.Scope != Fleet && (kind != "site" && kind != "device" && kind != "tag" || name == "") {
		return problem.Reject("the policy was not set", "no scope is called "+p.Scope,
			"give fleet, site/NAME, tag/NAME or device/NAME")
	}
	if kind == "tag" &&
		rulesText(p.Rules) != rulesText(policy.Rules{Windows: p.Rules.Windows, Freezes: p.Rules.Freezes,
			KeepHolidays: p.Rules.KeepHolidays}) {
		return problem.Reject("the policy was not set", "a tag says only when devices may be touched",
			"give windows, freezes or keep_holidays; set other rules for the fleet, a site or a device")
	}
	if err := p.Rules.Check(); err != nil {
		return problem.Reject("the policy was not set", err.Error(), "correct it and try again")
	}
	if p.Rules.WeakKeys != nil && kind != "device" {
		return problem.Reject("the policy was not set", "weak keys can only be allowed for single devices",
			"give device/NAME")
	}
	if signer := p.Rules.Signer; signer != nil && *signer != "" {
		if err := s.knownSigner(ctx, *signer); err != nil {
			return err
		}
	}
	if kind == "device" {
		if _, err := s.store.Devices.Get(ctx, name); err != nil {
			return problem.Missing(err, next.ListDevices, "no device is called %s", name)
		}
	}
	return nil
}

// knownSigner checks that somebody signs under a name.
func (s *Policies) knownSigner(ctx context.Context, name string) error {
	if name == signer.BenchName || name == signer.DeskName || name == signer.OwnKeyName {
		return nil
	}
	rows, err := s.store.Signers.List(ctx)
	if err != nil || slices.ContainsFunc(rows, func(row issuance.Signer) bool { return row.Name == name }) {
		return err
	}
	return problem.New(problem.NotFound, fmt.Sprintf("no signer is called %q", name), "", "", next.ListSigners.On(""))
}

// rulesText returns rules on one line, for the audit log.
func rulesText(r policy.Rules) string {
	text, _ := json.Marshal(r) // plain fields cannot fail
	return string(text)
}
