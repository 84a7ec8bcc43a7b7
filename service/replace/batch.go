package replace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/fleet"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

func addTo(a *contract.Account, outcome, state string, n int) {
	a.Slots += n
	switch outcome {
	case store.ItemWaiting:
		a.Waiting += n
	case store.ItemRefused:
		a.Refused += n
	case store.ItemLeft:
		a.Left += n
	default:
		switch replacement.State(state) {
		case replacement.Held:
			a.Held += n
		case replacement.Sealed:
			a.Sealed += n
		case replacement.Reverted:
			a.Reverted += n
		case replacement.Cancelled:
			a.Cancelled += n
		case replacement.Closed:
			a.Closed += n
		default:
			a.UnderWay += n
		}
	}
}

// mostOfBatch is the maximum number of slots in one batch.
const mostOfBatch = 20_000

// chosen returns the slots of an order.
func (s *Batches) chosen(ctx context.Context, o contract.BatchOrder) ([]store.SlotName, error) {
	cannot := "the batch was not started"
	if (len(o.Slots) == 0) == (o.Filter == nil) {
		return nil, problem.Reject(cannot, "it is not said which slots", "give their names, or a filter")
	}
	var out []store.SlotName
	if o.Filter != nil {
		err := fleet.CheckFilter(fleet.SlotsThat(*o.Filter))
		if err != nil {
			return nil, err
		}
		out = s.store.Slots.Names(s.moment(), fleet.SlotsThat(*o.Filter))
	}
	seen := map[string]bool{}
	for _, each := range o.Slots {
		device, slot, ok := strings.Cut(each, "/")
		if !ok {
			return nil, problem.Reject(cannot, fmt.Sprintf("%q is not a slot", each), "write DEVICE/SLOT")
		}
		if seen[each] {
			continue
		}
		seen[each] = true
		row, err := s.fleet.SlotRow(ctx, device, slot)
		if err != nil {
			return nil, err
		}
		d, err := s.store.Devices.Get(ctx, device)
		if err != nil {
			return nil, err
		}
		out = append(out, store.SlotName{Device: device, Slot: slot, Site: row.Site, Family: d.Family})
	}
	switch {
	case len(out) == 0:
		return nil, problem.Reject(cannot, "no slot fits", "choose others")
	case len(out) > mostOfBatch:
		return nil, problem.Reject(cannot, fmt.Sprintf("%d slots are more than %d", len(out), mostOfBatch),
			"choose fewer, such as those of one site")
	}
	return out, nil
}

// Rehearse shows what a batch would do.
func (s *Batches) Rehearse(ctx context.Context, o contract.BatchOrder) (contract.BatchRehearsal, error) {
	slots, err := s.chosen(ctx, o)
	if err != nil {
		return contract.BatchRehearsal{}, err
	}
	out := contract.BatchRehearsal{Slots: len(slots), Sites: []contract.SiteCount{}}
	at := map[string]int{}
	for _, slot := range slots {
		i, known := at[slot.Site]
		if !known {
			i = len(out.Sites)
			at[slot.Site], out.Sites = i, append(out.Sites, contract.SiteCount{Site: slot.Site})
		}
		out.Sites[i].Count++
		if slot.Family == "" {
			out.Watched++
		} else if out.Sample == "" {
			out.Sample = slot.Device + "/" + slot.Slot
			rehearsed, err := s.Service.Rehearse(ctx,
				contract.RehearsalOrder{Order: orderFor(o, slot.Device, slot.Slot)})
			var known *problem.Error
			if errors.As(err, &known) {
				out.Why = known.Why
			} else if err != nil {
				return out, err
			} else {
				out.Rehearsal = &rehearsed
			}
		}
	}
	slices.SortFunc(out.Sites, func(a, b contract.SiteCount) int { return strings.Compare(a.Site, b.Site) })
	return out, nil
}

func orderFor(o contract.BatchOrder, device, slot string) contract.Order {
	return contract.Order{Device: device, Slot: slot, Signer: o.Signer, Key: o.Key, Unseen: o.Unseen, OneWay: o.OneWay}
}

// Begin starts a replacement of each of many slots. It returns at once.
func (s *Batches) Begin(ctx context.Context, o contract.BatchOrder, by string) (contract.Batch, error) {
	slots, err := s.chosen(ctx, o)
	if err != nil {
		return contract.Batch{}, err
	}
	if o.Signer != "" {
		if _, err := s.signing.Signer(ctx, o.Signer); err != nil {
			return contract.Batch{}, err
		}
	}
	row := store.Batch{AskedBy: by, StartedAt: s.moment()}
	row.Terms.V = store.BatchTerms{Signer: o.Signer, Key: string(o.Key), Unseen: o.Unseen, OneWay: o.OneWay}
	var items []store.BatchItem
	for _, slot := range slots {
		items = append(items, store.BatchItem{Device: slot.Device, Slot: slot.Slot, Site: slot.Site})
	}
	id, err := s.store.Batches.Add(ctx, row, items)
	if err != nil {
		return contract.Batch{}, err
	}
	audit.Say(ctx, "%s: %d slots, signer %s", batchName(id), len(items), cmp.Or(o.Signer, "the policy's"))
	s.log.Info("batch started", "batch", batchName(id), "slots", len(items), "by", by)
	s.running.Go(func() { s.run(id) })
	return s.Get(ctx, batchName(id))
}

// takeUp continues the batches that are not fully started.
func (s *Batches) takeUp(ctx context.Context) error {
	open, err := s.store.Batches.Open(ctx)
	for _, b := range open {
		s.running.Go(func() { s.run(b.ID) })
	}
	return err
}

// batchPause is how long an item waits whose device has another replacement.
const batchPause = 2 * time.Second

// run starts items until none is left. If it is interrupted, the next start continues: an item and its replacement are
// recorded in one transaction.
func (s *Batches) run(id int64) {
	defer func() {
		if r := recover(); r != nil {
			s.log.Error("a batch panicked", "batch", batchName(id), "panic", r)
		}
	}()
	for s.stopping.Err() == nil {
		left, err := s.beginSome(s.stopping, id)
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("a batch could not go on; it tries again", "batch", batchName(id), "error", err)
		} else if left == 0 {
			return
		}
		select {
		case <-s.stopping.Done():
		case <-time.After(batchPause):
		}
	}
}

// beginSome goes once through the items that are not started, and returns how many remain.
func (s *Batches) beginSome(ctx context.Context, id int64) (left int, err error) {
	b, err := s.store.Batches.Get(ctx, id)
	if err != nil || !b.EndedAt.IsZero() {
		return 0, err
	}
	for p := (store.Page{Most: 200}); ; {
		items, next, err := s.store.Batches.ItemPage(ctx, store.ItemFilter{Batch: id, Outcome: store.ItemWaiting}, p)
		if err != nil {
			return left, err
		}
		for _, item := range items {
			waits, err := s.beginItem(ctx, b, item)
			if err != nil {
				return left, err
			}
			if waits {
				left++
			}
		}
		if p.After = next; next == "" {
			break
		}
	}
	if left > 0 {
		return left, nil
	}
	return 0, s.store.Batches.End(ctx, id, s.moment())
}

// beginItem starts one item, or reports that it waits for another replacement of its device.
func (s *Batches) beginItem(ctx context.Context, b store.Batch, item store.BatchItem) (waits bool, err error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	t := b.Terms.V
	o := contract.Order{Device: item.Device, Slot: item.Slot, Signer: t.Signer, Key: request.KeyType(t.Key),
		Unseen: t.Unseen, OneWay: t.OneWay}
	_, err = s.begin(ctx, o, b.AskedBy, &item)
	var known *problem.Error
	switch {
	case err == nil, errors.Is(err, store.ErrNotFound): // the batch was stopped at this moment
		return false, nil
	case errors.Is(err, errUnderWay):
		return true, nil
	case errors.As(err, &known):
		item.Why, item.Next = known.Why, known.Next
		if item.Why == "" {
			item.Why = known.What
		}
		return false, s.store.Batches.RefuseItem(ctx, item)
	}
	return false, err
}

// Stop starts no more items of a batch. Those under way continue.
func (s *Batches) Stop(ctx context.Context, id, by string) (contract.Batch, error) {
	n, err := batchNumber(id)
	if err != nil {
		return contract.Batch{}, err
	}
	if _, err := s.store.Batches.Get(ctx, n); err != nil {
		return contract.Batch{}, problem.Missing(err, next.ListReplacements, "no batch is called %s", id)
	}
	err = s.store.Batches.Stop(ctx, n, by, s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return contract.Batch{}, problem.New(problem.Conflict, id+" cannot be stopped", "all of it was started already",
			"cancel its replacements one by one")
	}
	if err != nil {
		return contract.Batch{}, err
	}
	return s.Get(ctx, id)
}

// List returns a page of the batches, newest first.
func (s *Batches) List(ctx context.Context, p paging.Page) ([]contract.Batch, string, error) {
	p = p.NewestFirst()
	rows, next, err := s.store.Batches.Page(ctx, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	out := []contract.Batch{}
	for _, row := range rows {
		b, err := s.show(ctx, row)
		if err != nil {
			return nil, "", err
		}
		out = append(out, b)
	}
	return out, next, nil
}

// Count returns the number of batches.
func (s *Batches) Count(ctx context.Context) (int, error) {
	return s.store.Batches.Count(ctx)
}

// Get shows one batch.
func (s *Batches) Get(ctx context.Context, id string) (contract.Batch, error) {
	n, err := batchNumber(id)
	if err != nil {
		return contract.Batch{}, err
	}
	row, err := s.store.Batches.Get(ctx, n)
	if err != nil {
		return contract.Batch{}, problem.Missing(err, next.ListReplacements, "no batch is called %s", id)
	}
	return s.show(ctx, row)
}

func (s *Batches) show(ctx context.Context, row store.Batch) (contract.Batch, error) {
	out := contract.Batch{ID: batchName(row.ID), Signer: row.Terms.V.Signer, AskedBy: row.AskedBy,
		StartedAt: row.StartedAt.Time, State: "starting", Stopped: row.Stopped, Sites: []contract.SiteOfBatch{}}
	if !row.EndedAt.IsZero() {
		out.State = "started"
	}
	if row.Stopped != "" {
		out.State = "stopped"
	}
	counts, err := s.store.Batches.CountItems(ctx, row.ID)
	for _, c := range counts {
		if n := len(out.Sites); n == 0 || out.Sites[n-1].Site != c.Site {
			out.Sites = append(out.Sites, contract.SiteOfBatch{Site: c.Site})
		}
		addTo(&out.Counts, c.Outcome, c.State, c.Count)
		addTo(&out.Sites[len(out.Sites)-1].Account, c.Outcome, c.State, c.Count)
	}
	return out, err
}

func itemRows(f contract.ItemFilter) (store.ItemFilter, error) {
	n, err := batchNumber(f.Batch)
	return store.ItemFilter{Batch: n, Outcome: f.Outcome, State: f.State}, err
}

// Items returns a page of a batch's slots.
func (s *Batches) Items(ctx context.Context, f contract.ItemFilter,
	p paging.Page) ([]contract.BatchItem, string, error) {
	filter, err := itemRows(f)
	if err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.Batches.ItemPage(ctx, filter, p.Rows())
	out := []contract.BatchItem{}
	for _, row := range rows {
		item := contract.BatchItem{Device: row.Device, Slot: row.Slot, Site: row.Site, Outcome: row.Outcome,
			Why: row.Why, Next: row.Next}
		if row.ReplacementID != nil {
			item.Replacement = replacement.Name(*row.ReplacementID)
		}
		if row.State != nil {
			item.State, item.WaitingFor = *row.State, *row.WaitingFor
		}
		if row.Stuck != nil && item.Why == "" {
			item.Why = *row.Stuck
		}
		out = append(out, item)
	}
	return out, next, p.Wrong(err)
}

// CountItems returns how many of a batch's slots fit a filter.
func (s *Batches) CountItems(ctx context.Context, f contract.ItemFilter) (int, error) {
	filter, err := itemRows(f)
	if err != nil {
		return 0, err
	}
	return s.store.Batches.CountItemsOf(ctx, filter)
}

func batchName(id int64) string { return "b" + strconv.FormatInt(id, 10) }

func batchNumber(name string) (int64, error) {
	digits, ok := strings.CutPrefix(name, "b")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		return 0, problem.New(problem.NotFound, fmt.Sprintf("no batch is called %q", name), "", "",
			next.ListReplacements.On(""))
	}
	return n, nil
}
