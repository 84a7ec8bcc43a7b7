package store

import (
	"context"
	"strings"

	"freshseal/core/due"

	"github.com/jmoiron/sqlx"
)

// DeviceFilter narrows a list of devices; empty fields do not.
type DeviceFilter struct {
	Condition due.Condition // the worst of its slots
	Site      string
	Family    string // "-": those that have none
	Cluster   string
	Tag       string
	Owner     string
	Text      string // somewhere in the name, site, address, owner, tags, notes or cluster
}

// DeviceRow is a device of a list, with the worst of its slots.
type DeviceRow struct {
	Device
}

var deviceList = list[DeviceRow]{
	columns: `device.*, ` + deviceRevision,
	from:    `device`,
	key:     `device.id`,
	orders: map[string][]string{
		"name": {"device.name"}, "condition": {"device.worst", "device.name"}, "expires_at": {"device.soonest", "device.name"},
		"site": {"device.site", "device.name"}, "family": {"device.family", "device.name"}, "address": {"device.address", "device.name"},
	},
	natural: "name",
	keyed: func(row DeviceRow) map[string]any {
		end, _ := row.Soonest.Value()
		return map[string]any{"device.name": row.Name, "device.worst": row.Worst, "device.soonest": end, "device.site": row.Site, "device.family": row.Family, "device.address": row.Address}
	},
}

// DevicePage is a page of the devices, as of now, by name unless another order
// is asked for.
func (s *Store) DevicePage(ctx context.Context, now Moment, f DeviceFilter, p Page) ([]DeviceRow, string, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, "", err
	}
	found, err := s.foundDevices(ctx, f.Text)
	if err != nil {
		return nil, "", err
	}
	return deviceList.page(ctx, s, p, append(f.narrowings(), found...)...)
}

// CountDevices says how many devices fit a filter.
func (s *Store) CountDevices(ctx context.Context, f DeviceFilter) (int, error) {
	found, err := s.foundDevices(ctx, f.Text)
	if err != nil {
		return 0, err
	}
	return deviceList.count(ctx, s, append(f.narrowings(), found...)...)
}

// DeviceNames are the names of the devices that fit a filter, in their order.
func (s *Store) DeviceNames(ctx context.Context, now Moment, f DeviceFilter) ([]string, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	where, args := deviceList.where(f.narrowings())
	var out []string
	return out, s.read.SelectContext(ctx, &out, "SELECT device.name"+where+" ORDER BY device.name", args...)
}

func (f DeviceFilter) narrowings() []narrowing {
	out := narrow(map[string]string{"device.site = ?": f.Site, "device.cluster = ?": f.Cluster, "device.owner = ?": f.Owner,
		"EXISTS (SELECT 1 FROM json_each(device.tags) WHERE value = ?)": f.Tag,
		"instr(lower(device.name || ' ' || device.site || ' ' || device.address || ' ' || device.owner || ' ' || device.tags || ' ' || device.notes || ' ' || device.cluster), ?) > 0": strings.ToLower(f.Text)})
	out = append(out, ofFamily("device.family", f.Family)...)
	if f.Condition != "" {
		out = append(out, narrowing{"device.worst = ?", []any{f.Condition.Rank()}})
	}
	return out
}

// SlotsOfDevices are the slots of some devices, by the device's number.
func (s *Store) SlotsOfDevices(ctx context.Context, ids []int64) (map[int64][]Slot, error) {
	out := map[int64][]Slot{}
	if len(ids) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(slotRows+`WHERE device.id IN (?) ORDER BY slot.name`, ids)
	if err != nil {
		return nil, err
	}
	var rows []Slot
	if err := s.read.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	for _, row := range rows {
		out[row.DeviceID] = append(out[row.DeviceID], row)
	}
	return out, nil
}

// CountFamilies says how many devices are of each family.
func (s *Store) CountFamilies(ctx context.Context) (map[string]int, error) {
	return s.counts(ctx, `SELECT family AS name, count(*) AS count FROM device GROUP BY family`)
}
