package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/judge"
	"freshseal/core/policy"
	"freshseal/store"
)

// Policy is the rules of one scope, as the API shows them.
type Policy struct {
	Scope string       `json:"scope" required:"true" description:"fleet, site/NAME or device/NAME"`
	Rules policy.Rules `json:"rules" required:"true"`
}

// policies are the rules of all scopes, as of one moment.
type policies struct{ *judge.Snapshot }

// of gives the rules that count for a slot.
func (p policies) of(row store.Slot) policy.Rules { return p.Rules(placeOf(row)) }

func (s *Service) policies(ctx context.Context) (policies, error) {
	snapshot, err := s.snapshot(ctx)
	return policies{snapshot}, err
}

// rulesOf gives the rules that count for the slot of a replacement.
func (s *Service) rulesOf(ctx context.Context, r store.Replacement) (policy.Rules, error) {
	slot, err := s.store.Slot(ctx, r.Device, r.Slot)
	if err != nil {
		return policy.Rules{}, err
	}
	all, err := s.policies(ctx)
	if err != nil {
		return policy.Rules{}, err
	}
	return all.of(slot), nil
}

// Policies are the rules of every scope that has any, the fleet's first.
func (s *Service) Policies(ctx context.Context) ([]Policy, error) {
	all, err := s.policies(ctx)
	if err != nil {
		return nil, err
	}
	out := []Policy{{Fleet, policy.Default.Under(all.Scopes[Fleet])}}
	for scope, rules := range all.Scopes {
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
