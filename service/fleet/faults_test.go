package fleet

import (
	"bytes"
	"errors"
	"fmt"
	"testing"

	"freshseal/contract"
	"freshseal/core/pki/pack"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/faulty"
)

// Whatever the room reads or records, a disk that fails is reported, at every statement.
func TestEveryFaultOfTheDiskIsTold(t *testing.T) {
	q := newQuay(t)
	ctx := t.Context()
	each := func(act func() error) { t.Helper(); faulty.EachTold(t, q.db, q.disk, act) }
	says := func(want string, ask func() (any, error)) { t.Helper(); faulty.Says(t, q.db, q.disk, want, ask) }
	// gone is no error where it is the second time that something is removed.
	gone := func(err error) error {
		if p := (*problem.Error)(nil); errors.As(err, &p) && p.Kind == problem.NotFound {
			return nil
		}
		return err
	}
	n := 0
	says("Name:gate-", func() (any, error) {
		n++
		q.put(t, gate(n, nil).Address, 443, gate(n, nil).Name)
		return q.AddDevice(ctx, gate(n, nil))
	})
	name := gate(n, nil).Name
	owner := "harbour master"
	says(owner, func() (any, error) {
		return q.EditDevice(ctx, name, contract.DeviceChange{Owner: &owner}, store.Any)
	})
	says(name, func() (any, error) { return q.Device(ctx, name) })
	says(name, func() (any, error) { return q.Slot(ctx, name, "web") })
	says(name, func() (any, error) { return q.SlotRow(ctx, name, "web") })
	row, err := q.SlotRow(ctx, name, "web")
	if err != nil {
		t.Fatal(err)
	}
	says("Chain:[", func() (any, error) { return q.monitor.Read(ctx, row) })
	each(func() error { _, err := q.Lists.Readings(ctx, name, "web"); return err })
	says("Name:s", func() (any, error) {
		n++
		return q.AddSlot(ctx, name, contract.DeviceSlot{Name: fmt.Sprint("s", n), Port: 1000 + n})
	})
	port := 1999
	says("1999", func() (any, error) {
		return q.EditSlot(ctx, name, fmt.Sprint("s", n), contract.SlotChange{Port: &port}, store.Any)
	})
	each(func() error { return gone(q.RemoveSlot(ctx, name, fmt.Sprint("s", n))) })
	says(name, func() (any, error) {
		rows, _, err := q.Lists.Slots(ctx, SlotFilter{}, paging.Page{})
		return rows, err
	})
	says(name, func() (any, error) {
		rows, _, err := q.Lists.Devices(ctx, DeviceFilter{}, paging.Page{})
		return rows, err
	})
	says(name, func() (any, error) { return q.Lists.Search(ctx, "gate") })
	says(name, func() (any, error) { return q.Lists.Due(ctx, 30, "", 9) })
	says("VCALENDAR", func() (any, error) { return q.Lists.Calendar(ctx, "") })
	each(func() error { _, err := q.Inventory.ExportDevices(ctx, "csv"); return err })
	each(func() error { return q.Lists.SlotSheet(ctx, &bytes.Buffer{}, SlotFilter{}, paging.Page{}) })
	each(func() error { _, err := q.Chain(ctx, name, "web", pack.LeafFirst, pack.PEM); return gone(err) })
	each(func() error {
		_, err := q.Inventory.EditDevices(ctx, contract.Changes{Devices: []string{name},
			Change: contract.ManyChange{Owner: &owner}})
		return err
	})
	each(func() error { _, err := q.Discoveries.Discoveries(ctx); return err })
	each(func() error { return q.Lists.KnowsSite(ctx, gate(1, nil).Site) })
	each(func() error { return gone(q.RemoveDevice(ctx, name)) })
}
