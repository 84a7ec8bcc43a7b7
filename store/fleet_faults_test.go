package store_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/policy"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/faulty"
	"freshseal/store/found"
)

// faults is a store whose disk fails at every statement of what it is given, one after another.
type faults struct {
	*store.Store
	t    *testing.T
	disk *faulty.Disk
}

func withFaults(t *testing.T) faults {
	t.Helper()
	s, disk := faulty.Open(t)
	return faults{s, t, disk}
}

// does does a change, which is whole or not at all.
func (f faults) does(act func() error) {
	f.t.Helper()
	faulty.Every(f.t, f.Store, f.disk, act)
}

// says reads, and compares what is read as text.
func (f faults) says(want string, read func() (any, error)) {
	f.t.Helper()
	f.does(func() error {
		got, err := read()
		if text := fmt.Sprint(got); err == nil && text != want {
			f.t.Errorf("%s\nwant %s", text, want)
		}
		return err
	})
}

// refuses does what is refused.
func (f faults) refuses(want error, err error) {
	f.t.Helper()
	if !errors.Is(err, want) {
		f.t.Errorf("%v, want %v", err, want)
	}
}

// texts shows rows by a few of their fields.
func texts[R any](rows []R, show func(R) []any) string {
	out := make([]string, len(rows))
	for i, r := range rows {
		out[i] = strings.TrimSuffix(fmt.Sprintln(show(r)...), "\n")
	}
	return strings.Join(out, "; ")
}

func slotText(s store.Slot) []any { return []any{s.Device + "/" + s.Name, s.Address, s.Port} }

// A fleet is set up, changed, imported into and taken down.
func TestAFleetOnADiskThatFails(t *testing.T) {
	f := withFaults(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	gate := store.NewDevice{Device: store.Device{Name: "gate", Site: "Mainquay", Family: "quay-gateway",
		Cluster: "pair",
		Address: "192.0.2.1", AddedAt: at, Tags: store.JSON[[]string]{V: []string{"pier"}},
		Nodes: store.JSON[[]store.Node]{V: []store.Node{{Name: "a", Address: "192.0.2.8"}}}},
		Access: []store.Access{{Link: "ssh", Port: 22, User: "root", Pin: "old"},
			{Link: "https", Port: 443, Pin: "old"}},
		Slots: []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443},
			{Name: "eap", Address: "192.0.2.1", Port: 1812}},
		Secrets: map[string][]byte{"device/gate/ssh/password": []byte("sealed")}}
	mole := store.NewDevice{Device: store.Device{Name: "mole", Site: "Northholm", Cluster: "pair",
		Address: "192.0.2.2"},
		Slots: []store.Slot{{Name: "web", Address: "192.0.2.2", Port: 443}}}
	f.does(func() error { return f.Devices.Add(ctx, []store.NewDevice{gate, mole}) })
	f.refuses(store.ErrTaken, f.Devices.Add(ctx, []store.NewDevice{{Device: store.Device{Name: "new"}}, gate}))
	f.refuses(store.ErrNotFound, func() error { _, err := f.Devices.Get(ctx, "new"); return err }())
	twice := store.NewDevice{Device: store.Device{Name: "new"}, Access: []store.Access{{Link: "ssh"}, {Link: "ssh"}}}
	f.refuses(store.ErrTaken, f.Devices.Add(ctx, []store.NewDevice{twice}))
	d, err := f.Devices.Get(ctx, "gate")
	if err != nil || d.Revision != 0 || d.Tags.V[0] != "pier" || !d.AddedAt.Equal(testkit.Now) {
		t.Fatalf("%+v, %v", d, err)
	}
	web, err := f.Slots.Get(ctx, "gate", "web")
	if err != nil {
		t.Fatal(err)
	}
	f.says("[https 443 old; ssh 22 old]", func() (any, error) {
		all, err := f.Devices.Access(ctx, d.ID)
		return []string{texts(all[d.ID], func(a store.Access) []any { return []any{a.Link, a.Port, a.Pin} })}, err
	})
	if all, err := f.Devices.Access(ctx); err != nil || len(all) != 0 {
		t.Errorf("the access of nothing: %v, %v", all, err)
	}
	for _, read := range []struct {
		want string
		rows func() ([]store.Slot, error)
	}{
		{"gate/eap 192.0.2.1 1812; gate/web 192.0.2.1 443; mole/web 192.0.2.2 443",
			func() ([]store.Slot, error) { return f.Slots.List(ctx) }},
		{"gate/eap 192.0.2.1 1812; gate/web 192.0.2.1 443", func() ([]store.Slot, error) {
			return f.Slots.Of(ctx, "gate")
		}},
		{"mole/web 192.0.2.2 443", func() ([]store.Slot, error) { return f.Slots.Peers(ctx, web, "pair") }},
		{"", func() ([]store.Slot, error) { return f.Slots.Peers(ctx, web, "") }},
		{"gate/web 192.0.2.1 443", func() ([]store.Slot, error) { return f.Slots.ByID(ctx, []int64{web.ID, 99}) }},
		{"gate/web 192.0.2.1 443", func() ([]store.Slot, error) { return f.Slots.After(ctx, 0, 1) }},
		{"gate/eap 192.0.2.1 1812; gate/web 192.0.2.1 443", func() ([]store.Slot, error) {
			of, err := f.Devices.SlotsOfDevices(ctx, []int64{d.ID})
			return of[d.ID], err
		}},
	} {
		f.says(read.want, func() (any, error) { rows, err := read.rows(); return texts(rows, slotText), err })
	}
	if rows, err := f.Slots.ByID(ctx, nil); err != nil || rows != nil {
		t.Errorf("no slots: %v, %v", rows, err)
	}
	f.says("3", func() (any, error) { return f.Slots.CountAll(ctx) })
	f.says("2", func() (any, error) { return f.Slots.CountAt(ctx, "Mainquay") })
	northholm := "Northholm"
	for want, site := range map[string]*string{"gate/web; gate/eap; mole/web": nil, "mole/web": &northholm} {
		f.says(want, func() (any, error) {
			rows, err := f.Slots.ToRead(ctx, site, 0, 9)
			return texts(rows, func(s store.SlotToRead) []any { return []any{s.Device + "/" + s.Name} }), err
		})
	}
	f.says("mole/web", func() (any, error) {
		rows, _, err := f.Slots.Page(ctx, at, store.SlotFilter{Site: "Northholm"}, store.Page{Most: 9})
		return texts(rows, func(s store.SlotRow) []any { return []any{s.Device + "/" + s.Name} }), err
	})
	f.says("gate; mole", func() (any, error) {
		rows, _, err := f.Devices.Page(ctx, store.DeviceFilter{}, store.Page{Most: 9})
		return texts(rows, func(d store.Device) []any { return []any{d.Name} }), err
	})
	if names := f.Devices.Names(store.DeviceFilter{Site: "Mainquay"}); !slices.Equal(names, []string{"gate"}) {
		t.Errorf("%v", names)
	}
	if n := f.Devices.CountFamilies(); n["quay-gateway"] != 1 {
		t.Errorf("%v", n)
	}

	// The pin moves where it was pinned and is replaced, unless another slot is served there.
	f.does(func() error {
		return f.Devices.MovePins(ctx, "https", "old", "new", d.ID, []string{"192.0.2.1"}, []int64{web.ID})
	})
	f.does(func() error {
		return f.Devices.MovePins(ctx, "ssh", "older", "new", d.ID, []string{"192.0.2.1"}, []int64{web.ID})
	})
	f.says("https new; ssh old", func() (any, error) {
		all, err := f.Devices.Access(ctx, d.ID)
		return texts(all[d.ID], func(a store.Access) []any { return []any{a.Link, a.Pin} }), err
	})
	for _, nothing := range [][2]string{{"", "new"}, {"old", ""}, {"new", "new"}} {
		if err := f.Devices.MovePins(ctx, "https", nothing[0], nothing[1], d.ID, []string{"x"},
			[]int64{web.ID}); err != nil {
			t.Error(err)
		}
	}

	// Changes by what was looked at.
	edit := store.DeviceEdit{Device: d, Known: d.Revision, Secrets: map[string][]byte{"device/gate/x": []byte("y")},
		Gone: []string{"device/gate/ssh/password"}, Access: []store.Access{{Link: "ssh", Port: 2222, User: "root"}}}
	edit.Device.Address, edit.Device.Owner = "192.0.2.77", "harbour master"
	f.does(func() error { return f.Devices.Change(ctx, edit) })
	f.refuses(store.ErrStale, f.Devices.Change(ctx, edit))
	f.says("gate/eap 192.0.2.77 1812; gate/web 192.0.2.77 443", func() (any, error) {
		rows, err := f.Slots.Of(ctx, "gate")
		return texts(rows, slotText), err
	})
	if _, err := f.Secrets.Get(ctx, "device/gate/ssh/password"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the old secret: %v", err)
	}
	f.does(func() error {
		return f.Slots.Add(ctx, "mole", store.Slot{DeviceID: d.ID + 1, Name: "ldap", Address: "192.0.2.2", Port: 636},
			map[string][]byte{"slot/mole/ldap": []byte("y")})
	})
	f.refuses(store.ErrTaken, f.Slots.Add(ctx, "mole", store.Slot{DeviceID: d.ID + 1, Name: "ldap"}, nil))
	ldap, err := f.Slots.Get(ctx, "mole", "ldap")
	if err != nil {
		t.Fatal(err)
	}
	moved := store.SlotEdit{Slot: ldap, Known: store.Any, Secrets: map[string][]byte{"slot/mole/new": []byte("y")},
		Gone: []string{"slot/mole/ldap"}}
	moved.Slot.Port = 3269
	f.does(func() error { return f.Slots.Change(ctx, moved) })
	f.does(func() error { return f.Slots.Move(ctx, ldap.ID, "192.0.2.9", 389) })
	f.refuses(store.ErrNotFound, f.Slots.Move(ctx, 99, "192.0.2.9", 389))
	if _, err := f.Secrets.Get(ctx, "slot/mole/ldap"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the old secret: %v", err)
	}
	f.says("mole/ldap 192.0.2.9 389; mole/web 192.0.2.2 443", func() (any, error) {
		rows, err := f.Slots.Of(ctx, "mole")
		return texts(rows, slotText), err
	})
	f.says("192.0.2.2:443 mole/web; 192.0.2.77:1812 gate/eap; 192.0.2.77:443 gate/web; 192.0.2.8:1812 gate/eap; "+
		"192.0.2.8:443 gate/web; 192.0.2.9:389 mole/ldap", func() (any, error) {
		places, err := f.Slots.Places(ctx)
		var out []string
		for place, slot := range places {
			out = append(out, place+" "+slot)
		}
		slices.Sort(out)
		return strings.Join(out, "; "), err
	})

	// An import is whole.
	d, _ = f.Devices.Get(ctx, "gate")
	edit = store.DeviceEdit{Device: d, Known: d.Revision}
	edit.Notes = "imported"
	moved.Slot, moved.Gone, moved.Secrets = ldap, nil, nil
	imported := store.Inventory{Add: []store.NewDevice{{Device: store.Device{Name: "buoy"}}},
		Change: []store.DeviceEdit{edit}, ChangeSlots: []store.SlotEdit{moved},
		AddSlots: []store.Slot{{DeviceID: d.ID, Device: "gate", Name: "sip", Address: "192.0.2.1", Port: 5061}}}
	f.does(func() error { return f.Devices.Apply(ctx, imported) })
	f.refuses(store.ErrTaken, f.Devices.Apply(ctx, store.Inventory{Add: imported.Add}))
	f.refuses(store.ErrStale, f.Devices.Apply(ctx, store.Inventory{Change: imported.Change}))
	f.refuses(store.ErrTaken, f.Devices.Apply(ctx, store.Inventory{AddSlots: imported.AddSlots}))
	gone := moved
	gone.Slot.ID = 99
	f.refuses(store.ErrNotFound, f.Devices.Apply(ctx, store.Inventory{ChangeSlots: []store.SlotEdit{gone}}))

	f.does(func() error { return f.Slots.Remove(ctx, ldap, "slot/mole/new") })
	f.refuses(store.ErrNotFound, f.Slots.Remove(ctx, ldap))
	f.does(func() error { return f.Devices.Remove(ctx, "gate", "device/gate/x") })
	f.refuses(store.ErrNotFound, f.Devices.Remove(ctx, "gate"))
	if _, err := f.Secrets.Get(ctx, "device/gate/x"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the secret of a device that is gone: %v", err)
	}
	f.says("1", func() (any, error) { return f.Slots.CountAll(ctx) })
}

// Sites and policies are changed by what was looked at.
func TestSitesAndPoliciesOnADiskThatFails(t *testing.T) {
	f := withFaults(t)
	ctx := t.Context()
	f.does(func() error {
		return f.Sites.Add(ctx, store.Site{Name: "Petrel", Way: "jump", Address: "192.0.2.5", Port: 22},
			map[string][]byte{"site/Petrel/password": []byte("x")})
	})
	f.refuses(store.ErrTaken, f.Sites.Add(ctx, store.Site{Name: "Petrel"}, nil))
	if err := f.Devices.Add(ctx, []store.NewDevice{{Device: store.Device{Name: "gate", Site: "Northholm"}},
		{Device: store.Device{Name: "bow", Site: "Petrel"}}}); err != nil {
		t.Fatal(err)
	}
	names := func(list func() ([]store.Site, error)) func() (any, error) {
		return func() (any, error) {
			rows, err := list()
			return texts(rows, func(s store.Site) []any { return []any{s.Name, s.Way, s.Implied} }), err
		}
	}
	f.says("Petrel jump false", names(func() ([]store.Site, error) { return f.Sites.List(ctx) }))
	f.says("Northholm direct true; Petrel jump false", names(func() ([]store.Site, error) {
		return f.Sites.NamedSites(ctx)
	}))
	f.says("Northholm direct true", names(func() ([]store.Site, error) {
		s, err := f.Sites.NamedSite(ctx, "Northholm")
		return []store.Site{s}, err
	}))
	for _, nowhere := range []string{"", "Saltmere"} {
		_, err := f.Sites.NamedSite(ctx, nowhere)
		f.refuses(store.ErrNotFound, err)
	}
	petrel, err := f.Sites.Get(ctx, "Petrel")
	if err != nil {
		t.Fatal(err)
	}
	petrel.Paused = true
	f.does(func() error {
		return f.Sites.Change(ctx, petrel, map[string][]byte{"site/Petrel/key": []byte("x")}, petrel.Revision)
	})
	f.refuses(store.ErrStale, f.Sites.Change(ctx, petrel, nil, petrel.Revision))
	f.refuses(store.ErrNotFound, f.Sites.Change(ctx, store.Site{Name: "Saltmere"}, nil, store.Any))
	f.does(func() error {
		return f.Sites.Change(ctx, store.Site{Name: "Northholm", Implied: true, Paused: true}, nil, 0)
	})
	f.says("Northholm true; Petrel true", func() (any, error) {
		rows, err := f.Sites.List(ctx)
		return texts(rows, func(s store.Site) []any { return []any{s.Name, s.Paused} }), err
	})
	f.does(func() error { return f.Sites.Remove(ctx, "Petrel", "site/Petrel/password", "site/Petrel/key") })
	f.refuses(store.ErrNotFound, f.Sites.Remove(ctx, "Petrel"))
	if _, err := f.Secrets.Get(ctx, "site/Petrel/key"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("its secret: %v", err)
	}

	days := 40
	f.does(func() error { return f.Policies.Set(ctx, "site/Petrel", policy.Rules{RenewalDays: &days}, 0) })
	f.refuses(store.ErrStale, f.Policies.Set(ctx, "site/Petrel", policy.Rules{}, 0))
	f.says("40", func() (any, error) {
		all, err := f.Policies.List(ctx)
		if err != nil {
			return nil, err
		}
		return *all["site/Petrel"].RenewalDays, nil
	})
}

// A discovery is under way once at a time, and what it finds stays until it is forgotten.
func TestADiscoveryOnADiskThatFails(t *testing.T) {
	f := withFaults(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate")
	var first found.Discovery
	start := func() error {
		d, err := f.Discoveries.Add(ctx, found.Discovery{By: "tern", Total: 9, BeganAt: at}, 2)
		if err == nil {
			first = d
		}
		return err
	}
	f.does(start)
	f.refuses(store.ErrTaken, start())
	answer := found.Find{Nth: 3, Address: "192.0.2.1", Port: 443, Protocol: "tls", Version: "TLS 1.3",
		Chain: store.JSON[[]string]{V: []string{leaf.SHA256}}}
	answer.Served = append(answer.Served, leaf.Certificate)
	f.does(func() error { return f.Discoveries.AddFinds(ctx, first.ID, 4, []found.Find{answer}) })
	f.does(func() error { return f.Discoveries.AddFinds(ctx, first.ID, 9, []found.Find{answer}) }) // found again
	f.refuses(store.ErrNotFound, f.Discoveries.AddFinds(ctx, 99, 9, nil))
	f.says("3 192.0.2.1 443 TLS 1.3", func() (any, error) {
		rows, err := f.Discoveries.Finds(ctx, first.ID)
		return texts(rows, func(r found.Find) []any { return []any{r.Nth, r.Address, r.Port, r.Version} }), err
	})
	f.does(func() error { return f.Discoveries.End(ctx, first.ID, at, "stopped") })
	f.refuses(store.ErrNotFound, f.Discoveries.End(ctx, first.ID, at, "again"))
	f.says("9 1 0 stopped", func() (any, error) {
		d, err := f.Discoveries.Get(ctx, first.ID)
		return fmt.Sprint(d.Done, " ", d.Found, " ", d.Strange, " ", d.Why), err
	})
	for range 2 {
		if err := start(); err != nil {
			t.Fatal(err)
		}
		if err := f.Discoveries.End(ctx, first.ID, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	f.says("3; 2", func() (any, error) {
		rows, err := f.Discoveries.List(ctx)
		return texts(rows, func(d found.Discovery) []any { return []any{d.ID} }), err
	})
	f.does(func() error { return f.Discoveries.Remove(ctx, 3) })
	f.refuses(store.ErrNotFound, f.Discoveries.Remove(ctx, 3))
}

// Readings, judgements and their history.
func TestReadingsOnADiskThatFails(t *testing.T) {
	f := withFaults(t)
	ctx := t.Context()
	day := func(n int) store.Moment { return store.At(testkit.Now.AddDate(0, 0, n)) }
	if err := f.Devices.Add(ctx, []store.NewDevice{{Device: store.Device{Name: "gate", Site: "Mainquay"},
		Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate")
	slot, err := f.Slots.Get(ctx, "gate", "web")
	if err != nil {
		t.Fatal(err)
	}
	read := func(n int, base due.Condition, version string) store.NewReading {
		one := slot
		one.ReadAt, one.Base, one.Version, one.Chain.V = day(n), base, version, []string{leaf.SHA256}
		one.NotAfter, one.DueFrom, one.OverdueFrom = day(90), day(60), day(80)
		one.SearchText = "cn=gate"
		one.NextAt = day(n + 1)
		out := store.NewReading{Slot: one}
		out.Served = append(out.Served, leaf.Certificate)
		return out
	}
	add := func(r store.NewReading, late int) {
		t.Helper()
		f.does(func() error {
			skipped, err := f.Readings.Add(ctx, []store.NewReading{r})
			if err == nil && len(skipped) != late {
				t.Errorf("%d are late, want %d", len(skipped), late)
			}
			return err
		})
	}
	add(read(1, due.Factory, "TLS 1.2"), 0)
	add(read(2, due.Factory, "TLS 1.2"), 0) // the same again is no history
	add(read(3, due.Fresh, "TLS 1.3"), 0)
	add(read(2, due.Factory, "TLS 1.0"), 1) // older than what is known
	f.says("TLS 1.3; TLS 1.2", func() (any, error) {
		rows, err := f.Readings.Of(ctx, slot.ID, 9)
		return texts(rows, func(r store.Reading) []any { return []any{r.Version} }), err
	})
	f.does(func() error {
		return f.Readings.TouchAll(ctx, []store.Seen{{Slot: slot.ID, At: day(4), Next: day(6), Misses: 0}})
	})
	f.does(func() error { // what was read since is passed over
		return f.Readings.TouchAll(ctx, []store.Seen{{Slot: slot.ID, At: day(2), Next: day(3)}})
	})
	f.says("0", func() (any, error) { return f.Readings.CountDue(ctx, day(5)) })
	f.says("1", func() (any, error) { return f.Readings.CountDue(ctx, day(7)) })
	f.does(func() error { return f.Readings.Hasten(ctx, day(4), time.Hour) })
	f.says("1", func() (any, error) { return f.Readings.CountDue(ctx, day(5)) })
	if rows, err := f.Readings.TakeDue(ctx, day(5), time.Hour, 9, []string{"Mainquay"}); err != nil || len(rows) != 0 {
		t.Errorf("of a site that is left out: %v, %v", rows, err)
	}
	f.says("gate/web", func() (any, error) {
		rows, err := f.Readings.TakeDue(ctx, day(5), time.Hour, 9, nil)
		return texts(rows, func(s store.SlotToRead) []any { return []any{s.Device + "/" + s.Name} }), err
	})
	f.says("0", func() (any, error) { return f.Readings.CountDue(ctx, day(5)) })

	now, err := f.Slots.Get(ctx, "gate", "web")
	if err != nil {
		t.Fatal(err)
	}
	now.Base = due.Flawed
	f.does(func() error { return f.Readings.SetJudgements(ctx, []store.Slot{now}, day(5)) })
	stale := now
	stale.ReadAt, stale.Base = day(1), due.Factory
	f.does(func() error { return f.Readings.SetJudgements(ctx, []store.Slot{stale}, day(5)) })
	f.says("flawed", func() (any, error) { s, err := f.Slots.Get(ctx, "gate", "web"); return s.Condition, err })
	now.Base = due.Fresh
	f.does(func() error { return f.Readings.SetJudgements(ctx, []store.Slot{now}, day(5)) })
	for _, turn := range []struct {
		day  int
		want due.Condition
	}{{59, due.Fresh}, {61, due.Due}, {81, due.Overdue}, {91, due.Expired}} {
		f.does(func() error { return f.Slots.Turn(ctx, day(turn.day)) })
		f.says(string(turn.want), func() (any, error) {
			s, err := f.Slots.Get(ctx, "gate", "web")
			return s.Condition, err
		})
		if n := f.Slots.CountConditions()[turn.want]; n != 1 {
			t.Errorf("day %d: %d slots are %s", turn.day, n, turn.want)
		}
	}
	f.says("gate/web", func() (any, error) {
		rows, err := f.Slots.ThatServed(ctx, leaf.SHA256, 9)
		return texts(rows, func(s store.Served) []any { return []any{s.Device + "/" + s.Slot} }), err
	})
	f.says("gate/web", func() (any, error) {
		rows, err := f.Slots.ThatServed(ctx, leaf.SHA1(), 9)
		return texts(rows, func(s store.Served) []any { return []any{s.Device + "/" + s.Slot} }), err
	})
	f.says("gate/web expired", func() (any, error) {
		rows, total, err := f.Slots.Due(ctx, day(91), "", nil, 9)
		if err == nil && total != 1 {
			t.Errorf("%d are due", total)
		}
		return texts(rows, func(s store.DueRow) []any { return []any{s.Device + "/" + s.Name, s.Condition} }), err
	})
	f.says("gate/web TLS 1.2 factory", func() (any, error) {
		rows, err := f.Reports.StatesThen(ctx, day(2), 0, 9)
		return texts(rows, func(s store.StateThen) []any {
			return []any{s.Device + "/" + s.Slot, map[bool]string{true: "TLS 1.2", false: "?"}[s.At.Equal(day(1).Time)],
				map[bool]string{true: "factory", false: string(s.Condition)}[s.Condition == ""]}
		}), err
	})
	f.says("gate", func() (any, error) {
		rows, err := f.Reports.AheadOf(ctx, 0, 9)
		return texts(rows, func(s store.Ahead) []any { return []any{s.Device} }), err
	})
	f.does(func() error { return f.Slots.SetInstalled(ctx, slot.ID, leaf.SHA256, "harbour", day(92)) })
	f.refuses(store.ErrNotFound, f.Slots.SetInstalled(ctx, 99, leaf.SHA256, "harbour", day(92)))
	// what was looked up before something was installed is not recorded
	add(read(95, due.Unexpected, "TLS 1.3"), 1)
	f.says("harbour true", func() (any, error) {
		s, err := f.Slots.Get(ctx, "gate", "web")
		return fmt.Sprint(s.Signer, " ", s.Installed == leaf.SHA256), err
	})
}
