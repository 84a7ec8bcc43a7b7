package store

import (
	"context"

	"freshseal/core/judgement/roster"

	"github.com/jmoiron/sqlx"
)

// DeviceFilter narrows a list of devices.
type DeviceFilter = roster.DeviceFilter

// Page returns a page of the devices, by name unless another order
// is asked for.
func (s Devices) Page(ctx context.Context, f DeviceFilter, p Page) ([]Device, string, error) {
	by, err := orderOf(p, "name")
	if err != nil {
		return nil, "", err
	}
	page, err := s.roster.Devices(f, by)
	ids, next, err := turned(p, page, by, err)
	if err != nil || len(ids) == 0 {
		return nil, "", err
	}
	query, args, err := sqlx.In(deviceRows+`WHERE id IN (?)`, ids)
	if err != nil {
		return nil, "", err
	}
	var rows []Device
	err = s.Read.SelectContext(ctx, &rows, query, args...)
	return inOrder(rows, ids, func(d *Device) int64 { return d.ID }), next, err
}

// Count returns how many devices fit a filter.
func (s Devices) Count(f DeviceFilter) int {
	return s.roster.CountDevices(f)
}

// Names returns the names of the devices that fit a filter, in their order.
func (s Devices) Names(f DeviceFilter) []string {
	return s.roster.NamedDevices(f)
}

// SlotsOfDevices returns the slots of some devices, by the device's number.
func (s Devices) SlotsOfDevices(ctx context.Context, ids []int64) (map[int64][]Slot, error) {
	out := map[int64][]Slot{}
	if len(ids) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(slotRows+`WHERE device.id IN (?) ORDER BY slot.name`, ids)
	if err != nil {
		return nil, err
	}
	var rows []Slot
	if err := s.Read.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	for _, row := range rows {
		out[row.DeviceID] = append(out[row.DeviceID], row)
	}
	return out, nil
}

// CountFamilies returns how many devices are of each family.
func (s Devices) CountFamilies() map[string]int { return s.roster.Families() }
