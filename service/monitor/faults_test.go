package monitor

import (
	"context"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/chains"
	"freshseal/store/faulty"
)

// Whatever the room reads or records, a disk that fails is reported, at every statement.
func TestEveryFaultOfTheDiskIsTold(t *testing.T) {
	p := openPort(t)
	s, db, disk := roomWithFaults(t, &clock{now: testkit.Now}, map[string]*port{"Mainquay": p})
	ctx := t.Context()
	row, err := s.store.Slots.Get(ctx, "box-Mainquay", "web")
	if err != nil {
		t.Fatal(err)
	}
	root := testkit.Root(t, "Quay Root")
	each := func(act func() error) { t.Helper(); faulty.EachTold(t, db, disk, act) }
	says := func(want string, ask func() (any, error)) { t.Helper(); faulty.Says(t, db, disk, want, ask) }
	says("1", func() (any, error) {
		sight, err := s.Read(ctx, row)
		return len(sight.Chain), err
	})
	says("1", func() (any, error) {
		sight, err := s.ReadAs(ctx, row, cert.ECDSA)
		return len(sight.Chain), err
	})
	says("flawed", func() (any, error) {
		r, err := s.store.Slots.Get(ctx, row.Device, row.Name)
		return r.Condition, err
	})
	if _, err := s.AddAnchors(ctx, Fleet, root.PEM(), store.Any); err != nil {
		t.Fatal(err)
	}
	s.Wait()
	says("fleet", func() (any, error) { return s.TrustGroups(ctx) })
	says("Quay Root", func() (any, error) { return s.Trust.Anchors(ctx, Fleet) })
	each(func() error { return s.Trust.KnownTrustGroups(ctx, "x", []string{Fleet}) })
	says("1", func() (any, error) {
		file, err := s.Trust.ExportAnchors(ctx, Fleet, contract.Export{Form: "pem"})
		return min(1, len(file.Content)), err
	})
	each(func() error {
		s.Forget()
		pools, err := s.Pools(ctx)
		if err == nil {
			_, err = s.Trusting(ctx, pools)
		}
		return err
	})
	if err := s.store.Chains.(chains.Chains).AddAuthorities(ctx, []*cert.Certificate{root.Certificate}); err != nil {
		t.Fatal(err)
	}
	says("Quay Root", func() (any, error) { return s.Trust.Authorities(ctx, "quay") })
	says("1", func() (any, error) {
		file, err := s.Trust.ExportAuthority(ctx, root.SHA256, contract.Export{Form: "pem"})
		return min(1, len(file.Content)), err
	})
	if err := s.Trust.RemoveAuthority(ctx, root.SHA256); err != nil { // the fleet is judged again, beside it
		t.Fatal(err)
	}
	s.Wait()

	days := 41
	if _, err := s.Rules.SetPolicy(ctx, contract.NewPolicy{Scope: "site/Mainquay",
		Rules: policy.Rules{RenewalDays: &days}}, store.Any); err != nil {
		t.Fatal(err)
	}
	s.Wait()
	says("41", func() (any, error) {
		s.Forget()
		rules, err := s.RulesFor(ctx, row)
		if err != nil {
			return nil, err
		}
		return *rules.RenewalDays, nil
	})
	says("site/Mainquay", func() (any, error) { return s.Rules.Policies(ctx) })
	each(func() error { _, err := s.Version(ctx); return err })
	each(func() error { s.Forget(); _, err := s.Touches(ctx, row, nil); return err })
	each(func() error {
		now, err := s.store.Slots.Get(ctx, row.Device, row.Name)
		if err != nil {
			return err
		}
		s.Forget()
		return s.JudgeSlots(ctx, []store.Slot{now})
	})
	each(func() error { _, err := s.ReadCloser(ctx, row); return err })
	each(func() error { // what was read while something was installed
		now, err := s.store.Slots.Get(ctx, row.Device, row.Name)
		if err != nil {
			return err
		}
		s.Forget()
		now.ReadAt = store.At(now.ReadAt.Add(time.Second))
		now.Failure.V = &finding.Failure{Code: "closed", What: "it closed the connection"}
		return (&recorder{s: s}).again(ctx, store.NewReading{Slot: now})
	})
	says("TLS", func() (any, error) {
		return s.ReadAddress(ctx, contract.AskReading{Address: "127.0.0.1", Port: p.number})
	})

	id, err := s.store.Replacements.(interface {
		Add(context.Context, store.Replacement, []int64, replacement.Progress, string, *store.BatchItem) (int64, error)
	}).Add(ctx, store.Replacement{DeviceID: row.DeviceID, SlotID: row.ID, Signer: "bench",
		Plan: store.JSON[request.Plan]{V: request.Plan{Names: []string{"x"}}}}, []int64{row.ID},
		replacement.Progress{Stage: replacement.Prove, State: replacement.Running}, "procedure: x", nil)
	if err != nil {
		t.Fatal(err)
	}
	each(func() error { return s.ExpectAll(ctx) })
	says("41", func() (any, error) {
		s.Forget()
		rules, err := s.RulesOf(ctx, store.Replacement{ID: id, DeviceID: row.DeviceID, SlotID: row.ID,
			Device: row.Device,
			Slot:   row.Name})
		if err != nil {
			return nil, err
		}
		return *rules.RenewalDays, nil
	})
	each(func() error { _, err := s.Aftermath(ctx, row, due.Flawed); return err })
	each(func() error { _, err := s.LastEvent(ctx); return err })
	says("replacement/r1", func() (any, error) {
		var seen []string
		stop, done := context.WithTimeout(ctx, 100*time.Millisecond)
		defer done()
		err := s.Follow(stop, "", 0, func(e contract.Event) error { seen = append(seen, e.About); return nil },
			func() error { return nil }, func() (bool, error) { return len(seen) > 0, nil })
		if stop.Err() != nil {
			err = nil
		}
		return seen, err
	})
}
