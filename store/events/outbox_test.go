package events_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/store"
	"freshseal/store/events"
	"freshseal/store/faulty"
)

// Who listens is woken by every change with an event, and by no other; what is rolled
// back is not told of.
func TestWhoListensIsWokenByEvents(t *testing.T) {
	s, _ := faulty.Open(t)
	woken, leave := s.Outbox.Listen()
	defer leave()
	is := func() bool {
		select {
		case <-woken:
			return true
		default:
			return false
		}
	}
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"}, Slots: []store.Slot{{Name: "web"}}}}); err != nil ||
		is() {
		t.Fatalf("a device was added: %v, and somebody was woken", err)
	}
	if err := s.Outbox.Act(t.Context(), store.At(time.Now()), "admin", "add a device", "/devices"); err != nil ||
		!is() || is() {
		t.Fatalf("an act: %v, and nobody was woken, or twice", err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if err := s.Outbox.Act(ended, store.At(time.Now()), "admin", "x", "y"); err == nil || is() {
		t.Fatalf("an act of a call that has ended: %v", err)
	}
	happened, err := s.Outbox.Events(t.Context(), "", 0)
	if err != nil || len(happened) != 1 || happened[0].Who != "admin" || happened[0].Kind != "act" {
		t.Fatalf("the events: %+v, %v", happened, err)
	}
	if entries, _, err := s.Audit.Page(t.Context(), events.AuditFilter{}, store.Page{Most: 10}); err != nil ||
		len(entries) != 1 || entries[0].What != "add a device" {
		t.Errorf("the audit log: %+v, %v", entries, err)
	}
	if n, err := s.Audit.Verify(t.Context()); err != nil || n != 1 {
		t.Errorf("the audit log verifies %d entries: %v", n, err)
	}
}

// A slot's condition is reported when it becomes another one: by a reading, by another
// judgement, and by time alone.
func TestAConditionThatTurnsIsTold(t *testing.T) {
	s, _ := faulty.Open(t)
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"}, Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	slot, err := s.Slots.Get(t.Context(), "gate", "web")
	if err != nil {
		t.Fatal(err)
	}
	read := func(base due.Condition, at time.Time) {
		t.Helper()
		slot.Base, slot.ReadAt = base, store.At(at)
		slot.NotAfter, slot.DueFrom, slot.OverdueFrom = store.At(now.AddDate(0, 0, 60)),
			store.At(now.AddDate(0, 0, 30)), store.At(now.AddDate(0, 0, 50))
		if late, err := s.Readings.Add(t.Context(), []store.NewReading{{Slot: slot}}); err != nil || len(late) > 0 {
			t.Fatal(late, err)
		}
	}
	read(due.Factory, now) // the first reading is no turn: nothing was known before
	read(due.Factory, now.Add(time.Minute))
	read(due.Fresh, now.Add(2*time.Minute))
	flawed := slot
	flawed.Base = due.Flawed
	if err := s.Readings.SetJudgements(t.Context(), []store.Slot{flawed},
		store.At(now.Add(3*time.Minute))); err != nil {
		t.Fatal(err)
	}
	read(due.Fresh, now.Add(4*time.Minute))
	if err := s.Slots.Turn(t.Context(), store.At(now.AddDate(0, 0, 31))); err != nil {
		t.Fatal(err)
	}
	events, err := s.Outbox.Events(t.Context(), "slot/gate/web", 0)
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, e := range events {
		told = append(told, e.State+" "+e.Text)
	}
	if got, want := strings.Join(told, "; "),
		"fresh was factory; flawed was fresh; fresh was flawed; due was fresh"; got != want {
		t.Errorf("told: %s\nwant: %s", got, want)
	}
	if err := s.Outbox.Forget(t.Context(), store.At(now.AddDate(0, 0, 1))); err != nil {
		t.Fatal(err)
	}
	left, _ := s.Outbox.Events(t.Context(), "", 0)
	before, _ := s.Outbox.LastEvent(t.Context())
	if err := s.Outbox.Act(t.Context(), store.At(now), "admin", "x", "y"); err != nil {
		t.Fatal(err)
	}
	if after, _ := s.Outbox.LastEvent(t.Context()); len(left) != 1 || after <= before || after != int64(len(events)+1) {
		t.Errorf("%d are left; the next number is %d after %d", len(left), after, before)
	}
}
