package store_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/events"
)

// Every order of every list that SQL sorts is walked page by page, up and down: one row a page is the same as all at
// once, and the other way round is its reverse.
func TestEveryOrderOfAListGoesOnFromRowToRow(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	var items []store.BatchItem
	for i, device := range []string{"c", "a", "b", "a-2"} {
		id, _ := waiting(t, s, device)
		slots, err := s.Slots.Of(ctx, device)
		if err != nil {
			t.Fatal(err)
		}
		if i%2 == 0 { // some have a reason, in letters of more than one byte
			why := fmt.Sprint("“öffnet nicht” ", i%3, " – ", fmt.Sprint(make([]int, 90)))
			if _, _, err := s.Replacements.Advance(ctx, id, replacement.Event{Kind: replacement.Expired, Why: why},
				store.At(testkit.Now)); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Outbox.Act(ctx, store.At(testkit.Now), []string{"root", "ann"}[i%2], fmt.Sprint("did ", i%3),
			slots[0].Device); err != nil {
			t.Fatal(err)
		}
		items = append(items, store.BatchItem{Device: device, Slot: "web", Site: fmt.Sprint("site ", i%2)})
	}
	var batch int64
	for i := range 3 {
		var err error
		if batch, err = s.Batches.Add(ctx, store.Batch{AskedBy: []string{"root", "ann"}[i%2],
			StartedAt: store.At(testkit.Now.AddDate(0, 0, -i))}, items); err != nil {
			t.Fatal(err)
		}
	}
	type list func(context.Context, store.Page) (ids []int64, next string, err error)
	for name, l := range map[string]struct {
		page   list
		orders []string
		rows   int
	}{
		"replacements": {func(ctx context.Context, p store.Page) ([]int64, string, error) {
			rows, next, err := s.Replacements.Page(ctx, store.ReplacementFilter{}, p)
			return numbers(rows, func(r store.Replacement) int64 { return r.ID }), next, err
		}, []string{"id", "slot", "state", "why", "signer", "started_at", "asked_by"}, 4},
		"batches": {func(ctx context.Context, p store.Page) ([]int64, string, error) {
			rows, next, err := s.Batches.Page(ctx, p)
			return numbers(rows, func(b store.Batch) int64 { return b.ID }), next, err
		}, []string{"id", "started_at", "asked_by"}, 3},
		"items of a batch": {func(ctx context.Context, p store.Page) ([]int64, string, error) {
			rows, next, err := s.Batches.ItemPage(ctx, store.ItemFilter{Batch: batch}, p)
			return numbers(rows, func(i store.BatchItem) int64 { return int64(i.Position) }), next, err
		}, []string{"position", "slot", "site", "replacement"}, 4},
		"audit log": {func(ctx context.Context, p store.Page) ([]int64, string, error) {
			rows, next, err := s.Audit.Page(ctx, events.AuditFilter{Text: "did "}, p)
			return numbers(rows, func(e events.AuditEntry) int64 { return e.ID }), next, err
		}, []string{"id", "who", "what", "about"}, 4},
	} {
		for _, order := range l.orders {
			var ways [2][]int64
			for i, desc := range []bool{false, true} {
				all, _, err := l.page(ctx, store.Page{Sort: order, Desc: desc, Most: 100})
				if err != nil || len(all) != l.rows {
					t.Fatalf("%s by %s: %v, %v", name, order, all, err)
				}
				var walked []int64
				for p := (store.Page{Sort: order, Desc: desc, Most: 1}); ; {
					ids, next, err := l.page(ctx, p)
					if err != nil {
						t.Fatalf("%s by %s behind %v: %v", name, order, walked, err)
					}
					walked = append(walked, ids...)
					if p.After = next; next == "" {
						break
					}
				}
				if !slices.Equal(walked, all) {
					t.Errorf("%s by %s, down %v: row by row it is %v, at once %v", name, order, desc, walked, all)
				}
				ways[i] = all
			}
			if slices.Reverse(ways[1]); !slices.Equal(ways[0], ways[1]) {
				t.Errorf("%s by %s: %v up, and the reverse of down is %v", name, order, ways[0], ways[1])
			}
		}
	}
}

func numbers[R any](rows []R, of func(R) int64) (out []int64) {
	for _, row := range rows {
		out = append(out, of(row))
	}
	return out
}
