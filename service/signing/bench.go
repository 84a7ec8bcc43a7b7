package signing

import (
	"context"
	"errors"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/audit"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
)

const benchPurpose = "signer/bench"

// Bench shows the authority of your own.
func (s *Bench) Bench(context.Context) (contract.Bench, error) {
	b := s.bench.Load()
	out := contract.Bench{LeafDays: b.Terms().MaxDays, Root: string(b.Root().PEM())}
	for _, c := range b.Levels() {
		out.Levels = append(out.Levels, contract.BenchLevel{Subject: c.Subject(), SHA256: c.SHA256,
			NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), PathLength: c.MaxPathLen})
	}
	return out, nil
}

// SetUpBench replaces the authority by another one, whose root the fleet trusts from then on. What the one before
// signed stays valid; its root stays trusted until somebody removes it.
func (s *Bench) SetUpBench(ctx context.Context, setup contract.BenchSetup) (contract.Bench, error) {
	const cannot = "bench was not set up"
	s.settingUp.Lock()
	defer s.settingUp.Unlock()
	was := s.bench.Load()
	if levels := was.Levels(); !strings.EqualFold(levels[len(levels)-1].SHA256, setup.Replaces) {
		return contract.Bench{}, problem.New(problem.Conflict, cannot, "somebody set it up meanwhile",
			"look at it again", next.ListSigners.On(""))
	}
	var root *signer.Bench
	if setup.KeepRoot {
		root = was
		if left := int(was.Root().NotAfter.Sub(s.now()).Hours() / 24); left < setup.LeafDays {
			return contract.Bench{}, problem.Reject(cannot, "its root expires before a certificate that it "+
				"would issue", "set it up with a new root")
		}
		setup.RootDays = max(setup.RootDays, setup.BelowDays)
		if len(setup.Names) > 0 {
			setup.Names[0] = was.Root().CommonName()
		}
	}
	if why := signer.BenchPlan(setup.BenchPlan).Check(); why != "" {
		return contract.Bench{}, problem.Reject(cannot, why, "correct it")
	}
	made, err := signer.NewBench(signer.BenchPlan(setup.BenchPlan), root, s.now)
	if err != nil {
		return contract.Bench{}, err
	}
	for _, c := range made.Levels() {
		audit.Say(ctx, "“%s”, SHA-256 %s, until %s", c.Subject(), c.SHA256, c.NotAfter.UTC().Format(time.DateOnly))
	}
	if err := s.keepBench(ctx, made); err != nil {
		return contract.Bench{}, err
	}
	return s.Bench(ctx)
}

// keepBench trusts the root of an authority and seals its keys, in this order: a root without keys does no harm.
func (s *Bench) keepBench(ctx context.Context, b *signer.Bench) error {
	material, err := b.Marshal()
	if err != nil {
		return err
	}
	if _, err := s.monitor.AddAnchors(ctx, monitor.Fleet, b.Root().PEM(), problem.Any); err != nil {
		return err
	}
	if err := s.store.Secrets.Put(ctx, benchPurpose, s.box.Seal(benchPurpose, material)); err != nil {
		return err
	}
	s.bench.Store(b)
	return nil
}

// openBench opens the bench authority, or makes the usual one for an organization.
func (s *Bench) openBench(ctx context.Context, organization string) error {
	sealed, err := s.store.Secrets.Get(ctx, benchPurpose)
	if errors.Is(err, store.ErrNotFound) {
		made, err := signer.NewBench(signer.UsualBench(organization), nil, s.now)
		if err != nil {
			return err
		}
		return s.keepBench(ctx, made)
	}
	if err != nil {
		return err
	}
	material, err := s.box.Open(benchPurpose, sealed)
	if err != nil {
		return err
	}
	b, err := signer.OpenBench(material, s.now)
	if err != nil {
		return err
	}
	s.bench.Store(b)
	return nil
}
