package store

import (
	"context"
	"crypto/sha1"
	"encoding/hex"

	"freshseal/core/pki/cert"
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
		if fingerprint, err = s.bySHA1(ctx, fingerprint); err != nil || fingerprint == "" {
			return nil, err
		}
	}
	var out []Served
	return out, s.read.SelectContext(ctx, &out, `SELECT device.name AS device, slot.name AS slot,
		max(reading.at) AS until FROM reading JOIN slot ON slot.id = reading.slot_id
		JOIN device ON device.id = slot.device_id
		WHERE reading.chain LIKE '["' || ? || '"%' GROUP BY slot.id ORDER BY until DESC LIMIT ?`, fingerprint, most)
}

// bySHA1 returns the SHA-256 of the certificate with a SHA-1; empty: none is known.
func (s *db) bySHA1(ctx context.Context, fingerprint string) (string, error) {
	rows, err := s.read.QueryxContext(ctx, `SELECT der FROM certificate`)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	for rows.Next() {
		var der []byte
		if err := rows.Scan(&der); err != nil {
			return "", err
		}
		if sum := sha1.Sum(der); hex.EncodeToString(sum[:]) == fingerprint {
			return cert.Fingerprint(der), nil
		}
	}
	return "", rows.Err()
}
