package store

import (
	"context"

	"freshseal/core/replacement"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// open are the states in which a replacement is not over.
const open = `('running', 'waiting', 'held')`

// hasOpen reports whether one of these slots has a replacement that has not ended, but for one.
func hasOpen(ctx context.Context, tx *sqlx.Tx, slotIDs []int64, but int64) (bool, error) {
	query, args, err := sqlx.In(`SELECT EXISTS (SELECT 1 FROM target
		JOIN replacement ON replacement.id = target.replacement_id
		WHERE target.slot_id IN (?) AND replacement.id <> ? AND replacement.state IN `+open+`)`, slotIDs, but)
	if err != nil {
		return false, err
	}
	var has bool
	return has, tx.GetContext(ctx, &has, query, args...)
}

// Touching returns the number of the replacement that touches a device or a cluster, but for one; 0: none does.
func (s Replacements) Touching(ctx context.Context, deviceID int64, cluster string, but int64) (int64, error) {
	var ids []int64
	err := s.Read.SelectContext(ctx, &ids, `SELECT id FROM replacement WHERE (device_id = ? OR cluster = ?
		AND cluster <> '') AND id <> ? AND state IN `+open+`
		AND stage IN ('backup', 'trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal') ORDER BY id
		LIMIT 1`, deviceID, cluster, but)
	if len(ids) == 0 {
		return 0, err
	}
	return ids[0], err
}

// AtGate is a replacement that waits until its device may be touched.
type AtGate struct {
	ID         int64                  `db:"id"`
	DeviceID   int64                  `db:"device_id"`
	Cluster    string                 `db:"cluster"`
	WaitingFor replacement.WaitingFor `db:"waiting_for"`
	OpensAt    Moment                 `db:"opens_at"`
	Closed     string                 `db:"closed"`
}

// AtGates returns the replacements that wait for a window or for another replacement, oldest first.
func (s Replacements) AtGates(ctx context.Context) ([]AtGate, error) {
	var out []AtGate
	return out, s.Read.SelectContext(ctx, &out, `SELECT id, device_id, cluster, waiting_for, opens_at, closed
		FROM replacement WHERE state = 'waiting' AND waiting_for IN ('window', 'device') ORDER BY id`)
}

// SetOpens records when a replacement may touch its device, and what is in the way until then.
func (s Replacements) SetOpens(ctx context.Context, id int64, opens Moment, closed string) error {
	return s.changeReplacement(ctx, `UPDATE replacement SET opens_at = ?, closed = ? WHERE id = ?`, opens, closed, id)
}

// SetApproved records who approved a replacement, and the digest of what; both empty: nobody did.
func (s Replacements) SetApproved(ctx context.Context, id int64, by, what string) error {
	return s.changeReplacement(ctx, `UPDATE replacement SET approved_by = ?, approved_what = ? WHERE id = ?`, by,
		what, id)
}

// SetPaused records who paused a replacement.
func (s Replacements) SetPaused(ctx context.Context, id int64, by string) error {
	return s.changeReplacement(ctx, `UPDATE replacement SET paused_by = ? WHERE id = ?`, by, id)
}

// SetGoAhead ends the pause of a replacement and where it was to stop. A reason lets it touch the device at any time.
func (s Replacements) SetGoAhead(ctx context.Context, id int64, anyTime string) error {
	return s.changeReplacement(ctx, `UPDATE replacement SET paused_by = '', stop_after = '', any_time = CASE
		WHEN ?1 = '' THEN any_time ELSE ?1 END, not_before = CASE WHEN ?1 = '' THEN not_before ELSE 0 END
		WHERE id = ?2`, anyTime, id)
}

func (s *db) changeReplacement(ctx context.Context, query string, args ...any) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return sqlite.Changed(tx.ExecContext(ctx, query, args...)) })
}

// TookLive returns how long the last replacements of a family worked on their devices from backup to seal, in
// milliseconds, newest first.
func (s Replacements) TookLive(ctx context.Context, family string, most int) ([]int64, error) {
	var out []int64
	return out, s.Read.SelectContext(ctx, &out, `SELECT max(step.ended_at) - min(step.began_at) FROM step
		JOIN replacement ON replacement.id = step.replacement_id
		JOIN device ON device.id = replacement.device_id WHERE device.family = ? AND replacement.state = 'sealed'
		AND step.ended_at > 0
		AND step.section IN ('backup', 'trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal')
		GROUP BY replacement.id ORDER BY replacement.id DESC LIMIT ?`, family, most)
}
