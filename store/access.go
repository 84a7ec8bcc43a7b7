package store

import (
	"context"

	"freshseal/store/sqlite"

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
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO access (device_id, link, address, port, user, credential,
			pin, options)
			VALUES (:device_id, :link, :address, :port, :user, :credential, :pin, :options)`, a); err != nil {
			return sqlite.Taken(err)
		}
	}
	return nil
}

// MovePins pins another certificate over a link where one was pinned and is replaced: at the
// device itself, and where another is reached at one of these addresses. Boxes that were
// delivered with the same certificate keep their pins, and so does a link to a place where
// another slot than these is served.
func (s Devices) MovePins(ctx context.Context, link, from, to string, deviceID int64, addresses []string,
	slots []int64) error {
	if from == "" || to == "" || from == to || len(addresses) == 0 {
		return nil
	}
	query, args, err := sqlx.In(`UPDATE access SET pin = ? WHERE link = ? AND pin = ? AND (device_id = ?
		OR address IN (?)) AND NOT EXISTS (
		SELECT 1 FROM slot JOIN device ON device.id = slot.device_id WHERE device.id = ? AND slot.id NOT IN (?)
		AND slot.protocol = 'tls' AND slot.port = access.port
			AND slot.address = CASE access.address WHEN '' THEN device.address ELSE access.address END)`, to, link,
		from, deviceID, addresses, deviceID, slots)
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	})
}

// Access returns how devices are reached, by device and link.
func (s Devices) Access(ctx context.Context, deviceIDs ...int64) (map[int64][]Access, error) {
	out := map[int64][]Access{}
	if len(deviceIDs) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(`SELECT * FROM access WHERE device_id IN (?) ORDER BY device_id, link`, deviceIDs)
	if err != nil {
		return nil, err
	}
	var rows []Access
	err = s.Read.SelectContext(ctx, &rows, query, args...)
	for _, row := range rows {
		out[row.DeviceID] = append(out[row.DeviceID], row)
	}
	return out, err
}
