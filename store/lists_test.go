package store_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/testkit"
	"freshseal/store"
)

// Devices come, move to another site, get other families, are read, turn by time and go, in any order:
// what lists and counts are made from says the same as the slots themselves, after each step.
func TestListsAndCountsFollowEveryChange(t *testing.T) {
	file := filepath.Join(t.TempDir(), "freshseal.db")
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Close() }()
	random := rand.New(rand.NewPCG(3, 5))
	now := testkit.Now
	next := 0
	did := map[string]int{}
	for step := range 200 {
		all, err := s.Slots.List(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		what := []string{"add", "move", "read", "read", "pass", "remove slot", "remove", "judge", "install", "fail",
			"give up", "open again"}[random.IntN(12)]
		if len(all) == 0 {
			what = "add"
		}
		did[what]++
		switch {
		case what == "add":
			next++
			d := store.NewDevice{Device: store.Device{Name: fmt.Sprint("box-", next),
				Site: fmt.Sprint("site ", random.IntN(3)), Family: fmt.Sprint("family-", random.IntN(2)),
				Owner: "owner", Address: "192.0.2.1"}}
			d.Settings.V, d.Tags.V = map[string]string{}, []string{"tag"}
			for i := range 1 + random.IntN(3) {
				d.Slots = append(d.Slots, store.Slot{Name: fmt.Sprint("slot-", i), Address: "192.0.2.1",
					Port: 443 + i, Protocol: "tls"})
			}
			err = s.Devices.Add(t.Context(), []store.NewDevice{d})
		case what == "move":
			d, missing := s.Devices.Get(t.Context(), all[random.IntN(len(all))].Device)
			d.Site, d.Family, d.Owner = fmt.Sprint("site ", random.IntN(3)), fmt.Sprint("family-", random.IntN(2)),
				fmt.Sprint("owner ", random.IntN(2))
			if err = missing; err == nil {
				err = s.Devices.Change(t.Context(), store.DeviceEdit{Device: d, Known: d.Revision})
			}
		case what == "read":
			slot := all[random.IntN(len(all))]
			slot.ReadAt, slot.NotAfter, slot.Base = store.At(now), store.At(now.AddDate(0, 0, random.IntN(60)-10)),
				[]due.Condition{due.Fresh, due.Factory, due.Unreachable}[random.IntN(3)]
			slot.OverdueFrom, slot.DueFrom = store.At(slot.NotAfter.AddDate(0, 0, -5)),
				store.At(slot.NotAfter.AddDate(0, 0, -20))
			if slot.Base == due.Unreachable {
				slot.NotAfter = store.Moment{}
			}
			_, err = s.Readings.Add(t.Context(), []store.NewReading{{Slot: slot}})
		case what == "judge":
			for i := range all {
				all[i].Base = []due.Condition{due.Fresh, due.Flawed}[random.IntN(2)]
			}
			err = s.Readings.SetJudgements(t.Context(), all, store.At(now))
		case what == "install":
			err = s.Slots.SetInstalled(t.Context(), all[random.IntN(len(all))].ID, strings.Repeat("ab", 32),
				fmt.Sprint("signer ", random.IntN(2)), store.At(now))
		case what == "fail": // all or nothing: the first of them is no device either
			d := store.NewDevice{Device: store.Device{Name: "half", Address: "192.0.2.1"},
				Slots: []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443}}}
			d.Settings.V, d.Tags.V = map[string]string{}, []string{}
			twin := d
			twin.Name = all[0].Device
			if err = s.Devices.Add(t.Context(), []store.NewDevice{d, twin}); errors.Is(err, store.ErrTaken) {
				err = nil
			}
		case what == "give up":
			ctx, cancel := context.WithCancel(t.Context())
			go cancel() // before, in the middle, or after
			s.Devices.Remove(ctx, all[random.IntN(len(all))].Device)
		case what == "open again":
			if err = s.Close(); err == nil {
				s, err = store.Open(t.Context(), file)
			}
		case what == "pass":
			now = now.Add(time.Duration(random.IntN(100)) * time.Hour)
		case what == "remove slot":
			err = s.Slots.Remove(t.Context(), all[random.IntN(len(all))])
		default:
			err = s.Devices.Remove(t.Context(), all[random.IntN(len(all))].Device)
		}
		if err != nil {
			t.Fatal(step, what, err)
		}
		agree(t, s, store.At(now), fmt.Sprint(step, " ", what))
	}
	if len(did) != 11 {
		t.Errorf("only %v was done", did)
	}
}

// agree compares what lists and counts say with the slots themselves.
func agree(t *testing.T, s *store.Store, now store.Moment, after string) {
	t.Helper()
	if err := s.Slots.Turn(t.Context(), now); err != nil {
		t.Fatal(err)
	}
	counts, bySite := s.Slots.CountConditions(), s.Slots.CountBySite()
	slots, err := s.Slots.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	want, wantSite, worst, soonest := map[due.Condition]int{}, map[string]int{}, map[string]int{},
		map[string]time.Time{}
	for _, slot := range slots {
		want[slot.Condition]++
		wantSite[fmt.Sprint(slot.Site, slot.Condition)]++
		if known, ok := worst[slot.Device]; !ok || slot.Condition.Rank() < known {
			worst[slot.Device] = slot.Condition.Rank()
		}
		if end := slot.NotAfter.Time; !end.IsZero() &&
			(soonest[slot.Device].IsZero() || end.Before(soonest[slot.Device])) {
			soonest[slot.Device] = end
		}
	}
	got := map[string]int{}
	for _, row := range bySite {
		got[fmt.Sprint(row.Site, row.Condition)] = row.Count
	}
	if fmt.Sprint(counts) != fmt.Sprint(want) || fmt.Sprint(got) != fmt.Sprint(wantSite) {
		t.Fatalf("after %s: %v and %v, not %v and %v", after, counts, got, want, wantSite)
	}
	devices, _, err := s.Devices.Page(t.Context(), store.DeviceFilter{},
		store.Page{Sort: "expires_at", Most: 1000})
	if err != nil {
		t.Fatal(err)
	}
	owner := map[string]string{}
	for _, d := range devices {
		owner[d.Name] = d.Owner
	}
	if !slices.IsSortedFunc(devices, func(x, y store.Device) int { return soonest[x.Name].Compare(soonest[y.Name]) }) {
		t.Fatalf("after %s: devices are not in the order of their first ends", after)
	}
	for rank, condition := range due.Conditions {
		have := 0
		for _, w := range worst {
			if w == rank {
				have++
			}
		}
		if n := s.Devices.Count(store.DeviceFilter{Condition: condition}); n != have {
			t.Fatalf("after %s: %d devices are %s, not %d", after, n, condition, have)
		}
	}
	// Pages of three, whatever the sort and the filters, are the whole list without a gap.
	for _, f := range []store.SlotFilter{{}, {Site: "site 1"}, {Family: "family-0", Condition: due.Factory},
		{Owner: "owner 1", Site: "site 2"}} {
		n := s.Slots.Count(now, f)
		for _, sort := range []string{"condition", "expires_at", "device", "site", "address"} {
			seen := map[int64]bool{}
			for p := (store.Page{Sort: sort, Most: 3}); ; {
				rows, next, err := s.Slots.Page(t.Context(), now, f, p)
				if err != nil {
					t.Fatal(err)
				}
				for _, row := range rows {
					seen[row.ID] = true
				}
				if p.After = next; next == "" {
					break
				}
			}
			if len(seen) != n {
				t.Fatalf("after %s: %d slots of %d by %s with %+v", after, len(seen), n, sort, f)
			}
		}
	}
	// What is searched is found, and nothing that has gone or is called otherwise by now.
	for _, text := range []string{"box-1", "BOX-2/slot-1", "site 1", "owner 1", "nowhere", "%", "192.0.2.1"} {
		rows, _, err := s.Slots.Page(t.Context(), now, store.SlotFilter{Text: text}, store.Page{Most: 1000})
		if err != nil {
			t.Fatal(err)
		}
		n := s.Slots.Count(now, store.SlotFilter{Text: text})
		hits := 0
		for _, slot := range slots {
			if strings.Contains(strings.ToLower(slot.Device+"/"+slot.Name+" "+slot.Site+" "+slot.Address+" "+
				owner[slot.Device]), strings.ToLower(text)) {
				hits++
			}
		}
		if len(rows) != hits || n != hits {
			t.Fatalf("after %s: %q is found %d times, counted %d times, and stands in %d slots", after, text,
				len(rows), n, hits)
		}
	}
	rows, total, err := s.Slots.Due(t.Context(), now, "", []string{"family-1"}, 1000)
	if err != nil || total != len(rows) {
		t.Fatalf("after %s: %d are due of %d, %v", after, len(rows), total, err)
	}
	if fresh := want[due.Fresh] + want[due.Unreachable]; total != len(slots)-fresh {
		t.Fatalf("after %s: %d are due of %d slots, and %d are fresh or unreachable", after, total, len(slots), fresh)
	}
	wrong := func(r store.DueRow) int {
		if condition := r.Condition; r.LocksOut && (condition == due.Expired || !r.OverdueFrom.IsZero() &&
			r.OverdueFrom.Before(now.Time)) {
			return -1
		}
		return slices.Index([]due.Condition{due.Expired, due.Unexpected, due.Flawed, due.Overdue, due.Due, due.Fresh,
			due.Factory}, r.Condition)
	}
	if !slices.IsSortedFunc(rows, func(x, y store.DueRow) int {
		if wrong(x) != wrong(y) {
			return wrong(x) - wrong(y)
		}
		return x.OverdueFrom.Compare(y.OverdueFrom.Time)
	}) {
		t.Fatalf("after %s: what is due is not in order", after)
	}
}

// Whatever characters are in the texts of users and certificates, each text stays in its own field, at once and after
// the next start.
func TestTextsStayInTheirFields(t *testing.T) {
	file := filepath.Join(t.TempDir(), "freshseal.db")
	s, err := store.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Close() }()
	const odd = "a\x1f\x1f\x00b\x1e\"]é"
	d := store.NewDevice{Device: store.Device{Name: "box", Site: odd + "site", Owner: odd + "owner",
		Notes: odd + "notes", Cluster: odd + "cluster", Family: "family", Address: "192.0.2.1"}}
	d.Settings.V, d.Tags.V = map[string]string{}, []string{odd + "tag"}
	d.Slots = []store.Slot{{Name: "web", Address: "192.0.2.7", Port: 8443, Protocol: "tls", ServerName: odd + "name"}}
	if err := s.Devices.Add(t.Context(), []store.NewDevice{d}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	slots[0].Issuer, slots[0].SearchText, slots[0].KeyType = odd+"issuer", odd+"words", "ECDSA P-256"
	slots[0].Base, slots[0].NotAfter = due.Flawed, store.At(testkit.Now)
	if _, err := s.Readings.Add(t.Context(), []store.NewReading{{Slot: slots[0]}}); err != nil {
		t.Fatal(err)
	}
	for _, after := range []string{"at once", "after a start"} {
		for name, f := range map[string]store.SlotFilter{"key": {KeyType: "ECDSA P-256"}, "family": {Family: "family"},
			"notes": {Text: "notes"}, "words": {Text: "words"}, "server name": {Text: "name"}, "tag": {Text: "tag"},
			"cluster": {Text: "cluster"}, "address": {Text: "192.0.2.7"}, "condition": {Condition: due.Flawed}} {
			if n := s.Slots.Count(store.At(testkit.Now.AddDate(0, 0, -1)), f); n != 1 {
				t.Errorf("%s, by %s: %d slots", after, name, n)
			}
		}
		if sites := s.Slots.CountBySite(); len(sites) != 1 || !strings.HasSuffix(sites[0].Site, "site") ||
			sites[0].Condition != due.Flawed {
			t.Errorf("%s: %+v", after, sites)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if s, err = store.Open(t.Context(), file); err != nil {
			t.Fatal(err)
		}
	}
}
