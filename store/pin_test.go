package store_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"
)

// sealed gives a slot a new certificate by a replacement that is carried through.
func sealed(t *testing.T, s *store.Store, slot store.Slot, old, new *cert.Certificate) int64 {
	t.Helper()
	id, err := s.Replacements.Add(t.Context(), store.Replacement{DeviceID: slot.DeviceID, SlotID: slot.ID,
		Signer: "bench", Plan: store.JSON[request.Plan]{V: request.Plan{Names: []string{"x"}}}},
		[]int64{slot.ID}, replacement.Progress{Stage: replacement.Sign, State: replacement.Running}, "procedure: x",
		nil)
	if err == nil {
		err = s.Replacements.SetOld(t.Context(), id, slot.ID, old.SHA256)
	}
	if err == nil {
		err = s.Replacements.SetPath(t.Context(), id, []*cert.Certificate{new})
	}
	for state := replacement.Running; err == nil && state != replacement.Sealed; {
		var r replacement.Progress
		row, _, failed := s.Replacements.Advance(t.Context(), id, replacement.Event{Kind: replacement.Done},
			store.At(testkit.Now))
		r, err = row.Progress(), failed
		state = r.State
	}
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// A slot's certificate is exchanged and put back again and again, with new keys and with the
// same one, and now and then somebody is told. At every moment exactly those are to be told who
// know something else than what is served, with what they know and what they need.
func TestThoseAreToldWhoKnowSomethingElse(t *testing.T) {
	s := open(t)
	root, other := testkit.Root(t, "Quay Root"), testkit.Root(t, "Mole Root")
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"},
			Slots: []store.Slot{{Name: "web"}, {Name: "eap"}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.Of(t.Context(), "gate")
	if err != nil {
		t.Fatal(err)
	}
	slot := slots[0]
	current := root.Leaf(t, "gate.tidewrack.example")
	// known, as what was read is
	if err := s.Chains.AddAuthorities(t.Context(), []*cert.Certificate{current.Certificate, root.Certificate,
		other.Certificate}); err != nil {
		t.Fatal(err)
	}
	knows, all := map[string]*cert.Certificate{}, map[string]*cert.Certificate{current.SHA256: current.Certificate,
		root.SHA256: root.Certificate, other.SHA256: other.Certificate}
	roots := map[string]*cert.Certificate{current.SHA256: root.Certificate} // by leaf
	for _, p := range []store.Pin{{Who: "booking", What: cert.PinSHA256}, {Who: "probes", What: cert.PinKey},
		{Who: "printer", What: cert.PinCertificate}, {Who: "gate", What: cert.PinRoot}} {
		p.SlotID, p.How, p.AddedBy, p.AddedAt = slot.ID, "write", "admin", store.At(testkit.Now)
		if _, err := s.Pins.Add(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Pins.Add(t.Context(), p); !errors.Is(err, store.ErrTaken) {
			t.Errorf("the same pin twice: %v", err)
		}
		knows[p.Who] = current.Certificate
	}
	pins := map[string]cert.Pin{"booking": cert.PinSHA256, "probes": cert.PinKey, "printer": cert.PinCertificate,
		"gate": cert.PinRoot}
	random := rand.New(rand.NewPCG(7, 11))
	var before testkit.Signer
	var last int64
	did := map[string]int{}
	for round := range 120 {
		what := []string{"new key", "another root", "same key", "put back", "told"}[random.IntN(5)]
		switch {
		case what == "new key", what == "another root":
			signer := map[bool]testkit.Signer{true: root, false: other}[what == "new key"]
			next := signer.Leaf(t, "gate.tidewrack.example")
			roots[next.SHA256] = signer.Certificate
			before, last = current, sealed(t, s, slot, current.Certificate, next.Certificate)
			current = next
		case what == "same key":
			next := testkit.Signer{Certificate: root.Cross(t, current).Certificate, Key: current.Key}
			roots[next.SHA256] = root.Certificate
			before, last = current, sealed(t, s, slot, current.Certificate, next.Certificate)
			current = next
		case what == "put back" && last != 0:
			for _, e := range []replacement.EventKind{replacement.AskedRevert, replacement.Restored} {
				if _, _, err := s.Replacements.Advance(t.Context(), last, replacement.Event{Kind: e},
					store.At(testkit.Now)); err != nil {
					t.Fatal(err)
				}
			}
			current, last = before, 0
		case what == "told":
			open, err := s.Pins.Updates(t.Context(), 0)
			if err != nil || len(open) == 0 {
				continue
			}
			told := open[random.IntN(len(open))]
			if err := s.Pins.Confirm(t.Context(), told.ID, "admin", "", store.At(testkit.Now)); err != nil {
				t.Fatal(err)
			}
			if err := s.Pins.Confirm(t.Context(), told.ID, "tern", "", store.At(testkit.Now)); !errors.Is(err,
				store.ErrNotFound) {
				t.Errorf("told twice: %v", err)
			}
			knows[told.Who] = current.Certificate
		}
		did[what]++
		all[current.SHA256] = current.Certificate
		open, err := s.Pins.Updates(t.Context(), 0)
		if err != nil {
			t.Fatal(err)
		}
		got, want := map[string]string{}, map[string]string{}
		for _, o := range open {
			got[o.Who] = o.What.Of(all[o.OldSHA256]) + " " + o.What.Of(all[o.NewSHA256])
		}
		for who, known := range knows {
			new := current.Certificate
			if pins[who] == cert.PinRoot {
				known, new = roots[known.SHA256], roots[new.SHA256]
			}
			if old, new := pins[who].Of(known), pins[who].Of(new); old != new {
				want[who] = old + " " + new
			}
		}
		if len(open) != len(got) || fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("round %d, %s: to be told are %v instead of %v", round, what, got, want)
		}
		if n, err := s.Pins.CountUpdates(t.Context()); err != nil || n != len(want) {
			t.Fatalf("%d are counted, %v", n, err)
		}
	}
	if len(did) != 5 {
		t.Errorf("only %v was tried", did)
	}
	if other, err := s.Pins.List(t.Context(), slots[1].ID); err != nil || len(other) != 0 {
		t.Errorf("another slot's pins are %v, %v", other, err)
	}
}

// One replacement serves two slots, of which the first has the new root already: those who pinned the root of the
// second are told all the same, once, however often the gate is looked at.
func TestARootIsToldForEachSlotOfAReplacement(t *testing.T) {
	s := open(t)
	root, other := testkit.Root(t, "Quay Root"), testkit.Root(t, "Mole Root")
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"},
			Slots: []store.Slot{{Name: "web"}, {Name: "eap"}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.Of(t.Context(), "gate")
	if err != nil {
		t.Fatal(err)
	}
	next := other.Leaf(t, "gate.tidewrack.example").Certificate
	olds := []*cert.Certificate{other.Leaf(t, "gate.tidewrack.example").Certificate,
		root.Leaf(t, "gate.tidewrack.example").Certificate}
	if err := s.Chains.AddAuthorities(t.Context(), []*cert.Certificate{olds[0], olds[1], root.Certificate,
		other.Certificate}); err != nil {
		t.Fatal(err)
	}
	id, err := s.Replacements.Add(t.Context(), store.Replacement{DeviceID: slots[0].DeviceID, SlotID: slots[0].ID,
		Signer: "bench"},
		[]int64{slots[0].ID, slots[1].ID}, replacement.Progress{Stage: replacement.Sign, State: replacement.Running},
		"procedure: x", nil)
	if err == nil {
		err = s.Replacements.SetPath(t.Context(), id, []*cert.Certificate{next})
	}
	for i, slot := range slots {
		if err == nil {
			err = s.Replacements.SetOld(t.Context(), id, slot.ID, olds[i].SHA256)
		}
		if err == nil {
			_, err = s.Pins.Add(t.Context(), store.Pin{SlotID: slot.ID, Who: "printer of " + slot.Name,
				What: cert.PinRoot, How: "write", AddedBy: "admin", AddedAt: store.At(testkit.Now)})
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if pending, err := s.Pins.TellRoots(t.Context(), id, store.At(testkit.Now)); err != nil || pending != 1 {
			t.Errorf("%d are to be told, %v", pending, err)
		}
	}
	open, err := s.Pins.Updates(t.Context(), 0)
	if err != nil || len(open) != 1 || open[0].Who != "printer of "+slots[1].Name || open[0].NewSHA256 != other.SHA256 {
		t.Errorf("to be told are %+v, %v", open, err)
	}
}
