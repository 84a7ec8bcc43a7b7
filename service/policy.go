package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/policy"
	"freshseal/store"
)

// Policy is the rules of one scope, as the API shows them.
type Policy struct {
	Scope string       `json:"scope" required:"true" description:"fleet, site/NAME or device/NAME"`
	Rules policy.Rules `json:"rules" required:"true"`
}

// policies are the rules of all scopes, and the signers that they may name.
type policies struct {
	scopes map[string]policy.Rules
	days   map[string]int // working days until a signer answers
}

// of gives the rules that count for a slot.
func (p policies) of(row store.Slot) policy.Rules {
	rules := policy.Default.Under(p.scopes[Fleet]).Under(p.scopes["site/"+row.Site]).Under(p.scopes["device/"+row.Device])
	signer := row.Signer
	if rules.Signer != nil {
		signer = *rules.Signer
	}
	return rules.WithSigner(p.days[signer])
}

func (s *Service) policies(ctx context.Context) (policies, error) {
	scopes, err := s.store.Policies(ctx)
	if err != nil {
		return policies{}, err
	}
	signers, err := s.Signers(ctx)
	days := map[string]int{}
	for _, each := range signers {
		days[each.Name] = each.TurnaroundDays
	}
	return policies{scopes, days}, err
}

// rulesOf gives the rules that count for the slot of a replacement.
func (s *Service) rulesOf(ctx context.Context, r store.Replacement) (policy.Rules, error) {
	slot, err := s.store.Slot(ctx, r.Device, r.Slot)
	if err != nil {
		return policy.Rules{}, err
	}
	all, err := s.policies(ctx)
	return all.of(slot), err
}

// Policies are the rules of every scope that has any, the fleet's first.
func (s *Service) Policies(ctx context.Context) ([]Policy, error) {
	all, err := s.policies(ctx)
	out := []Policy{{Fleet, policy.Default.Under(all.scopes[Fleet])}}
	for scope, rules := range all.scopes {
		if scope != Fleet {
			out = append(out, Policy{scope, rules})
		}
	}
	slices.SortFunc(out[1:], func(a, b Policy) int { return strings.Compare(a.Scope, b.Scope) })
	return out, err
}

// SetPolicy sets the rules of a scope, and judges the slots anew.
func (s *Service) SetPolicy(ctx context.Context, p Policy) (Policy, error) {
	kind, name, _ := strings.Cut(p.Scope, "/")
	if p.Scope != Fleet && (kind != "site" && kind != "device" || name == "") {
		return p, invalid("the policy was not set", "no scope is called "+p.Scope, "give fleet, site/NAME or device/NAME")
	}
	if err := p.Rules.Check(); err != nil {
		return p, invalid("the policy was not set", err.Error(), "correct it and try again")
	}
	if p.Rules.WeakKeys != nil && kind != "device" {
		return p, invalid("the policy was not set", "weak keys are allowed device by device, to those that can do no better", "give device/NAME")
	}
	if signer := p.Rules.Signer; signer != nil && *signer != "" {
		if _, err := s.signer(ctx, *signer); err != nil {
			return p, err
		}
	}
	if kind == "device" {
		if _, err := s.Device(ctx, name); err != nil {
			return p, err
		}
	}
	if err := s.store.SetPolicy(ctx, p.Scope, p.Rules); err != nil {
		return p, err
	}
	return p, s.judgeAgain(ctx)
}

// readAgain reads the whole fleet now and then, until the service is stopped.
func (s *Service) readAgain(every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-s.stopping.Done():
			return
		}
		read, dark, err := s.ReadAll(s.stopping)
		if s.stopping.Err() != nil {
			return
		}
		s.options.Log.Info("fleet read", "slots", read, "dark", dark, "error", err)
	}
}
