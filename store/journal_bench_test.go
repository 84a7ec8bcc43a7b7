package store_test

import (
	"path/filepath"
	"testing"
	"time"

	"freshseal/core/replacement"
	"freshseal/store"
)

// What it costs that the entry of a step is on the disk before the step is done: the ratio of writing the entry to
// writing its end, which is not synced.
func BenchmarkJournal(b *testing.B) {
	db, err := store.Open(b.Context(), filepath.Join(b.TempDir(), "freshseal.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	if err := db.Devices.Add(b.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "a"},
			Slots: []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443}}}}); err != nil {
		b.Fatal(err)
	}
	slot, err := db.Slots.Get(b.Context(), "a", "web")
	if err != nil {
		b.Fatal(err)
	}
	id, err := db.Replacements.Add(b.Context(), store.Replacement{DeviceID: slot.DeviceID, SlotID: slot.ID,
		StartedAt: store.At(time.Now()), ChangedAt: store.At(time.Now())}, []int64{slot.ID},
		replacement.Progress{Stage: replacement.Survey, State: replacement.Running}, "x", nil)
	if err != nil {
		b.Fatal(err)
	}
	var begins, ends time.Duration
	for b.Loop() {
		at := time.Now()
		step, err := db.Journal.BeginStep(b.Context(), store.Step{ReplacementID: id, Section: "activate",
			Name: "step", Verb: "run", BeganAt: store.At(at)})
		if err != nil {
			b.Fatal(err)
		}
		begins += time.Since(at)
		at = time.Now()
		if err := db.Journal.EndStep(b.Context(), store.Step{ID: step, ReplacementID: id, EndedAt: store.At(at),
			OK: true}); err != nil {
			b.Fatal(err)
		}
		ends += time.Since(at)
	}
	b.ReportMetric(float64(begins)/float64(ends), "synced/unsynced")
	b.ReportMetric(float64(begins.Microseconds())/float64(b.N), "µs/begin")
}
