package store

import (
	"context"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Aftermath means that a slot got worse shortly after its newest replacement was sealed.
type Aftermath struct {
	ReplacementID int64         `db:"id"`
	SealedAt      Moment        `db:"sealed_at"`
	ChangedAt     Moment        `db:"changed_at"`
	Became        due.Condition `db:"state"`
	Old           string        `db:"old_sha256"` // what the slot served before the replacement
	Serves        string        `db:"serves"`     // by its latest reading
}

// Revertible reports whether a revert can put back what was there before: no certificate that nobody knows is served.
func (a Aftermath) Revertible() bool { return a.Became != due.Unexpected || a.Serves == a.Old }

// Aftermath returns the last change of a slot's condition for the worse within a time after the seal of its newest
// replacement, or ErrNotFound.
func (s Replacements) Aftermath(ctx context.Context, slotID int64, within time.Duration) (Aftermath, error) {
	query, args, err := sqlx.In(`SELECT replacement.id, replacement.changed_at AS sealed_at, outbox.at AS changed_at,
		outbox.state, target.old_sha256, coalesce(slot.chain ->> 0, '') AS serves
		FROM slot JOIN device ON device.id = slot.device_id
		JOIN replacement ON replacement.id = (SELECT max(replacement_id) FROM target WHERE slot_id = slot.id)
		AND replacement.state = 'sealed'
		JOIN target ON target.replacement_id = replacement.id AND target.slot_id = slot.id
		JOIN outbox ON outbox.about = 'slot/' || device.name || '/' || slot.name AND outbox.kind = 'condition'
		AND outbox.state IN (?)
			AND outbox.at > replacement.changed_at AND outbox.at <= replacement.changed_at + ?
		WHERE slot.id = ? ORDER BY outbox.id DESC LIMIT 1`, due.Broken, within.Milliseconds(), slotID)
	var out Aftermath
	if err != nil {
		return out, err
	}
	return out, sqlite.Row(s.Read.GetContext(ctx, &out, query, args...))
}
