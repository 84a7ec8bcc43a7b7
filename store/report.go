package store

import (
	"context"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
)

// StateThen is what a slot served at some moment.
type StateThen struct {
	Device    string                 `db:"device"`
	Slot      string                 `db:"name"`
	Site      string                 `db:"site"`
	Family    string                 `db:"family"`
	Owner     string                 `db:"owner"`
	SlotID    int64                  `db:"id"`
	At        Moment                 `db:"at"` // since when it did; zero: it was not read yet
	Chain     JSON[[]string]         `db:"chain"`
	Failure   JSON[*finding.Failure] `db:"failure"`
	Condition due.Condition          `db:"condition"` // as it was recorded; empty: no record reaches back so far
}

// StatesThen returns the next slots after one, by their numbers, with what they served at a moment. Slots of devices
// that were added later are left out.
func (s Reports) StatesThen(ctx context.Context, then Moment, id int64, most int) ([]StateThen, error) {
	var out []StateThen
	return out, s.Read.SelectContext(ctx, &out, `SELECT slot.id, device.name AS device, slot.name, device.site,
		device.family, device.owner,
		coalesce(reading.at, 0) AS at, coalesce(reading.chain, '[]') AS chain, coalesce(reading.failure,
		'null') AS failure,
		coalesce((SELECT state FROM outbox WHERE about = 'slot/' || device.name || '/' || slot.name
		AND kind = 'condition' AND outbox.at <= ? ORDER BY outbox.id DESC LIMIT 1), '') AS condition
		FROM slot JOIN device ON device.id = slot.device_id
		LEFT JOIN reading ON reading.id = (SELECT max(r.id) FROM reading r WHERE r.slot_id = slot.id AND r.at <= ?)
		WHERE slot.id > ? AND device.added_at <= ? ORDER BY slot.id LIMIT ?`, then, then, id, then, most)
}

// SealedBetween returns the replacements that were sealed in a period, oldest first, one for each of their slots.
func (s Reports) SealedBetween(ctx context.Context, from, until Moment, site string) ([]Sealed, error) {
	var out []Sealed
	return out, s.Read.SelectContext(ctx, &out, `SELECT replacement.id, device.name AS device, slot.name AS slot,
		device.site, device.owner, replacement.signer, target.old_sha256, replacement.new_sha256,
		replacement.asked_by, replacement.approved_by, replacement.started_at, replacement.changed_at
		FROM replacement JOIN target ON target.replacement_id = replacement.id JOIN slot ON slot.id = target.slot_id
		JOIN device ON device.id = slot.device_id
		WHERE replacement.state = 'sealed' AND replacement.changed_at >= ? AND replacement.changed_at < ? AND (? = ''
		OR device.site = ?) ORDER BY replacement.changed_at, replacement.id, slot.name`, from, until, site, site)
}

// Sealed is a slot that a replacement gave a certificate.
type Sealed struct {
	ID         int64  `db:"id"`
	Device     string `db:"device"`
	Slot       string `db:"slot"`
	Site       string `db:"site"`
	Owner      string `db:"owner"`
	Signer     string `db:"signer"`
	Old        string `db:"old_sha256"`
	New        string `db:"new_sha256"`
	AskedBy    string `db:"asked_by"`
	ApprovedBy string `db:"approved_by"`
	StartedAt  Moment `db:"started_at"`
	SealedAt   Moment `db:"changed_at"`
}
