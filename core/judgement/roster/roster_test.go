package roster_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"
)

// fleet is what a roster was told, as plain lists.
type fleet struct {
	devices map[int64]roster.Device
	slots   map[int64]roster.Slot
}

// rows are the slots with their devices, sorted the slow way.
func (f fleet) rows(sort string, desc bool, fits func(roster.Slot, roster.Device) bool) (ids []int64) {
	var all []roster.Slot
	for _, s := range f.slots {
		if fits(s, f.devices[s.Device]) {
			all = append(all, s)
		}
	}
	slices.SortFunc(all, func(x, y roster.Slot) int {
		dx, dy := f.devices[x.Device], f.devices[y.Device]
		names := cmp.Or(strings.Compare(dx.Name, dy.Name), strings.Compare(x.Name, y.Name))
		return map[string]int{
			"condition":  cmp.Or(x.Rank-y.Rank, cmp.Compare(x.NotAfter, y.NotAfter), cmp.Compare(x.ID, y.ID)),
			"expires_at": cmp.Or(cmp.Compare(x.NotAfter, y.NotAfter), cmp.Compare(x.ID, y.ID)),
			"device":     names,
			"site":       cmp.Or(strings.Compare(dx.Site, dy.Site), names),
			"address":    cmp.Or(strings.Compare(x.Address, y.Address), x.Port-y.Port, cmp.Compare(x.ID, y.ID)),
		}[sort]
	})
	if desc {
		slices.Reverse(all)
	}
	for _, s := range all {
		ids = append(ids, s.ID)
	}
	return ids
}

// walk reads a whole list in pages, each from the values of the last, which went through a cursor.
func walk(t *testing.T, most int, page func(roster.Order) (roster.Page, error), by roster.Order) (ids []int64) {
	t.Helper()
	by.Most = most
	for {
		p, err := page(by)
		if err != nil {
			t.Fatal(err)
		}
		if ids = append(ids, p.IDs...); len(p.IDs) < most {
			return ids
		}
		text, err := json.Marshal(p.Last)
		if err != nil {
			t.Fatal(err)
		}
		by.After = nil
		json.Unmarshal(text, &by.After)
	}
}

// Devices and slots come, change and go; every list, in every order, is what sorting them all gives, and pages follow
// each other without a gap. Rows on which a page ended may be gone when the next one is asked for.
func TestPagesAreTheSortedList(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	some := func(what string, n int) string { return fmt.Sprint(what, random.IntN(n)) }
	f, r := fleet{map[int64]roster.Device{}, map[int64]roster.Slot{}}, roster.New()
	var next int64
	once := func(of int) bool { return random.IntN(of) == 0 }
	for step := range 60 {
		var c roster.Change
		for id := range f.devices {
			switch {
			case once(20):
				c.GoneDevices = append(c.GoneDevices, id)
				delete(f.devices, id)
				for slot, s := range f.slots {
					if s.Device == id {
						c.GoneSlots = append(c.GoneSlots, slot)
						delete(f.slots, slot)
					}
				}
			case once(8):
				d := f.devices[id]
				d.Name, d.Site, d.Address = some("box-", 1000)+fmt.Sprint("-", id), some("site ", 4),
					some("192.0.2.", 9)
				d.Words = d.Name + " " + d.Site
				f.devices[id] = d
				c.Devices = append(c.Devices, d)
			}
		}
		for id, s := range f.slots {
			switch {
			case once(20):
				c.GoneSlots = append(c.GoneSlots, id)
				delete(f.slots, id)
			case once(4):
				s.Rank, s.NotAfter, s.Address, s.Signer = random.IntN(8), int64(random.IntN(30)), some("192.0.2.", 9),
					some("", 3)
				f.slots[id] = s
				c.Slots = append(c.Slots, s)
			}
		}
		for range random.IntN(12) {
			next++
			d := roster.Device{ID: next, Name: some("box-", 1000) + fmt.Sprint("-", next), Site: some("site ", 4),
				Family: []string{"", "gate", "desk"}[random.IntN(3)], Address: some("192.0.2.", 9),
				Owner: some("owner ", 3), Tags: []string{some("tag", 3), "all"}}
			d.Words = d.Name + " " + d.Site
			f.devices[d.ID] = d
			c.Devices = append(c.Devices, d)
			for i := range random.IntN(3) {
				next++
				s := roster.Slot{ID: next, Device: d.ID, Name: fmt.Sprint("slot-", i), Address: d.Address,
					Port: 443 + i, Rank: random.IntN(8), NotAfter: int64(random.IntN(30)), Words: d.Name + "/",
					Above: some("root", 3)}
				f.slots[s.ID] = s
				c.Slots = append(c.Slots, s)
			}
		}
		r.Put(c)
		lists := []struct {
			filter roster.SlotFilter
			fits   func(roster.Slot, roster.Device) bool
		}{
			{roster.SlotFilter{}, func(roster.Slot, roster.Device) bool { return true }},
			{roster.SlotFilter{Site: "site 1"}, func(_ roster.Slot, d roster.Device) bool {
				return d.Site == "site 1"
			}},
			{roster.SlotFilter{Family: "-", Tag: "tag1"}, func(_ roster.Slot, d roster.Device) bool {
				return d.Family == "" && slices.Contains(d.Tags, "tag1")
			}},
			{roster.SlotFilter{Condition: due.Conditions[2], Owner: "owner 0"},
				func(s roster.Slot, d roster.Device) bool {
					return s.Rank == 2 && d.Owner == "owner 0"
				}},
			{roster.SlotFilter{Text: "SITE 2"}, func(_ roster.Slot, d roster.Device) bool {
				return d.Site == "site 2"
			}},
			{roster.SlotFilter{Text: "root1", Signer: "1"}, func(s roster.Slot, _ roster.Device) bool {
				return s.Above == "root1" && s.Signer == "1"
			}},
			{roster.SlotFilter{Ends: "ended"}, func(s roster.Slot, _ roster.Device) bool {
				return s.NotAfter > 0 && s.NotAfter < 10
			}},
			{roster.SlotFilter{Site: "-"}, func(roster.Slot, roster.Device) bool { return false }},
		}
		for _, list := range lists {
			for _, sort := range []string{"condition", "expires_at", "device", "site", "address"} {
				for _, desc := range []bool{false, true} {
					want := f.rows(sort, desc, list.fits)
					got := walk(t, 3, func(by roster.Order) (roster.Page, error) {
						return r.Slots(list.filter, 10, by)
					}, roster.Order{Sort: sort, Desc: desc})
					if !slices.Equal(got, want) || r.CountSlots(list.filter, 10) != len(want) {
						t.Fatalf("step %d: %+v by %s, down: %v, is %v, not %v", step, list.filter, sort, desc, got,
							want)
					}
					skip := random.IntN(len(want) + 3)
					if p, err := r.Slots(list.filter, 10, roster.Order{Sort: sort, Desc: desc, Skip: skip,
						Most: 4}); err != nil ||
						!slices.Equal(p.IDs, append([]int64{}, want[min(skip, len(want)):min(skip+4, len(want))]...)) {
						t.Fatalf("step %d: behind %d rows by %s, down: %v, are %v, not of %v: %v", step, skip, sort,
							desc, p.IDs, want, err)
					}
					if len(want) < 2 {
						continue
					}
					// The page behind a row goes on there when that row is gone, and when its site has no other.
					at := random.IntN(len(want) - 1)
					p, err := r.Slots(list.filter, 10, roster.Order{Sort: sort, Desc: desc, Most: at + 1})
					if err != nil {
						t.Fatal(err)
					}
					s := f.slots[want[at]]
					r.Put(roster.Change{GoneSlots: []int64{s.ID}})
					after, _ := json.Marshal(p.Last)
					var values []any
					json.Unmarshal(after, &values)
					p, err = r.Slots(list.filter, 10, roster.Order{Sort: sort, Desc: desc, After: values, Most: 1000})
					if err != nil || !slices.Equal(p.IDs, want[at+1:]) {
						t.Fatalf("step %d: behind a row that is gone, %+v by %s, down: %v, goes on with %v, "+
							"not %v: %v", step, list.filter, sort, desc, p.IDs, want[at+1:], err)
					}
					r.Put(roster.Change{Slots: []roster.Slot{s}})
				}
			}
		}
		for _, sort := range []string{"name", "condition", "expires_at", "site", "family", "address"} {
			for _, desc := range []bool{false, true} {
				got := walk(t, 2, func(by roster.Order) (roster.Page, error) {
					return r.Devices(roster.DeviceFilter{}, by)
				}, roster.Order{Sort: sort, Desc: desc})
				if slices.Sort(got); len(slices.Compact(got)) != len(f.devices) ||
					r.CountDevices(roster.DeviceFilter{}) != len(f.devices) {
					t.Fatalf("step %d: %d of %d devices by %s, down: %v", step, len(got), len(f.devices), sort, desc)
				}
			}
		}
	}
}

// What comes in a cursor comes from outside.
func TestValuesThatAreNoneOfTheOrderAreRefused(t *testing.T) {
	r := roster.New()
	r.Put(roster.Change{Devices: []roster.Device{{ID: 1, Name: "box"}},
		Slots: []roster.Slot{{ID: 2, Device: 1, Name: "web"}}})
	for sort, values := range map[string][][]any{
		"condition": {{}, {"a", 1.0, 2.0}, {1.0, 2.0}, {1e300, 1.0, 1.0}}, "expires_at": {{1.0, "2"}},
		"device": {{"box"}, {1.0, 2.0}}, "site": {{"a", "b"}, {true, "b", "c"}},
		"address": {{1.0, 1.0, 1.0}, {"a", "b", 1.0}, {"a"}},
	} {
		for _, v := range values {
			if _, err := r.Slots(roster.SlotFilter{}, 0,
				roster.Order{Sort: sort, After: v, Most: 5}); err != roster.ErrAfter {
				t.Errorf("%v by %s: %v", v, sort, err)
			}
		}
	}
	if _, err := r.Slots(roster.SlotFilter{}, 0, roster.Order{Sort: "colour", Most: 5}); err != roster.ErrSort {
		t.Errorf("no such order: %v", err)
	}
	if _, err := r.Devices(roster.DeviceFilter{}, roster.Order{Sort: "site", After: []any{1.0, "b"},
		Most: 5}); err != roster.ErrAfter {
		t.Errorf("devices: %v", err)
	}
}

// BenchmarkPages reads pages of 50 of 100,000 slots, in the orders and with the filters that are the most work, and
// changes the roster as a fleet that is read does. It prints the slowest.
func BenchmarkPages(b *testing.B) {
	random := rand.New(rand.NewPCG(3, 4))
	var c roster.Change
	for i := range int64(100_000) {
		d := roster.Device{ID: i + 1, Name: fmt.Sprintf("box-%06d-%d.tidewrack.example", random.IntN(1e6), i),
			Site: fmt.Sprint("site ", random.IntN(20)), Family: fmt.Sprint("family-", random.IntN(12)),
			Owner: fmt.Sprint("owner ", random.IntN(50)), Address: fmt.Sprintf("10.%d.%d.%d", random.IntN(250),
				random.IntN(250), random.IntN(250)), Tags: []string{fmt.Sprint("tag", random.IntN(30))}}
		d.Words = d.Name + " " + d.Site + " " + d.Owner
		c.Devices = append(c.Devices, d)
		c.Slots = append(c.Slots, roster.Slot{ID: i + 1, Device: i + 1, Name: "web", Address: d.Address, Port: 443,
			Rank: random.IntN(8), NotAfter: int64(random.IntN(1e9)), Above: "0123456789abcdef",
			Words: d.Name + "/web " + d.Address + " " + strings.Repeat(fmt.Sprintf("%08x", random.Uint32()), 20)})
	}
	begun := time.Now()
	r := roster.New()
	r.Put(c)
	b.ReportMetric(float64(time.Since(begun).Milliseconds()), "load-ms")
	worst := map[string]time.Duration{}
	for b.Loop() {
		for _, sort := range []string{"condition", "expires_at", "device", "site", "address"} {
			for name, f := range map[string]roster.SlotFilter{"all": {}, "site": {Site: "site 7"},
				"condition": {Condition: due.Flawed}, "tag": {Tag: "tag4"}, "no text": {Text: "nowhere at all"},
				"text": {Text: "tidewrack"}} {
				for _, desc := range []bool{false, true} {
					var times []time.Duration
					for range 5 {
						begun := time.Now()
						if _, err := r.Slots(f, 0, roster.Order{Sort: sort, Desc: desc, Most: 50}); err != nil {
							b.Fatal(err)
						}
						times = append(times, time.Since(begun))
					}
					slices.Sort(times)
					worst[fmt.Sprintf("by %s, %s, down: %v", sort, name, desc)] = times[2]
				}
			}
		}
		for _, skip := range []int{50_000, 99_950} {
			begun := time.Now()
			if _, err := r.Slots(roster.SlotFilter{}, 0,
				roster.Order{Sort: "device", Skip: skip, Most: 50}); err != nil {
				b.Fatal(err)
			}
			worst[fmt.Sprintf("behind %d rows", skip)] = time.Since(begun)
		}
		begun := time.Now()
		r.Put(roster.Change{Devices: c.Devices[:1], Slots: c.Slots[:200]})
		worst["200 readings"] = time.Since(begun)
		begun = time.Now()
		r.Put(roster.Change{GoneDevices: []int64{5}})
		r.Put(roster.Change{Devices: c.Devices[4:5], Slots: c.Slots[4:5]})
		worst["a device goes and comes"] = time.Since(begun)
		begun = time.Now()
		r.Facets()
		worst["facets"] = time.Since(begun)
	}
	var names []string
	for name := range worst {
		names = append(names, name)
	}
	slices.SortFunc(names, func(x, y string) int { return int(worst[y] - worst[x]) })
	for _, name := range names[:12] {
		b.Logf("%6.2f ms  %s", float64(worst[name].Microseconds())/1000, name)
	}
	b.ReportMetric(float64(worst[names[0]].Microseconds())/1000, "slowest-ms")
	b.ReportMetric(float64(worst["200 readings"].Microseconds())/1000, "200-readings-ms")
}
