package store_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/testkit"
	"freshseal/store"
)

// BenchmarkIngest keeps readings of 20,000 slots that all changed, and prints their rate against bare prepared
// statements on the same tables: a row of history and the slot's row, the same columns, nothing looked up.
func BenchmarkIngest(b *testing.B) {
	const slots, atOnce = 20_000, 200
	file := filepath.Join(b.TempDir(), "freshseal.db")
	s, err := store.Open(b.Context(), file)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	for from := 0; from < slots; from += 2000 {
		var rows []store.NewDevice
		for i := from; i < from+2000; i++ {
			d := store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%d.tidewrack.example", i),
				Site: fmt.Sprintf("site %02d", i%20), Owner: fmt.Sprintf("owner %d", i%50), Address: "192.0.2.1"}}
			d.Settings.V, d.Tags.V = map[string]string{}, []string{}
			d.Slots = []store.Slot{{Name: "web", Address: d.Address, Port: 443, Protocol: "tls", ServerName: d.Name}}
			rows = append(rows, d)
		}
		if err := s.Devices.Add(b.Context(), rows); err != nil {
			b.Fatal(err)
		}
	}
	all, err := s.Slots.List(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	at := testkit.Now
	ingest := func(round int) time.Duration {
		at = at.Add(time.Minute)
		begun := time.Now()
		for from := 0; from < slots; from += atOnce {
			var readings []store.NewReading
			for _, slot := range all[from : from+atOnce] {
				slot.ReadAt, slot.Base, slot.NotAfter = store.At(at), due.Fresh,
					store.At(at.AddDate(0, 0, int(slot.ID)%700+round))
				slot.DueFrom, slot.OverdueFrom = store.At(slot.NotAfter.AddDate(0, -1, 0)),
					store.At(slot.NotAfter.AddDate(0, 0, -9))
				slot.Chain.V, slot.Above.V = []string{fmt.Sprintf("%064x", round*slots+int(slot.ID))}, []string{}
				readings = append(readings, store.NewReading{Slot: slot})
			}
			if late, err := s.Readings.Add(b.Context(), readings); err != nil || len(late) > 0 {
				b.Fatal(late, err)
			}
		}
		return time.Since(begun)
	}
	raw, err := sql.Open("sqlite", "file:"+file+
		"?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(1)")
	if err != nil {
		b.Fatal(err)
	}
	defer raw.Close()
	bare := func(round int) time.Duration {
		at = at.Add(time.Minute)
		begun := time.Now()
		for from := 0; from < slots; from += atOnce {
			tx, err := raw.Begin()
			if err != nil {
				b.Fatal(err)
			}
			history, err := tx.Prepare(`INSERT INTO reading (slot_id, at, chain, version, suite, failure)
				VALUES (?, ?, ?, 'TLS 1.3', '', 'null')`)
			if err != nil {
				b.Fatal(err)
			}
			set, err := tx.Prepare(`UPDATE slot SET read_at = ?, chain = ?, version = ?, suite = ?, remarks = ?,
				closer = ?, look_at = ?, next_at = ?, misses = ?, failure = ?, subject = ?, self_signed = ?,
				not_before = ?,
				not_after = ?, others = ?, search_text = ?, findings = ?, above = ?, base = ?, overdue_from = ?,
				due_from = ?, condition = ?, turns_at = ? WHERE id = ?`)
			if err != nil {
				b.Fatal(err)
			}
			for _, slot := range all[from : from+atOnce] {
				ends := at.AddDate(0, 0, int(slot.ID)%700+round)
				chain := fmt.Sprintf(`["%064x"]`, round*slots+int(slot.ID))
				_, err1 := history.Exec(slot.ID, at.UnixMilli(), chain)
				_, err2 := set.Exec(at.UnixMilli(), chain, "", "", "null", "null", 0, 0, 0, "null", "", false, 0,
					ends.UnixMilli(), "null", "", "null", chain, "fresh", ends.AddDate(0, 0, -9).UnixMilli(),
					ends.AddDate(0, -1, 0).UnixMilli(), "fresh", ends.UnixMilli(), slot.ID)
				if err1 != nil || err2 != nil {
					b.Fatal(err1, err2)
				}
			}
			if _, err := tx.Exec(`DELETE FROM stale_slot`); err != nil {
				b.Fatal(err)
			}
			if err := tx.Commit(); err != nil {
				b.Fatal(err)
			}
		}
		return time.Since(begun)
	}
	ingest(1)
	var ours, limit time.Duration
	for round := 2; b.Loop(); round += 2 {
		limit += bare(round)
		ours += ingest(round + 1)
	}
	b.ReportMetric(float64(limit)/float64(ours), "x-bare")
	b.ReportMetric(float64(b.N*slots)/ours.Seconds(), "readings/s")
}
