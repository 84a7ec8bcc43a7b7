package store

import (
	"context"
	"time"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Move records where a slot is read from now on.
func (s Slots) Move(ctx context.Context, slotID int64, address string, port int) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE slot SET address = ?, port = ? WHERE id = ?`, address, port,
			slotID))
	})
}

// Add adds a slot to a device, with its sealed secrets.
func (s Slots) Add(ctx context.Context, device string, slot Slot, secrets map[string][]byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "device/"+device, Any); err != nil {
			return err
		}
		if err := addSlot(ctx, tx, slot); err != nil {
			return err
		}
		return sqlite.PutSecrets(ctx, tx, secrets)
	})
}

// Change stores where and how a slot of a device of a known revision is read. What its
// last reading said is kept; it is read again after.
func (s Slots) Change(ctx context.Context, e SlotEdit) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return changeSlot(ctx, tx, e) })
}

// Remove deletes a slot with its history and its secrets.
func (s Slots) Remove(ctx context.Context, slot Slot, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "device/"+slot.Device, Any); err != nil {
			return err
		}
		if err := sqlite.RemoveSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE purpose IN (SELECT 'replacement/r' || id || '/key'
			FROM replacement WHERE slot_id = ?)`, slot.ID); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM slot WHERE id = ?`, slot.ID))
	})
}

// List returns all slots of the fleet, by device and name.
func (s Slots) List(ctx context.Context) ([]Slot, error) {
	var out []Slot
	return out, s.Read.SelectContext(ctx, &out, slotRows+`ORDER BY device.name, slot.name`)
}

// ToRead returns the next slots after one, by their numbers: all, or those of a site.
func (s Slots) ToRead(ctx context.Context, site *string, id int64, most int) ([]SlotToRead, error) {
	var out []SlotToRead
	if site != nil {
		return out, s.Read.SelectContext(ctx, &out, slotsToRead+`WHERE device.site = ? AND slot.id > ?
			ORDER BY slot.id LIMIT ?`, *site, id, most)
	}
	return out, s.Read.SelectContext(ctx, &out, slotsToRead+`WHERE slot.id > ? ORDER BY slot.id LIMIT ?`, id, most)
}

// ByID finds slots by their numbers; those that are gone are left out.
func (s Slots) ByID(ctx context.Context, ids []int64) ([]Slot, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(slotRows+`WHERE slot.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	var out []Slot
	return out, s.Read.SelectContext(ctx, &out, query, args...)
}

// After returns the next slots after one, by their numbers.
func (s Slots) After(ctx context.Context, id int64, most int) ([]Slot, error) {
	var out []Slot
	return out, s.Read.SelectContext(ctx, &out, slotRows+`WHERE slot.id > ? ORDER BY slot.id LIMIT ?`, id, most)
}

// CountAt returns how many slots there are at a site.
func (s Slots) CountAt(ctx context.Context, site string) (int, error) {
	var n int
	return n, s.Read.GetContext(ctx, &n, `SELECT count(*) FROM slot JOIN device ON device.id = slot.device_id
		WHERE device.site = ?`, site)
}

// CountAll returns how many slots there are.
func (s Slots) CountAll(ctx context.Context) (int, error) {
	var n int
	return n, s.Read.GetContext(ctx, &n, `SELECT count(*) FROM slot`)
}

// Of returns the slots of one device.
func (s Slots) Of(ctx context.Context, device string) ([]Slot, error) {
	var out []Slot
	return out, s.Read.SelectContext(ctx, &out, slotRows+`WHERE device.name = ? ORDER BY slot.name`, device)
}

// Get returns one slot, or ErrNotFound.
func (s Slots) Get(ctx context.Context, device, name string) (Slot, error) {
	var slot Slot
	return slot, sqlite.Row(s.Read.GetContext(ctx, &slot, slotRows+`WHERE device.name = ? AND slot.name = ?`, device,
		name))
}

// Peers returns the slots of this name on the other members of a device's cluster.
func (s Slots) Peers(ctx context.Context, slot Slot, cluster string) ([]Slot, error) {
	var out []Slot
	return out, s.Read.SelectContext(ctx, &out, slotRows+`WHERE device.cluster = ? AND device.cluster != ''
		AND device.id != ? AND slot.name = ? ORDER BY device.name`, cluster, slot.DeviceID, slot.Name)
}

// SetInstalled records the leaf that a sealed or reverted replacement left at a moment. The slot
// is read again soon.
func (s Slots) SetInstalled(ctx context.Context, slotID int64, sha256, signer string, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE slot SET installed = ?, signer = ?, installed_at = ?,
			next_at = min(next_at, ?) WHERE id = ?`, sha256, signer, at, At(at.Add(5*time.Minute)), slotID))
	})
}

// Places returns the slots (DEVICE/SLOT) by the place at which they are read, such as 192.0.2.1:443.
func (s Slots) Places(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Device  string        `db:"device"`
		Name    string        `db:"name"`
		Address string        `db:"address"`
		Port    int           `db:"port"`
		More    JSON[[]Place] `db:"more"`
		Nodes   JSON[[]Node]  `db:"nodes"`
	}
	if err := s.Read.SelectContext(ctx, &rows, `SELECT device.name AS device, slot.name, slot.address, port, more,
		nodes FROM slot JOIN device ON device.id = device_id`); err != nil {
		return nil, err
	}
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		places := append([]Place{{r.Address, r.Port}}, r.More.V...)
		for _, n := range r.Nodes.V {
			places = append(places, Place{n.Address, r.Port})
		}
		for _, p := range places {
			out[p.String()] = r.Device + "/" + r.Name
		}
	}
	return out, nil
}
