package store_test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/testkit"
	"freshseal/store"
)

// fleetOf fills a database with devices of one slot each, spread over sites, families, owners and
// conditions as a large fleet is, with ten readings of each slot in the history.
func fleetOf(b *testing.B, devices int) *store.Store {
	b.Helper()
	file := filepath.Join(b.TempDir(), "freshseal.db")
	s, err := store.Open(b.Context(), file)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { s.Close() })
	random := rand.New(rand.NewPCG(7, 11))
	for from := 0; from < devices; from += 2000 {
		var rows []store.NewDevice
		for i := from; i < from+2000; i++ {
			d := store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%06d-%d.tidewrack.example",
				random.IntN(1e6), i), Site: fmt.Sprintf("site %02d", random.IntN(20)),
				Family: fmt.Sprintf("family-%d", random.IntN(12)),
				Owner:  fmt.Sprintf("owner %d", random.IntN(50)), Address: fmt.Sprintf("10.%d.%d.%d", random.IntN(250),
					random.IntN(250), random.IntN(250))}}
			d.Settings.V, d.Tags.V = map[string]string{}, []string{fmt.Sprintf("tag%d", random.IntN(30))}
			d.Slots = []store.Slot{{Name: "web", Address: d.Address, Port: 443, Protocol: "tls", ServerName: d.Name}}
			rows = append(rows, d)
		}
		if err := s.Devices.Add(b.Context(), rows); err != nil {
			b.Fatal(err)
		}
	}
	var readings []store.NewReading
	all, err := s.Slots.List(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	for i, slot := range all {
		slot.ReadAt, slot.NotAfter = store.At(testkit.Now),
			store.At(testkit.Now.Add(time.Duration(random.IntN(700*24)-20*24)*time.Hour))
		slot.Base, slot.DueFrom, slot.OverdueFrom = due.Fresh, store.At(slot.NotAfter.AddDate(0, -1, 0)),
			store.At(slot.NotAfter.AddDate(0, 0, -9))
		switch n := random.IntN(100); {
		case n < 2:
			slot.Base = due.Unreachable
		case n < 30:
			slot.Base = due.Factory
		case n < 35:
			slot.Base = due.Flawed
		}
		slot.Chain.V = []string{fmt.Sprintf("%064x", i)}
		if readings = append(readings, store.NewReading{Slot: slot}); len(readings) == 1000 || i == len(all)-1 {
			if _, err := s.Readings.Add(b.Context(), readings); err != nil {
				b.Fatal(err)
			}
			readings = readings[:0]
		}
	}
	raw, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(5000)")
	if err != nil {
		b.Fatal(err)
	}
	defer raw.Close()
	if _, err := raw.Exec(`INSERT INTO reading (slot_id, at, chain, version, suite, failure)
		SELECT slot.id, slot.read_at - n * 86400000, slot.chain, 'TLS 1.2', '', 'null'
		FROM slot, (WITH RECURSIVE c (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 9) SELECT n FROM c)`); err != nil {
		b.Fatal(err)
	}
	return s
}

// BenchmarkLists reads pages of 50 of a fleet of 100,000, of which 1,000,000 readings are kept: every sort, with
// every filter and their pairs, at both ends and in the middle, with hits and without. It prints the slowest kinds of
// page.
func BenchmarkLists(b *testing.B) {
	s := fleetOf(b, 100_000)
	now := store.At(testkit.Now)
	filters := map[string]store.SlotFilter{
		"all": {}, "site": {Site: "site 07"}, "family": {Family: "family-3"}, "owner": {Owner: "owner 9"},
		"condition": {Condition: due.Flawed}, "rare condition": {Condition: due.Expired},
		"no condition": {Condition: due.Unexpected}, "month": {Ends: "2026-09"}, "device": {Device: "box-nobody"},
		"signer": {Signer: "nobody"}, "no site": {Site: "nowhere"}, "tag": {Tag: "tag4"},
		"site, condition":   {Site: "site 07", Condition: due.Factory},
		"family, condition": {Family: "family-3", Condition: due.Flawed},
		"site, family":      {Site: "site 07", Family: "family-3"},
		"text, one hit":     {Text: "box-000777-"}, "text, none": {Text: "nowhere at all"},
		"text, all": {Text: "tidewrack"}, "text, site": {Text: "tidewrack", Site: "site 07"},
		"text, 1 of 10": {Text: "box-0"},
		"owner, site":   {Owner: "owner 9", Site: "site 01"}, "site, month": {Site: "site 07", Ends: "2026-09"},
		"family, nothing": {Family: "family-3", Condition: due.Unexpected},
	}
	type kind struct {
		name  string
		times []time.Duration
	}
	var kinds []kind
	for b.Loop() {
		kinds = nil
		look := func(name string, page func() error) {
			k := kind{name: name}
			for range 7 {
				begun := time.Now()
				if err := page(); err != nil {
					b.Fatal(name, err)
				}
				k.times = append(k.times, time.Since(begun))
			}
			slices.Sort(k.times)
			kinds = append(kinds, k)
		}
		for _, sort := range []string{"condition", "expires_at", "device", "site", "address"} {
			_, middle, err := s.Slots.Page(b.Context(), now, store.SlotFilter{}, store.Page{Sort: sort, Most: 30_000})
			if err != nil {
				b.Fatal(err)
			}
			for name, filter := range filters {
				for end, p := range map[string]store.Page{"first": {Sort: sort, Most: 50},
					"last": {Sort: sort, Desc: true, Most: 50}, "middle": {Sort: sort, After: middle, Most: 50}} {
					look(fmt.Sprintf("slots by %s, %s, %s", sort, name, end), func() error {
						_, _, err := s.Slots.Page(b.Context(), now, filter, p)
						return err
					})
				}
			}
		}
		for _, sort := range []string{"name", "condition", "expires_at", "site", "family", "address"} {
			for name, filter := range map[string]store.DeviceFilter{"all": {}, "site": {Site: "site 07"},
				"condition": {Condition: due.Flawed}, "no condition": {Condition: due.Unexpected},
				"family, owner": {Family: "family-3", Owner: "owner 9"}} {
				look(fmt.Sprintf("devices by %s, %s", sort, name), func() error {
					_, _, err := s.Devices.Page(b.Context(), filter, store.Page{Sort: sort, Most: 50})
					return err
				})
			}
		}
		look("a slot's history", func() error { _, err := s.Readings.Of(b.Context(), 50_000, 200); return err })
		look("counts", func() error { s.Slots.CountConditions(); return nil })
		look("facets", func() error { s.Slots.Facets(); return nil })
		look("due", func() error { _, _, err := s.Slots.Due(b.Context(), now, "", nil, 50); return err })
	}
	p50 := func(k kind) time.Duration { return k.times[len(k.times)/2] }
	slices.SortFunc(kinds, func(x, y kind) int { return int(p50(y) - p50(x)) })
	over := 0
	for _, k := range kinds {
		if p50(k) > 10*time.Millisecond {
			over++
		}
	}
	slowest := "the slowest"
	for _, k := range kinds[:min(40, len(kinds))] {
		slowest += fmt.Sprintf("\n%6.1f ms  %s", float64(p50(k).Microseconds())/1000, k.name)
	}
	b.Log(slowest)
	b.ReportMetric(float64(len(kinds)), "kinds-of-page")
	b.ReportMetric(float64(over), "over-10-ms")
	b.ReportMetric(float64(p50(kinds[len(kinds)/2]).Microseconds())/1000, "median-ms")
}
