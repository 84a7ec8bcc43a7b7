package fleet

import (
	"context"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

func checkCondition(c due.Condition) error {
	if c != "" && !slices.Contains(due.Conditions, c) {
		return problem.Reject("the list cannot be filtered", fmt.Sprintf("no condition is called %q", c),
			fmt.Sprintf("give one of %v", due.Conditions))
	}
	return nil
}

// CheckFilter refuses a filter whose values have no meaning.
func CheckFilter(f SlotFilter) error {
	if _, _, ok := roster.Period(f.Ends, 0); f.Ends != "" && !ok {
		return problem.Reject("the list cannot be filtered", fmt.Sprintf("ends is %q, which is no time", f.Ends),
			"give a month such as 2027-03, a day such as 2027-03-14, a number of days from now such as 7d, or ended")
	}
	return checkCondition(f.Condition)
}

// The filters of the lists.
type (
	SlotFilter        = store.SlotFilter
	DeviceFilter      = store.DeviceFilter
	ReplacementFilter = store.ReplacementFilter
)

// SlotsThat converts a filter of slots for the store.
func SlotsThat(f contract.SlotFilter) SlotFilter {
	return SlotFilter{Condition: due.Condition(f.Condition), Device: f.Device, Site: f.Site, Family: f.Family,
		Tag: f.Tag, Owner: f.Owner, Signer: f.Signer, Issuer: f.Issuer, KeyType: f.KeyType, Signature: f.Signature,
		Ends: f.Ends, Serves: f.Serves, Text: f.Text}
}

// DevicesThat converts a filter of devices for the store.
func DevicesThat(f contract.DeviceFilter) DeviceFilter {
	return DeviceFilter{Condition: due.Condition(f.Condition), Site: f.Site, Family: f.Family, Cluster: f.Cluster,
		Tag: f.Tag, Owner: f.Owner, Text: f.Text}
}

// Slots returns a page of the slots of the fleet, worst condition first, then
// soonest end, and the cursor of the next page or nothing.
func (s *Lists) Slots(ctx context.Context, f SlotFilter,
	p paging.Page) (slots []contract.Slot, next string, err error) {
	if err := CheckFilter(f); err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.Slots.Page(ctx, s.moment(), f, p.Rows())
	slots = make([]contract.Slot, 0, len(rows))
	for _, row := range rows {
		slot := s.summary(row.Slot)
		slot.Replaceable = row.Family != ""
		slots = append(slots, slot)
	}
	return slots, next, p.Wrong(err)
}

// Devices returns a page of the devices by name, and the cursor of the next page or
// nothing.
func (s *Lists) Devices(ctx context.Context, f DeviceFilter,
	p paging.Page) (devices []contract.Device, next string, err error) {
	if err := checkCondition(f.Condition); err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.Devices.Page(ctx, f, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	slots, err := s.store.Devices.SlotsOfDevices(ctx, ids)
	if err != nil {
		return nil, "", err
	}
	access, err := s.store.Devices.Access(ctx, ids...)
	devices = make([]contract.Device, 0, len(rows))
	for _, row := range rows {
		devices = append(devices, s.showWith(row, access[row.ID], slots[row.ID]))
	}
	return devices, next, err
}

// CountSlots returns how many slots fit a filter.
func (s *Lists) CountSlots(_ context.Context, f SlotFilter) (int, error) {
	return s.store.Slots.Count(s.moment(), f), nil
}

// CountDevices returns how many devices fit a filter.
func (s *Lists) CountDevices(_ context.Context, f DeviceFilter) (int, error) {
	return s.store.Devices.Count(f), nil
}

// allDevices returns all devices by name.
func (s *Lists) allDevices(ctx context.Context) ([]contract.Device, error) {
	var all []contract.Device
	for p := (paging.Page{}); ; {
		some, next, err := s.Devices(ctx, DeviceFilter{}, p)
		all = append(all, some...)
		if p.Cursor = next; err != nil || next == "" {
			return all, err
		}
	}
}
