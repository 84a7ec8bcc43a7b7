package store

import (
	"context"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"
	"freshseal/store/issuance"
)

// Ahead is what a forecast must know of a slot.
type Ahead struct {
	ID        int64         `db:"id"`
	Device    string        `db:"device"`
	Site      string        `db:"site"`
	Family    string        `db:"family"`
	Signer    string        `db:"signer"`
	Base      due.Condition `db:"base"`
	NotBefore Moment        `db:"not_before"`
	NotAfter  Moment        `db:"not_after"`
	DueFrom   Moment        `db:"due_from"`
}

// AheadOf returns the next slots after one that serve a certificate, by their numbers.
func (s Reports) AheadOf(ctx context.Context, id int64, most int) ([]Ahead, error) {
	var out []Ahead
	return out, s.Read.SelectContext(ctx, &out, `SELECT slot.id, device.name AS device, device.site, device.family,
		slot.signer, slot.base, slot.not_before, slot.not_after, slot.due_from
		FROM slot JOIN device ON device.id = slot.device_id WHERE slot.id > ? AND slot.chain <> '[]' ORDER BY slot.id
		LIMIT ?`, id, most)
}

// Uppers counts, for each certificate above a leaf, the slots whose path it is on.
func (s Reports) Uppers() map[string]int {
	out := map[string]int{}
	for above, slots := range s.roster.Above() {
		for _, sha256 := range fingerprints(above) {
			out[sha256] += slots
		}
	}
	return out
}

// Took is how long a sealed replacement took, and how long its steps by hand were open, in milliseconds.
type Took struct {
	Device string `db:"device"`
	Family string `db:"family"`
	All    int64  `db:"whole"`
	Person int64  `db:"person"`
}

// TookSince returns the newest sealed replacements since a moment.
func (s Reports) TookSince(ctx context.Context, since Moment, most int) ([]Took, error) {
	var out []Took
	return out, s.Read.SelectContext(ctx, &out, `SELECT device.name AS device, device.family AS family,
		replacement.changed_at - replacement.started_at AS whole,
		coalesce((SELECT sum(step.ended_at - step.began_at) FROM step JOIN task ON task.step_id = step.id
		WHERE step.replacement_id = replacement.id AND step.ended_at > 0), 0) AS person
		FROM replacement JOIN device ON device.id = replacement.device_id WHERE replacement.state = 'sealed'
		AND replacement.changed_at >= ? ORDER BY replacement.id DESC LIMIT ?`, since, most)
}

// Proofs returns all domains that were validated.
func (s Reports) Proofs(ctx context.Context) ([]issuance.Proven, error) {
	var out []issuance.Proven
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM proven ORDER BY signer, domain`)
}

// What is counted of the fleet in memory.
type (
	EndsIn = roster.EndsIn
	EndsAt = roster.EndsAt
)

// EndsByMonth counts the slots whose certificates end before a moment, by month and condition.
func (s Reports) EndsByMonth(until Moment) []EndsIn { return s.roster.EndsByMonth(until.UnixMilli()) }

// EndsByWeek counts the slots whose certificates end within some weeks from a moment on, by site.
func (s Reports) EndsByWeek(from Moment, weeks int) []EndsAt {
	return s.roster.EndsByWeek(from.UnixMilli(), weeks)
}
