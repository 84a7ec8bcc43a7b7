package store

import (
	"context"

	"freshseal/core/due"
)

// Ahead is what a forecast must know of a slot.
type Ahead struct {
	ID        int64         `db:"id"`
	Device    string        `db:"device_name"`
	Site      string        `db:"site_name"`
	Family    string        `db:"family_name"`
	Signer    string        `db:"signer"`
	Standing  due.Condition `db:"standing"`
	NotBefore Moment        `db:"not_before"`
	NotAfter  Moment        `db:"not_after"`
	DueFrom   Moment        `db:"due_from"`
}

// AheadOf are the next slots after one that serve a certificate, by their numbers.
func (s *Store) AheadOf(ctx context.Context, id int64, most int) ([]Ahead, error) {
	var out []Ahead
	return out, s.read.SelectContext(ctx, &out, `SELECT id, device_name, site_name, family_name, signer, standing, not_before, not_after, due_from
		FROM slot WHERE id > ? AND chain <> '[]' ORDER BY id LIMIT ?`, id, most)
}

// PathCount is a path that slots have, and how many.
type PathCount struct {
	Path  JSON[[]string] `db:"path"`
	Count int            `db:"count"`
}

// Uppers counts, for each certificate above a leaf, the slots whose path it is on.
func (s *Store) Uppers(ctx context.Context) (map[string]int, error) {
	rows, err := s.read.QueryxContext(ctx, `SELECT path FROM slot WHERE path <> '[]' AND path <> ''`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var path JSON[[]string]
		if err := rows.Scan(&path); err != nil {
			return nil, err
		}
		for _, sha256 := range path.V[min(1, len(path.V)):] {
			out[sha256]++
		}
	}
	return out, rows.Err()
}

// Took is how long a sealed replacement took, and how long its steps by hand were open, in milliseconds.
type Took struct {
	Device string `db:"device"`
	Family string `db:"family"`
	All    int64  `db:"whole"`
	Person int64  `db:"person"`
}

// TookSince are the newest sealed replacements since a moment.
func (s *Store) TookSince(ctx context.Context, since Moment, most int) ([]Took, error) {
	var out []Took
	return out, s.read.SelectContext(ctx, &out, `SELECT device.name AS device, device.family AS family, replacement.changed_at - replacement.begun_at AS whole,
		coalesce((SELECT sum(step.ended_at - step.began_at) FROM step JOIN task ON task.step_id = step.id WHERE step.replacement_id = replacement.id AND step.ended_at > 0), 0) AS person
		FROM replacement JOIN device ON device.id = replacement.device_id WHERE replacement.state = 'sealed' AND replacement.changed_at >= ? ORDER BY replacement.id DESC LIMIT ?`, since, most)
}

// Proofs are all domains that were validated.
func (s *Store) Proofs(ctx context.Context) ([]Proven, error) {
	var out []Proven
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM proven ORDER BY signer, domain`)
}

// SessionsThatEnd are those of programs and calendars that end by themselves.
func (s *Store) SessionsThatEnd(ctx context.Context, now Moment) ([]Session, error) {
	var out []Session
	return out, s.read.SelectContext(ctx, &out, sessionRows+`WHERE kind <> 'console' AND ends_at >= ? ORDER BY ends_at`, now)
}

// EndsIn counts the certificates that end in a month, by condition.
type EndsIn struct {
	Month string `db:"month"` // 2027-03
	Rank  int    `db:"rank"`
	Count int    `db:"count"`
}

// EndsByMonth counts the slots whose certificates end before a moment, by month and condition.
func (s *Store) EndsByMonth(ctx context.Context, now, until Moment) ([]EndsIn, error) {
	if err := s.age(ctx, now); err != nil {
		return nil, err
	}
	var out []EndsIn
	return out, s.read.SelectContext(ctx, &out, `SELECT strftime('%Y-%m', not_after / 1000, 'unixepoch') AS month, rank, count(*) AS count FROM slot WHERE not_after > 0 AND not_after < ? GROUP BY 1, 2`, until)
}

// EndsAt counts the certificates of a site that end in a week.
type EndsAt struct {
	Site  string `db:"site_name"`
	Week  int    `db:"week"` // 0: the first
	Count int    `db:"count"`
}

// EndsByWeek counts the slots whose certificates end within some weeks from a moment on, by site. What has ended
// counts into week -1.
func (s *Store) EndsByWeek(ctx context.Context, from Moment, weeks int) ([]EndsAt, error) {
	const week = 7 * 24 * 3600 * 1000
	var out []EndsAt
	start := from.UnixMilli()
	return out, s.read.SelectContext(ctx, &out, `SELECT site_name, CASE WHEN not_after < ? THEN -1 ELSE (not_after - ?) / ? END AS week, count(*) AS count FROM slot
		WHERE not_after > 0 AND not_after < ? GROUP BY 1, 2`, start, start, week, start+int64(weeks)*week)
}
