package store

import (
	"context"
	"crypto/sha1"

	"freshseal/store/chains"
)

// Served is a slot that served a certificate.
type Served struct {
	Device string `db:"device"`
	Slot   string `db:"slot"`
	Until  Moment `db:"until"` // when it was seen last
}

// ThatServed returns the slots that served a leaf at any time, by its SHA-256 or SHA-1 in hex, newest first. It looks
// through all readings.
func (s Slots) ThatServed(ctx context.Context, fingerprint string, most int) ([]Served, error) {
	if len(fingerprint) == 2*sha1.Size {
		var err error
		if fingerprint, err = chains.BySHA1(ctx, s.Read, fingerprint); err != nil || fingerprint == "" {
			return nil, err
		}
	}
	var out []Served
	return out, s.Read.SelectContext(ctx, &out, `SELECT device.name AS device, slot.name AS slot,
		max(reading.at) AS until FROM reading JOIN slot ON slot.id = reading.slot_id
		JOIN device ON device.id = slot.device_id
		WHERE reading.chain LIKE '["' || ? || '"%' GROUP BY slot.id ORDER BY until DESC LIMIT ?`, fingerprint, most)
}
