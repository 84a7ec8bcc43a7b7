package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Access is how a device is reached over one link; its secrets are sealed apart.
type Access struct {
	DeviceID   int64                   `db:"device_id"`
	Link       string                  `db:"link"`
	Address    string                  `db:"address"` // empty: the device's
	Port       int                     `db:"port"`
	User       string                  `db:"user"`
	Credential string                  `db:"credential"` // a shared one; empty: it has secrets of its own
	Pin        string                  `db:"pin"`
	Options    JSON[map[string]string] `db:"options"`
}

// putAccess makes these the ways to reach a device.
func putAccess(ctx context.Context, tx *sqlx.Tx, deviceID int64, all []Access) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM access WHERE device_id = ?`, deviceID); err != nil {
		return err
	}
	for _, a := range all {
		a.DeviceID = deviceID
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO access (device_id, link, address, port, user, credential, pin, options)
			VALUES (:device_id, :link, :address, :port, :user, :credential, :pin, :options)`, a); err != nil {
			return taken(err)
		}
	}
	return nil
}

// MovePins pins another certificate wherever one was pinned over a link: it was replaced.
func (s *Store) MovePins(ctx context.Context, link, from, to string) error {
	if from == "" || to == "" || from == to {
		return nil
	}
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE access SET pin = ? WHERE link = ? AND pin = ?`, to, link, from)
		return err
	})
}

// Access is how devices are reached, by device and link.
func (s *Store) Access(ctx context.Context, deviceIDs ...int64) (map[int64][]Access, error) {
	out := map[int64][]Access{}
	if len(deviceIDs) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(`SELECT * FROM access WHERE device_id IN (?) ORDER BY device_id, link`, deviceIDs)
	if err != nil {
		return nil, err
	}
	var rows []Access
	err = s.read.SelectContext(ctx, &rows, query, args...)
	for _, row := range rows {
		out[row.DeviceID] = append(out[row.DeviceID], row)
	}
	return out, err
}
