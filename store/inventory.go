package store

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Inventory is what an import does.
type Inventory struct {
	Add         []NewDevice
	Change      []DeviceEdit
	AddSlots    []Slot // of devices that are there
	ChangeSlots []SlotEdit
}

// Apply does all of an import, or nothing.
func (s Devices) Apply(ctx context.Context, i Inventory) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		for _, d := range i.Add {
			if err := addDevice(ctx, tx, d); err != nil {
				return err
			}
		}
		for _, e := range i.Change {
			if err := changeDevice(ctx, tx, e); err != nil {
				return err
			}
		}
		for _, slot := range i.AddSlots {
			if err := sqlite.Revise(ctx, tx, "device/"+slot.Device, Any); err != nil {
				return err
			}
			if err := addSlot(ctx, tx, slot); err != nil {
				return err
			}
		}
		for _, e := range i.ChangeSlots {
			if err := changeSlot(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}
