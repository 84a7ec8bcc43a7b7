package store

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Batch is many replacements that were asked for as one.
type Batch struct {
	ID        int64            `db:"id"`
	Terms     JSON[BatchTerms] `db:"terms"`
	AskedBy   string           `db:"asked_by"`
	StartedAt Moment           `db:"started_at"`
	EndedAt   Moment           `db:"ended_at"` // when nothing was left to begin
	Stopped   string           `db:"stopped"`  // who stopped it
}

// BatchTerms hold for all replacements of a batch.
type BatchTerms struct {
	Signer string `json:"signer,omitempty"`
	Key    string `json:"key,omitempty"`
	Unseen bool   `json:"unseen,omitempty"`
	OneWay bool   `json:"one_way,omitempty"`
}

// The outcomes of an item.
const (
	ItemWaiting = "waiting" // not started yet
	ItemStarted = "started"
	ItemRefused = "refused"
	ItemLeft    = "left" // not started, since the batch was stopped
)

// BatchItem is one slot of a batch.
type BatchItem struct {
	BatchID       int64  `db:"batch_id"`
	Position      int    `db:"position"`
	Device        string `db:"device"`
	Slot          string `db:"slot"`
	Site          string `db:"site"`
	Outcome       string `db:"outcome"`
	Why           string `db:"why"`
	Next          string `db:"next"`
	ReplacementID *int64 `db:"replacement_id"`

	State      *string `db:"state"` // of the replacement, if there is one
	WaitingFor *string `db:"waiting_for"`
	Stuck      *string `db:"stuck"` // why the replacement is held, or went back
}

// Add stores a batch with its items.
func (s Batches) Add(ctx context.Context, b Batch, items []BatchItem) (id int64, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO batch (terms, asked_by, started_at)
			VALUES (:terms, :asked_by, :started_at)`, b)
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		add, err := tx.PrepareNamedContext(ctx, `INSERT INTO batch_item (batch_id, position, device, slot, site)
			VALUES (:batch_id, :position, :device, :slot, :site)`)
		if err != nil {
			return err
		}
		defer add.Close()
		for i, item := range items {
			item.BatchID, item.Position = id, i
			if _, err := add.ExecContext(ctx, item); err != nil {
				return err
			}
		}
		return nil
	})
	return id, err
}

// itemStarted records the replacement of an item, in the transaction that starts it. An item
// that does not wait any more has its replacement, or must not get one.
func itemStarted(ctx context.Context, tx *sqlx.Tx, item BatchItem, replacementID int64) error {
	return sqlite.Changed(tx.ExecContext(ctx, `UPDATE batch_item SET outcome = 'started', replacement_id = ?
		WHERE batch_id = ?
		AND position = ? AND outcome = 'waiting'`, replacementID, item.BatchID, item.Position))
}

// RefuseItem records why an item was not started.
func (s Batches) RefuseItem(ctx context.Context, item BatchItem) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `UPDATE batch_item SET outcome = 'refused', why = :why, next = :next
			WHERE batch_id = :batch_id AND position = :position AND outcome = 'waiting'`, item)
		return err
	})
}

// Stop leaves what was not started.
func (s Batches) Stop(ctx context.Context, id int64, by string, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Changed(tx.ExecContext(ctx, `UPDATE batch SET stopped = ?, ended_at = ? WHERE id = ?
			AND ended_at = 0`, by, at, id)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE batch_item SET outcome = 'left' WHERE batch_id = ?
			AND outcome = 'waiting'`, id)
		return err
	})
}

// End records that nothing is left to begin.
func (s Batches) End(ctx context.Context, id int64, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE batch SET ended_at = ? WHERE id = ? AND ended_at = 0
			AND NOT EXISTS (SELECT 1 FROM batch_item WHERE batch_id = batch.id AND outcome = 'waiting')`, at, id)
		return err
	})
}

var batchList = sqlite.List[Batch]{
	Columns: `*`, From: `batch`, Natural: "id",
	Orders: map[string][]string{"id": {"id"}, "started_at": {"started_at", "id"}, "asked_by": {"asked_by", "id"}},
	Keyed: func(b Batch) map[string]any {
		return map[string]any{"id": b.ID, "started_at": b.StartedAt.Milliseconds(), "asked_by": b.AskedBy}
	},
}

// Page returns a page of the batches, the oldest first unless the page says otherwise.
func (s Batches) Page(ctx context.Context, p Page) ([]Batch, string, error) {
	return batchList.Page(ctx, s.DB, p)
}

// Count returns the number of batches.
func (s Batches) Count(ctx context.Context) (int, error) { return batchList.Count(ctx, s.DB) }

// Get finds one.
func (s Batches) Get(ctx context.Context, id int64) (Batch, error) {
	var b Batch
	return b, sqlite.Row(s.Read.GetContext(ctx, &b, `SELECT * FROM batch WHERE id = ?`, id))
}

// Open returns those with something left to begin.
func (s Batches) Open(ctx context.Context) ([]Batch, error) {
	var out []Batch
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM batch WHERE ended_at = 0 ORDER BY id`)
}

var itemList = sqlite.List[BatchItem]{
	Columns: `batch_item.*, replacement.state AS state, replacement.waiting_for AS waiting_for,
		CASE WHEN replacement.state IN ('held', 'reverted', 'cancelled') THEN replacement.why END AS stuck`,
	From: `batch_item LEFT JOIN replacement ON replacement.id = batch_item.replacement_id`, Natural: "position",
	Orders: map[string][]string{"position": {"batch_item.position"}, "site": {"batch_item.site",
		"batch_item.position"},
		"slot":        {"batch_item.device", "batch_item.slot", "batch_item.position"},
		"replacement": {"coalesce(batch_item.replacement_id, 0)", "batch_item.position"}},
	Keyed: func(i BatchItem) map[string]any {
		var of int64
		if i.ReplacementID != nil {
			of = *i.ReplacementID
		}
		return map[string]any{"batch_item.position": i.Position, "batch_item.site": i.Site,
			"batch_item.device": i.Device, "batch_item.slot": i.Slot, "coalesce(batch_item.replacement_id, 0)": of}
	},
}

// ItemFilter narrows the items of a batch.
type ItemFilter struct {
	Batch   int64
	Outcome string
	State   string // of the replacement
}

func (f ItemFilter) narrowings() []sqlite.Narrowing {
	return append(sqlite.Narrow(map[string]string{"batch_item.outcome = ?": f.Outcome,
		"replacement.state = ?": f.State}),
		sqlite.Where("batch_item.batch_id = ?", f.Batch))
}

// ItemPage returns a page of a batch's items.
func (s Batches) ItemPage(ctx context.Context, f ItemFilter, p Page) ([]BatchItem, string, error) {
	return itemList.Page(ctx, s.DB, p, f.narrowings()...)
}

// CountItemsOf returns how many items fit a filter.
func (s Batches) CountItemsOf(ctx context.Context, f ItemFilter) (int, error) {
	return itemList.Count(ctx, s.DB, f.narrowings()...)
}

// ItemCount is how many items of a batch a site has with an outcome, and where their
// replacements stand.
type ItemCount struct {
	Site    string `db:"site"`
	Outcome string `db:"outcome"`
	State   string `db:"state"`
	Count   int    `db:"count"`
}

// CountItems counts the items of a batch.
func (s Batches) CountItems(ctx context.Context, id int64) ([]ItemCount, error) {
	var out []ItemCount
	return out, s.Read.SelectContext(ctx, &out, `SELECT batch_item.site AS site, batch_item.outcome AS outcome,
		coalesce(replacement.state, '') AS state, count(*) AS count
		FROM batch_item LEFT JOIN replacement ON replacement.id = batch_item.replacement_id
		WHERE batch_item.batch_id = ? GROUP BY 1, 2, 3 ORDER BY 1, 2, 3`, id)
}
