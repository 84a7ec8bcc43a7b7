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

// addresses are in the order in which lists sort them: by number, IPv4 first, and names behind them.
var addresses = []string{"0.0.0.1", "9.0.0.1", "10.0.0.9", "10.0.0.10", "192.0.2.200", "::1", "fd00::2", "fd00::a",
	"fd00::10", "10.example", "box.example", "fd.example"}

func inOrder(address string) int { return slices.Index(addresses, address) }

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
			"act_by":     cmp.Or(cmp.Compare(x.Overdue, y.Overdue), cmp.Compare(x.ID, y.ID)),
			"issuer":     cmp.Or(strings.Compare(x.Issuer, y.Issuer), names),
			"key_type":   cmp.Or(strings.Compare(x.KeyType, y.KeyType), names),
			"signature":  cmp.Or(strings.Compare(x.Signature, y.Signature), names),
			"finding":    cmp.Or(strings.Compare(x.Finding, y.Finding), names),
			"address": cmp.Or(cmp.Compare(inOrder(x.Address), inOrder(y.Address)), x.Port-y.Port,
				cmp.Compare(x.ID, y.ID)),
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
					addresses[random.IntN(len(addresses))]
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
				s.Rank, s.NotAfter, s.Address, s.Signer = random.IntN(8), int64(random.IntN(30)),
					addresses[random.IntN(len(addresses))],
					some("", 3)
				f.slots[id] = s
				c.Slots = append(c.Slots, s)
			}
		}
		for range random.IntN(12) {
			next++
			d := roster.Device{ID: next, Name: some("box-", 1000) + fmt.Sprint("-", next), Site: some("site ", 4),
				Family: []string{"", "gate", "desk"}[random.IntN(3)], Address: addresses[random.IntN(len(addresses))],
				Owner: some("owner ", 3), Tags: []string{some("tag", 3), "all"}}
			d.Words = d.Name + " " + d.Site
			f.devices[d.ID] = d
			c.Devices = append(c.Devices, d)
			for i := range random.IntN(3) {
				next++
				s := roster.Slot{ID: next, Device: d.ID, Name: fmt.Sprint("slot-", i), Address: d.Address,
					Port: 443 + i, Words: d.Name + "/", Seen: roster.Seen{Rank: random.IntN(8),
						NotAfter: int64(random.IntN(30)), Overdue: int64(random.IntN(9)), Above: some("root", 3),
						Issuer: some("issuer ", 3), KeyType: some("key ", 2), Signature: some("", 2),
						Finding: some("finding-", 4)}}
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
			{roster.SlotFilter{Issuer: "issuer 1", KeyType: "key 0", Signature: "1"},
				func(s roster.Slot, _ roster.Device) bool {
					return s.Issuer == "issuer 1" && s.KeyType == "key 0" && s.Signature == "1"
				}},
			{roster.SlotFilter{Ends: "ended"}, func(s roster.Slot, _ roster.Device) bool {
				return s.NotAfter > 0 && s.NotAfter < 10
			}},
			{roster.SlotFilter{Site: "-"}, func(roster.Slot, roster.Device) bool { return false }},
		}
		for _, list := range lists {
			for _, sort := range []string{"condition", "expires_at", "act_by", "device", "site", "address",
				"issuer", "key_type", "signature", "finding"} {
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
		for _, sort := range []string{"name", "condition", "expires_at", "site", "family", "address", "owner", "tags"} {
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
			Seen:  roster.Seen{Rank: random.IntN(8), NotAfter: int64(random.IntN(1e9)), Above: "0123456789abcdef"},
			Words: d.Name + "/web " + d.Address + " " + strings.Repeat(fmt.Sprintf("%08x", random.Uint32()), 20)})
	}
	begun := time.Now()
	r := roster.New()
	r.Put(c)
	b.ReportMetric(float64(time.Since(begun).Milliseconds()), "load-ms")
	worst := map[string]time.Duration{}
	for b.Loop() {
		for _, sort := range []string{"condition", "expires_at", "act_by", "device", "site", "address",
			"issuer", "key_type", "signature", "finding"} {
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

// However many slots are worse, each part counts all of its own and shows the soonest: nothing that expires within a
// week is hidden behind thousands of factory certificates.
func TestNothingUrgentIsHidden(t *testing.T) {
	const now, day = int64(1_800_000_000_000), int64(86_400_000)
	r := roster.New()
	random := rand.New(rand.NewPCG(3, 5))
	var c roster.Change
	conditions := due.Conditions
	for d := range int64(600) {
		family := fmt.Sprint("family-", d%3)
		c.Devices = append(c.Devices, roster.Device{ID: d + 1, Name: fmt.Sprint("box-", d),
			Site:   fmt.Sprint("site-", d%2),
			Family: family})
		for range 10 {
			s := roster.Slot{ID: int64(len(c.Slots)) + 1, Device: d + 1, Name: fmt.Sprint("s", len(c.Slots)),
				Seen: roster.Seen{Rank: conditions[random.IntN(len(conditions))].Rank()}}
			if s.Rank != due.Unreachable.Rank() {
				s.NotAfter = now + (random.Int64N(400)-20)*day + random.Int64N(day)
				s.Overdue = s.NotAfter - 20*day
			}
			if random.IntN(3) > 0 {
				s.Rank = due.Factory.Rank()
			}
			c.Slots = append(c.Slots, s)
		}
	}
	r.Put(c)
	locks := func(s roster.Slot) bool { return (s.Device-1)%3 == 1 }
	is := func(s roster.Slot, all ...due.Condition) bool {
		return slices.ContainsFunc(all, func(c due.Condition) bool { return s.Rank == c.Rank() })
	}
	breaking := func(s roster.Slot) bool {
		return is(s, due.Expired, due.Unexpected) || s.NotAfter > 0 && s.NotAfter < now+7*day
	}
	got := r.Urgent(now, []string{"family-1", "no such"}, 5)
	for name, part := range map[string]struct {
		got  roster.Some
		in   func(s roster.Slot) bool
		date func(s roster.Slot) int64
	}{
		"breaking": {got.Breaking, breaking, func(s roster.Slot) int64 { return s.NotAfter }},
		"start": {got.Start, func(s roster.Slot) bool {
			return !breaking(s) && !is(s, due.Unreachable, due.Factory, due.Flawed) && s.Overdue > 0 &&
				s.Overdue < now+7*day
		}, func(s roster.Slot) int64 { return s.Overdue }},
		"faulty": {got.Faulty, func(s roster.Slot) bool { return !breaking(s) && is(s, due.Factory, due.Flawed) },
			func(s roster.Slot) int64 { return s.NotAfter }},
		"unreachable": {got.Unreachable, func(s roster.Slot) bool { return is(s, due.Unreachable) },
			func(s roster.Slot) int64 { return s.NotAfter }},
	} {
		var want []roster.Slot
		for _, s := range c.Slots {
			if part.in(s) {
				want = append(want, s)
			}
		}
		slices.SortFunc(want, func(a, b roster.Slot) int {
			return cmp.Or(map[bool]int{true: -1, false: 1}[locks(a)]*map[bool]int{true: 1,
				false: 0}[locks(a) != locks(b)],
				cmp.Compare(part.date(a), part.date(b)), cmp.Compare(a.ID, b.ID))
		})
		if part.got.Total != len(want) || len(part.got.First) != min(5, len(want)) {
			t.Errorf("%s: %d of %d, want %d", name, len(part.got.First), part.got.Total, len(want))
		}
		for i, one := range part.got.First {
			if one.ID != want[i].ID || one.LocksOut != locks(want[i]) {
				t.Errorf("%s, %d: %+v, want %+v", name, i, one, want[i])
			}
		}
	}

	from, until := now-now%day-3*day, now-now%day+40*day
	dates := r.Dates(from, until, "site-1", []string{"family-1"}, 3)
	totals := map[int64]int{}
	for _, s := range c.Slots {
		if (s.Device-1)%2 != 1 {
			continue
		}
		if s.NotAfter >= from && s.NotAfter < until {
			totals[s.NotAfter-s.NotAfter%day]++
		}
		if s.Overdue >= from && s.Overdue < until && s.Overdue > 0 && !is(s, due.Unreachable) {
			totals[s.Overdue-s.Overdue%day]++
		}
	}
	if len(dates) != len(totals) {
		t.Errorf("%d days, want %d", len(dates), len(totals))
	}
	for _, d := range dates {
		if d.Total != totals[d.Day] || len(d.Entries) != min(3, d.Total) {
			t.Errorf("day %d: %d entries of %d, want %d", d.Day, len(d.Entries), d.Total, totals[d.Day])
		}
		for i, e := range d.Entries {
			if e.At-e.At%day != d.Day || i > 0 && d.Entries[i-1].LocksOut != e.LocksOut && e.LocksOut {
				t.Errorf("day %d: %+v", d.Day, d.Entries)
			}
		}
	}
	if r.Dates(until, from, "", nil, 3) != nil || r.Dates(from, until, "nowhere", nil, 3) != nil {
		t.Error("a period that ends before it begins, or a site that is not there, has days")
	}
}

func TestPeriods(t *testing.T) {
	const now, day = int64(1_800_000_000_000), int64(86_400_000)
	at := func(text string) int64 {
		moment, err := time.Parse(time.DateOnly, text)
		if err != nil {
			t.Fatal(err)
		}
		return moment.UnixMilli()
	}
	for text, want := range map[string][2]int64{"2027-03": {at("2027-03-01"), at("2027-04-01")},
		"2028-02-29": {at("2028-02-29"), at("2028-03-01")}, "ended": {1, now}, "7d": {1, now + 7*day}, "0d": {1, now}} {
		if from, until, ok := roster.Period(text, now); !ok || from != want[0] || until != want[1] {
			t.Errorf("%s: %d to %d, %v", text, from, until, ok)
		}
	}
	for _, text := range []string{"", "2027", "2027-13", "2027-02-30", "7", "d", "-1d", "99999d", "soon"} {
		if _, _, ok := roster.Period(text, now); ok {
			t.Errorf("%q is taken", text)
		}
	}
}
