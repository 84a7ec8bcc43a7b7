package store

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/due"
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

// AheadOf are the next slots after one that serve a certificate, by their numbers.
func (s Reports) AheadOf(ctx context.Context, id int64, most int) ([]Ahead, error) {
	var out []Ahead
	return out, s.read.SelectContext(ctx, &out, `SELECT slot.id, device.name AS device, device.site, device.family,
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

// TookSince are the newest sealed replacements since a moment.
func (s Reports) TookSince(ctx context.Context, since Moment, most int) ([]Took, error) {
	var out []Took
	return out, s.read.SelectContext(ctx, &out, `SELECT device.name AS device, device.family AS family,
		replacement.changed_at - replacement.begun_at AS whole,
		coalesce((SELECT sum(step.ended_at - step.began_at) FROM step JOIN task ON task.step_id = step.id
		WHERE step.replacement_id = replacement.id AND step.ended_at > 0), 0) AS person
		FROM replacement JOIN device ON device.id = replacement.device_id WHERE replacement.state = 'sealed'
		AND replacement.changed_at >= ? ORDER BY replacement.id DESC LIMIT ?`, since, most)
}

// Proofs are all domains that were validated.
func (s Reports) Proofs(ctx context.Context) ([]Proven, error) {
	var out []Proven
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM proven ORDER BY signer, domain`)
}

// ThatEnd are those of programs and calendars that end by themselves.
func (s Sessions) ThatEnd(ctx context.Context, now Moment) ([]Session, error) {
	var out []Session
	return out, s.read.SelectContext(ctx, &out, sessionRows+`WHERE kind <> 'console' AND ends_at >= ?
		ORDER BY ends_at`, now)
}

// EndsIn counts the certificates that end in a month, by condition.
type EndsIn struct {
	Month     string // 2027-03
	Condition due.Condition
	Count     int
}

// EndsByMonth counts the slots whose certificates end before a moment, by month and condition.
func (s Reports) EndsByMonth(ctx context.Context, now, until Moment) ([]EndsIn, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	counts, last := map[EndsIn]int{}, until.UnixMilli()
	s.roster.Each(func(_ string, rank int, end int64) {
		if end > 0 && end < last {
			counts[EndsIn{Month: time.UnixMilli(end).UTC().Format("2006-01"), Condition: due.Conditions[rank]}]++
		}
	})
	var out []EndsIn
	for each, n := range counts {
		each.Count = n
		out = append(out, each)
	}
	slices.SortFunc(out, func(x, y EndsIn) int {
		return cmp.Or(strings.Compare(x.Month, y.Month), x.Condition.Rank()-y.Condition.Rank())
	})
	return out, nil
}

// EndsAt counts the certificates of a site that end in a week.
type EndsAt struct {
	Site  string
	Week  int // 0: the first
	Count int
}

// EndsByWeek counts the slots whose certificates end within some weeks from a moment on, by site. What has ended
// counts into week -1.
func (s Reports) EndsByWeek(from Moment, weeks int) []EndsAt {
	const week = 7 * 24 * 3600 * 1000
	counts, start := map[EndsAt]int{}, from.UnixMilli()
	s.roster.Each(func(site string, _ int, end int64) {
		switch {
		case end <= 0 || end >= start+int64(weeks)*week:
		case end < start:
			counts[EndsAt{Site: site, Week: -1}]++
		default:
			counts[EndsAt{Site: site, Week: int((end - start) / week)}]++
		}
	})
	var out []EndsAt
	for each, n := range counts {
		each.Count = n
		out = append(out, each)
	}
	slices.SortFunc(out, func(x, y EndsAt) int { return cmp.Or(strings.Compare(x.Site, y.Site), x.Week-y.Week) })
	return out
}
