package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// TakeDue takes slots whose next reading is due, those that wait longest first, and puts
// their next reading off by a lease: where the service is killed before it has read them, they
// are due again after that. Slots at the sites that are left out stay as they are.
func (s Readings) TakeDue(ctx context.Context, now Moment, lease time.Duration, most int,
	leftOut []string) ([]SlotToRead, error) {
	var out []SlotToRead
	err := s.change(ctx, func(tx *sqlx.Tx) error {
		without, args := "", []any{now}
		if len(leftOut) > 0 {
			var err error
			if without, args, err = sqlx.In(` AND device.site NOT IN (?)`, leftOut); err != nil {
				return err
			}
			args = append([]any{now}, args...)
		}
		if err := tx.SelectContext(ctx, &out, slotsToRead+`WHERE slot.next_at <= ?`+without+` ORDER BY slot.next_at
			LIMIT ?`, append(args, most)...); err != nil || len(out) == 0 {
			return err
		}
		put, err := tx.PreparexContext(ctx, `UPDATE slot SET next_at = ? WHERE id = ?`)
		if err != nil {
			return err
		}
		defer put.Close()
		for _, row := range out {
			if _, err := put.ExecContext(ctx, At(now.Add(lease)), row.ID); err != nil {
				return err
			}
		}
		return nil
	})
	return out, err
}

// CountDue returns how many slots are due to be read.
func (s Readings) CountDue(ctx context.Context, now Moment) (int, error) {
	var n int
	return n, s.Read.GetContext(ctx, &n, `SELECT count(*) FROM slot WHERE next_at <= ?`, now)
}

// Hasten spreads the next readings of all slots that are later than that over the time until
// then.
func (s Readings) Hasten(ctx context.Context, now Moment, within time.Duration) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE slot SET next_at = ? + abs(random()) % ? WHERE next_at > ?`, now,
			max(within.Milliseconds(), 1), At(now.Add(within)))
		return err
	})
}
