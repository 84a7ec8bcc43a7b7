package store_test

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"

	"github.com/pressly/goose/v3"
)

func open(t *testing.T) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "data with blanks & more?.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// The list is ordered and filtered in SQL by the same rules by which core names
// a condition; whatever the slots, the two agree.
func TestTheListAgreesWithTheConditions(t *testing.T) {
	s := open(t)
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	var devices []store.NewDevice
	for i := range 300 {
		devices = append(devices,
			store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%03d.tidewrack.example", i),
				Site: fmt.Sprint("site ", i%3), Address: "192.0.2.1"},
				Slots: []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443}}})
	}
	if err := s.Devices.Add(t.Context(), devices); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	bases := []due.Condition{due.Unreachable, due.Unexpected, due.Factory, due.Flawed, due.Fresh, due.Fresh, due.Fresh}
	want := map[int64]due.Condition{}
	for _, slot := range slots {
		slot.Base = bases[rand.IntN(len(bases))]
		slot.NotAfter = store.At(now.AddDate(0, 0, rand.IntN(120)-20))
		slot.OverdueFrom, slot.DueFrom = store.At(slot.NotAfter.AddDate(0, 0, -9)),
			store.At(slot.NotAfter.AddDate(0, 0, -30))
		slot.ReadAt = store.At(now.AddDate(0, 0, -rand.IntN(40))) // conditions turn while nobody looks
		if _, err := s.Readings.Add(t.Context(), []store.NewReading{{Slot: slot}}); err != nil {
			t.Fatal(err)
		}
		want[slot.ID] = due.State{Base: slot.Base, Overdue: slot.OverdueFrom.Time,
			Due: slot.DueFrom.Time}.At(slot.NotAfter.Time, now)
	}
	if err := s.Slots.Turn(t.Context(), store.At(now)); err != nil {
		t.Fatal(err)
	}
	var seen []store.SlotRow
	for p := (store.Page{Most: 37}); ; {
		page, next, err := s.Slots.Page(t.Context(), store.At(now), store.SlotFilter{}, p)
		if err != nil {
			t.Fatal(err)
		}
		seen = append(seen, page...)
		if p.After = next; next == "" {
			break
		}
	}
	if len(seen) != len(slots) {
		t.Fatalf("the pages hold %d slots of %d", len(seen), len(slots))
	}
	if !slices.IsSortedFunc(seen, func(a, b store.SlotRow) int {
		if a.Condition != b.Condition {
			return a.Condition.Rank() - b.Condition.Rank()
		}
		return a.NotAfter.Compare(b.NotAfter.Time)
	}) {
		t.Error("the pages are not in order")
	}
	counts := map[due.Condition]int{}
	for _, row := range seen {
		if got := row.Condition; got != want[row.ID] {
			t.Errorf("a slot is %s in the list and %s by itself", got, want[row.ID])
		}
		counts[want[row.ID]]++
	}
	if byCondition := s.Slots.CountConditions(); fmt.Sprint(byCondition) != fmt.Sprint(counts) {
		t.Errorf("counts %v, want %v", byCondition, counts)
	}
	some, _, err := s.Slots.Page(t.Context(), store.At(now), store.SlotFilter{Site: "site 1", Text: "BOX-00"},
		store.Page{Most: 100, Sort: "device", Desc: true})
	if err != nil || len(some) != 3 || some[0].Device < some[2].Device {
		t.Errorf("filtered: %d, %v", len(some), err)
	}
}

// A slot has one replacement at a time, whoever asks and however quickly, and one of those of a device touches it.
func TestOneReplacementAtATime(t *testing.T) {
	s := open(t)
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate"},
			Slots: []store.Slot{{Name: "web"}, {Name: "eap"}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.Of(t.Context(), "gate")
	if err != nil {
		t.Fatal(err)
	}
	begun, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		t.Fatal(err)
	}
	results := make(chan error, 10)
	for i := range cap(results) {
		go func() {
			_, err := s.Replacements.Add(t.Context(), store.Replacement{DeviceID: slots[0].DeviceID,
				SlotID: slots[i%2].ID}, []int64{slots[i%2].ID}, begun, "procedure: x", nil)
			results <- err
		}()
	}
	made := 0
	for range cap(results) {
		switch err := <-results; {
		case err == nil:
			made++
		case !errors.Is(err, store.ErrTaken):
			t.Error(err)
		}
	}
	if made != 2 {
		t.Fatalf("%d replacements of two slots were begun at once", made)
	}
	var at error
	for id := int64(1); id <= 2; id++ {
		for range 4 { // survey, request, sign, gate
			_, _, at = s.Replacements.Advance(t.Context(), id, replacement.Event{Kind: replacement.Done},
				store.At(time.Now()))
		}
	}
	first, err := s.Replacements.Get(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if second, err := s.Replacements.Get(t.Context(), 2); err != nil || first.Stage != replacement.Backup ||
		second.Stage != replacement.Gate || !errors.Is(at, store.ErrTaken) {
		t.Errorf("one is in %s and one in %s, %v, %v", first.Stage, second.Stage, at, err)
	}
	// Events that do not fit change nothing.
	if _, _, err := s.Replacements.Advance(t.Context(), 1, replacement.Event{Kind: replacement.Arrived},
		store.At(time.Now())); err == nil {
		t.Error("what nobody waits for is taken")
	}
	if r, err := s.Replacements.Get(t.Context(), 1); err != nil || r.State != replacement.Running ||
		r.Stage != replacement.Backup {
		t.Errorf("%+v, %v", r.Progress(), err)
	}
}

// A database that a newer program wrote is not opened: columns would be missed or misread.
func TestADatabaseOfANewerProgramIsNotOpened(t *testing.T) {
	file := filepath.Join(t.TempDir(), "newer.db")
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if _, err := store.Open(t.Context(), file); !errors.Is(err, store.ErrNewer) {
			t.Fatalf("it is opened: %v", err)
		}
	}
}

// A database of the schema before is brought up to date with all that is in it; the next reading fills in what is new.
func TestADatabaseOfTheFirstSchemaIsBroughtUpToDate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "first.db")
	first, err := os.ReadFile("migrations/00001_schema.sql")
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, fstest.MapFS{"00001_schema.sql": {Data: first}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Up(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`INSERT INTO device (id, name, family, site, address, settings, added_at)
		VALUES (1, 'crane', '', '', '192.0.2.1', '{}', 0);
		INSERT INTO slot (device_id, name, address, port, protocol, server_name, condition) VALUES (1, 'web', '192.0.2.1',
		443, 'tls', '', 'fresh')`); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		s, err := store.Open(t.Context(), file)
		if err != nil {
			t.Fatal(err)
		}
		rows, _, err := s.Slots.Page(t.Context(), store.At(testkit.Now), store.SlotFilter{},
			store.Page{Sort: "issuer", Most: 10})
		if err != nil || len(rows) != 1 || rows[0].Device != "crane" || rows[0].Issuer != "" {
			t.Errorf("the slots are %+v, %v", rows, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
