package chains_test

import (
	"errors"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/faulty"
)

// A certificate is found with what it was last seen with; a reading of the leaf alone takes
// nothing of that away, and a stranger is not found.
func TestACertificateIsKnownWithItsChain(t *testing.T) {
	s, _ := faulty.Open(t)
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "box.tidewrack.example", Address: "192.0.2.1"},
			Slots: []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	root := testkit.Root(t, "Tidewrack Root")
	middle := root.Below(t, "Tidewrack Issuing")
	leaf := middle.Leaf(t, "box.tidewrack.example").Certificate
	see := func(after int, served ...*cert.Certificate) {
		t.Helper()
		slot := slots[0]
		slot.ReadAt = store.At(time.Date(2026, 6, 1, 12, after, 0, 0, time.UTC))
		for _, c := range served {
			slot.Chain.V = append(slot.Chain.V, c.SHA256)
		}
		if _, err := s.Readings.Add(t.Context(), []store.NewReading{{Slot: slot, Served: served}}); err != nil {
			t.Fatal(err)
		}
	}
	for i, served := range [][]*cert.Certificate{{leaf}, {leaf, middle.Certificate}, {leaf}} {
		see(i, served...)
		found, err := s.Chains.Of(t.Context(), leaf.SHA256)
		if want := min(i+1, 2); err != nil || len(found) != want || found[0].SHA256 != leaf.SHA256 {
			t.Errorf("after reading %d: %d certificates instead of %d, %v", i+1, len(found), want, err)
		}
	}
	if _, err := s.Chains.Of(t.Context(), "00ff"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a stranger: %v", err)
	}
}
