package memory

import (
	"context"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/judgement/window"
	"freshseal/core/language/library"
	_ "freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/request"
	"freshseal/device/https"
	"freshseal/service/monitor"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/wire"
)

// Rooms returns the other packages.
func (w *World) Rooms() (Reach, Knowledge, Families, Signing) {
	return Reach{w}, Knowledge{w}, Families{w}, Signing{w}
}

// Reach is how the device is reached: not at all, as its hands are in memory.
type Reach struct{ w *World }

func (r Reach) Web(context.Context, store.Device) (https.Target, error) {
	if err := r.w.called("Reach.Web"); err != nil {
		return *new(https.Target), err
	}

	return https.Target{Address: "192.0.2.7:443", Pins: r.w.Pins}, nil
}

// Knowledge is what the slot serves and what is known.
type Knowledge struct{ w *World }

func (k Knowledge) Read(context.Context, store.Slot) (monitor.Sight, error) {
	if err := k.w.called("Knowledge.Read"); err != nil {
		return *new(monitor.Sight), err
	}

	w := k.w
	if w.Reads != nil {
		w.Reads(w)
	}
	w.Lock.Lock()
	defer w.Lock.Unlock()
	var s monitor.Sight
	if w.Silent || w.Serves == nil {
		s.Why = &finding.Failure{Code: "silent", What: "it does not answer.", Remedy: "switch it on"}
		return s, nil
	}
	s.Chain = []*cert.Certificate{w.Serves}
	if w.Chain != nil {
		s.Chain = append(s.Chain, w.Chain...)
		return s, nil
	}
	s.Chain = append(s.Chain, w.Bench.Levels()...)
	return s, nil
}

func (k Knowledge) RulesFor(context.Context, store.Slot) (policy.Rules, error) {
	if err := k.w.called("Knowledge.RulesFor"); err != nil {
		return *new(policy.Rules), err
	}
	return k.w.Rules, nil
}

func (k Knowledge) Touches(context.Context, store.Slot, []string) (window.Times, error) {
	if err := k.w.called("Knowledge.Touches"); err != nil {
		return *new(window.Times), err
	}

	return k.w.Times, nil
}

// Leaf returns what an address serves, read on its own.
func (k Knowledge) Leaf(context.Context, string, string, string) (string, error) {
	if err := k.w.called("Knowledge.Leaf"); err != nil {
		return *new(string), err
	}

	return k.w.Serves.SHA256, nil
}

// ReadAs reads as clients of one kind of key do.
func (k Knowledge) ReadAs(ctx context.Context, slot store.Slot, as cert.KeyKind) (monitor.Sight, error) {
	if err := k.w.called("Knowledge.ReadAs"); err != nil {
		return *new(monitor.Sight), err
	}
	sight, err := k.Read(ctx, slot)
	if also := k.w.Also; also != nil && len(sight.Chain) > 0 {
		if kind, _ := also.KeySize(); kind == as {
			sight.Chain[0] = also
		}
	}
	return sight, err
}

// ReadCloser is Read, which shows the second certificate too.
func (k Knowledge) ReadCloser(ctx context.Context, slot store.Slot) (monitor.Sight, error) {
	if err := k.w.called("Knowledge.ReadCloser"); err != nil {
		return *new(monitor.Sight), err
	}
	sight, err := k.Read(ctx, slot)
	if k.w.Also != nil {
		sight.Closer = &wire.Closer{Second: []*cert.Certificate{k.w.Also}}
	}
	return sight, err
}

func (k Knowledge) Version(context.Context) (int64, error) {
	if err := k.w.called("Knowledge.Version"); err != nil {
		return *new(int64), err
	}
	return 1, nil
}

func (k Knowledge) Pools(context.Context) (monitor.Pools, error) {
	if err := k.w.called("Knowledge.Pools"); err != nil {
		return *new(monitor.Pools), err
	}

	return monitor.Pools{Anchors: chain.NewPool(k.w.Bench.Root()), Pool: chain.NewPool()}, nil
}

func (k Knowledge) Trusting(_ context.Context, p monitor.Pools) (monitor.Trusting, error) {
	if err := k.w.called("Knowledge.Trusting"); err != nil {
		return *new(monitor.Trusting), err
	}

	return monitor.NewTrusting(p), nil
}

func (k Knowledge) Expect(context.Context, store.Replacement, []store.Target) error {
	if err := k.w.called("Knowledge.Expect"); err != nil {
		return err
	}
	return nil
}

func (k Knowledge) Unexpect([]int64) {}

func (k Knowledge) JudgeSlots(context.Context, []store.Slot) error {
	if err := k.w.called("Knowledge.JudgeSlots"); err != nil {
		return err
	}
	return nil
}

func (k Knowledge) Forget() {}

// Families has the family of the device.
type Families struct{ w *World }

func (k Families) Family(string) (library.Source, error) {
	if err := k.w.called("Families.Family"); err != nil {
		return *new(library.Source), err
	}
	return library.Read(k.w.Text)
}

func (k Families) Procedure(string) (library.Source, error) {
	if err := k.w.called("Families.Procedure"); err != nil {
		return *new(library.Source), err
	}

	if k.w.Newer != "" {
		return library.Read(k.w.Newer)
	}
	return library.Source{}, store.ErrNotFound
}

func (k Families) OpenSettings(context.Context, store.Device) (map[string]string, error) {
	if err := k.w.called("Families.OpenSettings"); err != nil {
		return *new(map[string]string), err
	}

	return map[string]string{}, nil
}

// Signing is the bench, which may be slow or answer something doubtful.
type Signing struct{ w *World }

func (s Signing) Signer(_ context.Context, name string) (contract.Signer, error) {
	if err := s.w.called("Signing.Signer"); err != nil {
		return *new(contract.Signer), err
	}

	return contract.Signer{Name: name, Kind: name, SignerTerms: contract.SignerTerms{Proof: s.w.Proof,
		Terms: request.AnySigner}}, nil
}

func (s Signing) Named(context.Context, string) (signer.Signer, error) {
	if err := s.w.called("Signing.Named"); err != nil {
		return *new(signer.Signer), err
	}

	if s.w.Pending {
		return slow{s.w.Bench}, nil
	}
	return s.w.Bench, nil
}

func (s Signing) JudgeNew(_ context.Context, leaf *cert.Certificate, p monitor.Pools,
	_ store.Replacement) (chain.Path, []finding.Finding, error) {
	if err := s.w.called("Signing.JudgeNew"); err != nil {
		return *new(chain.Path), *new([]finding.Finding), err
	}

	return chain.Complete(leaf, p.Pool, p.Anchors, s.w.Now), s.w.Doubts, nil
}

type slow struct{ *signer.Bench }
