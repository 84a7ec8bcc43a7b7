package sqlite_test

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"freshseal/core/judgement/policy"
	"freshseal/store"
	"freshseal/store/faulty"
)

// Of many who change one thing that they all looked at, one succeeds.
func TestOneOfManyChangesCounts(t *testing.T) {
	s, _ := faulty.Open(t)
	margin := 3
	rules := policy.Rules{MarginDays: &margin}
	for round := range store.Revision(5) {
		var done, stale atomic.Int32
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				switch err := s.Policies.Set(t.Context(), "fleet", rules, round); {
				case err == nil:
					done.Add(1)
				case errors.Is(err, store.ErrStale):
					stale.Add(1)
				default:
					t.Error(err)
				}
			})
		}
		all.Wait()
		if done.Load() != 1 || stale.Load() != 7 {
			t.Fatalf("round %d: %d succeeded, %d were told", round, done.Load(), stale.Load())
		}
	}
	if err := s.Policies.Set(t.Context(), "fleet", rules, store.Any); err != nil {
		t.Error(err)
	}
	if known, err := s.Revisions.OfKind(t.Context(), "policy"); err != nil || known["fleet"] != 6 || len(known) != 1 {
		t.Errorf("the revisions: %v, %v", known, err)
	}
}

// A change that fails for another reason leaves the revision as it was, and one that
// is refused leaves the thing as it was.
func TestARevisionChangesWithItsThing(t *testing.T) {
	s, _ := faulty.Open(t)
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"}, Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	d, err := s.Devices.Get(t.Context(), "gate")
	if err != nil || d.Revision != 0 {
		t.Fatalf("%v, revision %d", err, d.Revision)
	}
	twice := []store.Access{{Link: "ssh", Port: 22}, {Link: "ssh", Port: 23}}
	d.Owner = "harbour office"
	if err := s.Devices.Change(t.Context(),
		store.DeviceEdit{Device: d, Access: twice, Secrets: map[string][]byte{"device/gate/password": {1}},
			Known: d.Revision}); !errors.Is(err, store.ErrTaken) {
		t.Fatalf("two ways over one link: %v", err)
	}
	if now, _ := s.Devices.Get(t.Context(), "gate"); now.Revision != 0 || now.Owner != "" {
		t.Errorf("half of a change stayed: %+v", now)
	}
	if _, err := s.Secrets.Get(t.Context(), "device/gate/password"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a secret of a change that failed: %v", err)
	}
	if err := s.Devices.Change(t.Context(), store.DeviceEdit{Device: d, Access: twice[:1],
		Secrets: map[string][]byte{"device/gate/password": {1}}, Known: d.Revision}); err != nil {
		t.Fatal(err)
	}
	d.Owner = "ticket office"
	if err := s.Devices.Change(t.Context(), store.DeviceEdit{Device: d, Gone: []string{"device/gate/password"},
		Known: d.Revision}); !errors.Is(err, store.ErrStale) {
		t.Errorf("the second change: %v", err)
	}
	now, _ := s.Devices.Get(t.Context(), "gate")
	access, _ := s.Devices.Access(t.Context(), now.ID)
	if now.Owner != "harbour office" || now.Revision != 1 || len(access[now.ID]) != 1 {
		t.Errorf("after a change that was refused: %+v, %+v", now, access)
	}
	if _, err := s.Secrets.Get(t.Context(), "device/gate/password"); err != nil {
		t.Errorf("the secret after a change that was refused: %v", err)
	}
	// The number goes on when the name is used again.
	if err := s.Devices.Remove(t.Context(), "gate"); err != nil {
		t.Fatal(err)
	}
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"}, Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	if again, _ := s.Devices.Get(t.Context(), "gate"); again.Revision != 2 {
		t.Errorf("a new device of the name has revision %d", again.Revision)
	}
}
