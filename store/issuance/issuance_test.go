package issuance_test

import (
	"errors"
	"fmt"
	"testing"

	"freshseal/core/judgement/answer"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/faulty"
	"freshseal/store/issuance"
)

// What is known of signers is changed as a whole or not at all, and goes with them.
func TestSignersOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	whole(func() error {
		return s.Signers.Put(ctx, issuance.Signer{Name: "harbour", About: "the authority", AddedAt: at}, 0)
	})
	whole(func() error {
		return s.Signers.Put(ctx, issuance.Signer{Name: "harbour", About: "an authority", MaxDays: 90}, 1)
	})
	if err := s.Signers.Put(ctx, issuance.Signer{Name: "harbour"}, 1); !errors.Is(err, store.ErrStale) {
		t.Errorf("by what was looked at before: %v", err)
	}
	whole(func() error {
		all, err := s.Signers.List(ctx)
		if err == nil && (len(all) != 1 || all[0].About != "an authority" || all[0].MaxDays != 90 ||
			all[0].Revision != 2 || !all[0].AddedAt.Equal(testkit.Now)) {
			t.Errorf("%+v", all)
		}
		return err
	})

	// of an issuer the shortest lifetime is kept, and that a person confirmed it
	issuer := issuance.SignerIssuer{Signer: "harbour", SPKI: "ab", Subject: "Harbour Issuing", KnownBy: "tern",
		KnownAt: at}
	for _, step := range []struct {
		days      int
		confirmed bool
		want      string
	}{{0, false, "0 false"}, {90, false, "90 false"}, {0, true, "90 true"}, {365, false, "90 true"}, {47, false,
		"47 true"}} {
		issuer.Days, issuer.Confirmed = step.days, step.confirmed
		whole(func() error { return s.Signers.PutIssuer(ctx, issuer) })
		whole(func() error {
			all, err := s.Signers.Issuers(ctx)
			if err == nil && (len(all["harbour"]) != 1 ||
				fmt.Sprint(all["harbour"][0].Days, " ", all["harbour"][0].Confirmed) != step.want) {
				t.Errorf("%+v, want %s", all, step.want)
			}
			return err
		})
	}
	for i := 1; i < issuance.MaxIssuers; i++ {
		if err := s.Signers.PutIssuer(ctx, issuance.SignerIssuer{Signer: "harbour", SPKI: fmt.Sprint(i)}); err != nil {
			t.Fatal(i, err)
		}
	}
	if err := s.Signers.PutIssuer(ctx, issuance.SignerIssuer{Signer: "harbour", SPKI: "x"}); !errors.Is(err,
		store.ErrTooMany) {
		t.Errorf("one more: %v", err)
	}
	if err := s.Signers.PutIssuer(ctx, issuer); err != nil {
		t.Errorf("one that is known: %v", err)
	}
	whole(func() error { return s.Signers.RemoveIssuer(ctx, "harbour", "1") })
	if err := s.Signers.RemoveIssuer(ctx, "harbour", "1"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}

	id := pending(t, s)
	if err := s.Signers.Remove(ctx, "harbour"); !errors.Is(err, store.ErrTaken) {
		t.Errorf("with a request that is pending: %v", err)
	}
	for _, e := range []replacement.EventKind{replacement.AskedCancel, replacement.ClearedAway} {
		if _, _, err := s.Replacements.Advance(ctx, id, replacement.Event{Kind: e}, at); err != nil {
			t.Fatal(err)
		}
	}
	whole(func() error { return s.Signers.Remove(ctx, "harbour") })
	if err := s.Signers.Remove(ctx, "harbour"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if all, err := s.Signers.Issuers(ctx); err != nil || len(all) != 0 {
		t.Errorf("its issuers: %v, %v", all, err)
	}
}

// pending makes a replacement that waits for harbour.
func pending(t *testing.T, s *store.Store) int64 {
	t.Helper()
	if err := s.Devices.Add(t.Context(), []store.NewDevice{{Device: store.Device{Name: "gate"},
		Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	slot, err := s.Slots.Get(t.Context(), "gate", "web")
	if err != nil {
		t.Fatal(err)
	}
	id, err := s.Replacements.Add(t.Context(), store.Replacement{DeviceID: slot.DeviceID, SlotID: slot.ID,
		Signer: "harbour", Plan: store.JSON[request.Plan]{}}, []int64{slot.ID},
		replacement.Progress{Stage: replacement.Sign, State: replacement.Waiting, WaitingFor: replacement.Signer},
		"procedure: x", nil)
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// What came and was not used is kept beside its replacement, the newest of it; what matches nothing is kept apart.
func TestAnswersOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx := t.Context()
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	id, root := pending(t, s), testkit.Root(t, "Harbour Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	came := issuance.UnusedAnswer{ReplacementID: id, Why: "for servers alone", CameBy: "tern",
		CameAt: store.At(testkit.Now), Learns: &issuance.Learnt{Signer: "harbour", Issuer: answer.Issuer{SPKI: "ab"},
			Asked: []string{"gate.tidewrack.example", "gate"}}}
	whole(func() error { return s.Signers.PutUnusedAnswer(ctx, leaf.Certificate, came, true) })
	learnt, err := s.Signers.Habits(ctx)
	if err != nil || len(learnt["harbour"].Dropped) == 0 {
		t.Fatalf("%+v, %v", learnt, err)
	}
	came.Why = "as before"
	whole(func() error { return s.Signers.PutUnusedAnswer(ctx, leaf.Certificate, came, false) }) // the same once more
	whole(func() error {
		again, err := s.Signers.Habits(ctx)
		if err == nil && fmt.Sprint(again) != fmt.Sprint(learnt) {
			t.Errorf("the same answer was learnt from twice: %+v", again)
		}
		return err
	})
	whole(func() error {
		all, err := s.Signers.UnusedAnswers(ctx, id)
		if err == nil && (len(all) != 1 || all[0].Why != "as before" || all[0].SHA256 != leaf.SHA256 ||
			string(all[0].DER) != string(leaf.Raw)) {
			t.Errorf("%+v", all)
		}
		return err
	})
	if r, err := s.Replacements.Get(ctx, id); err != nil || r.Offered != leaf.SHA256 {
		t.Errorf("offered: %s, %v", r.Offered, err)
	}
	if err := s.Signers.PutUnusedAnswer(ctx, leaf.Certificate, issuance.UnusedAnswer{ReplacementID: 99},
		true); err == nil {
		t.Error("an answer of no replacement")
	}
	for i := range 25 {
		came := issuance.UnusedAnswer{ReplacementID: id, CameAt: store.At(testkit.Now.AddDate(0, 0, i+1))}
		if err := s.Signers.PutUnusedAnswer(ctx, root.Leaf(t, "x").Certificate, came, false); err != nil {
			t.Fatal(err)
		}
	}
	if all, err := s.Signers.UnusedAnswers(ctx, id); err != nil || len(all) != 20 ||
		all[0].CameAt.Before(all[19].CameAt.Time) {
		t.Errorf("%d are kept, %v", len(all), err)
	}

	strange := issuance.Unmatched{Why: "no request has its key", CameBy: "tern", CameAt: store.At(testkit.Now)}
	whole(func() error { return s.Signers.PutUnmatched(ctx, leaf.Certificate, strange) })
	whole(func() error {
		return s.Signers.PutUnmatched(ctx, leaf.Certificate, issuance.Unmatched{Why: "of an older request"})
	})
	whole(func() error {
		all, err := s.Signers.Unmatched(ctx)
		if err == nil && (len(all) != 1 || all[0].Why != "of an older request" || all[0].CameBy != "tern" ||
			string(all[0].DER) != string(leaf.Raw)) {
			t.Errorf("%+v", all)
		}
		return err
	})
	whole(func() error { return s.Signers.RemoveUnmatched(ctx, leaf.SHA256) })
	if err := s.Signers.RemoveUnmatched(ctx, leaf.SHA256); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
}

// A domain is proven from the end of its task on.
func TestProofsOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	id := pending(t, s)
	if _, _, err := s.Replacements.Advance(ctx, id, replacement.Event{Kind: replacement.WantsProof}, at); err != nil {
		t.Fatal(err)
	}
	step, err := s.Journal.BeginStep(ctx, store.Step{ReplacementID: id, Section: "proof", Name: "prove", BeganAt: at,
		Task: &store.Task{Ask: "done"}})
	if err != nil {
		t.Fatal(err)
	}
	done := store.Step{ID: step, ReplacementID: id, EndedAt: at, OK: true}
	whole(func() error {
		return s.Tasks.EndProof(ctx, done, "harbour", []string{"tidewrack.example", "quay.example"}, "tern")
	})
	if err := s.Tasks.EndProof(ctx, done, "harbour", []string{"x.example"}, "tern"); !errors.Is(err,
		store.ErrNotFound) {
		t.Errorf("ended twice: %v", err)
	}
	whole(func() error {
		all, err := s.Signers.ProvenTo(ctx, "harbour")
		if err == nil && (len(all) != 2 || all["quay.example"].By != "tern" ||
			!all["quay.example"].At.Equal(testkit.Now)) {
			t.Errorf("%+v", all)
		}
		return err
	})
	whole(func() error {
		all, err := s.Reports.Proofs(ctx)
		if err == nil && (len(all) != 2 || all[0].Domain != "quay.example") {
			t.Errorf("%+v", all)
		}
		return err
	})
}
