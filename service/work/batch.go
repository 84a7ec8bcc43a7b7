package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/due"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/service/deed"
	"freshseal/service/fleet"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

// SlotChoice is a filter of slots.
type SlotChoice struct {
	Condition string `json:"condition,omitempty"`
	Device    string `json:"device,omitempty"`
	Site      string `json:"site,omitempty"`
	Family    string `json:"family,omitempty"`
	Tag       string `json:"tag,omitempty"`
	Owner     string `json:"owner,omitempty"`
	Signer    string `json:"signer,omitempty"`
	Ends      string `json:"ends,omitempty"`
	Serves    string `json:"serves,omitempty"`
	Text      string `json:"text,omitempty"`
}

func (c SlotChoice) filter() store.SlotFilter {
	return store.SlotFilter{Condition: due.Condition(c.Condition), Device: c.Device, Site: c.Site, Family: c.Family, Tag: c.Tag, Owner: c.Owner, Signer: c.Signer, Ends: c.Ends, Serves: c.Serves, Text: c.Text}
}

// BatchOrder asks for a replacement of each of many slots.
type BatchOrder struct {
	Slots  []string    `json:"slots,omitempty" description:"DEVICE/SLOT of each"`
	Filter *SlotChoice `json:"filter,omitempty" description:"instead of slots: all that fit"`

	Signer string          `json:"signer,omitempty" description:"where nobody is named: the policy's"`
	Key    request.KeyType `json:"key,omitempty"`
	Unseen bool            `json:"unseen,omitempty" description:"go on although a slot cannot be read now"`
	OneWay bool            `json:"one_way,omitempty" description:"go on although some steps of a family cannot be undone"`
}

// Batch is many replacements that were asked for as one. The service begins them one
// after the other, also when it was restarted meanwhile.
type Batch struct {
	ID      string        `json:"id" required:"true"`
	Signer  string        `json:"signer" required:"true" description:"empty: the policy's"`
	AskedBy string        `json:"asked_by" required:"true"`
	BegunAt time.Time     `json:"begun_at" required:"true"`
	State   string        `json:"state" required:"true" enum:"beginning,begun,stopped" description:"beginning: some are not begun yet; begun: none is left to begin"`
	Stopped string        `json:"stopped_by,omitempty"`
	Counts  Account       `json:"counts" required:"true"`
	Sites   []SiteOfBatch `json:"sites" required:"true"`
}

// Account counts the slots of a batch by where they stand.
type Account struct {
	Slots     int `json:"slots" required:"true"`
	Waiting   int `json:"waiting" required:"true" description:"not begun yet"`
	Refused   int `json:"refused" required:"true"`
	Left      int `json:"left" required:"true" description:"not begun, since the batch was stopped"`
	UnderWay  int `json:"under_way" required:"true" description:"their replacement runs, or waits for somebody"`
	Held      int `json:"held" required:"true"`
	Sealed    int `json:"sealed" required:"true"`
	Reverted  int `json:"reverted" required:"true"`
	Cancelled int `json:"cancelled" required:"true"`
	Closed    int `json:"closed" required:"true" description:"by a person, as the wire showed"`
}

func (a *Account) add(outcome, state string, n int) {
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

// SiteOfBatch is the account of one site.
type SiteOfBatch struct {
	Site string `json:"site" required:"true"`
	Account
}

// BatchItem is a slot of a batch.
type BatchItem struct {
	Device      string `json:"device" required:"true"`
	Slot        string `json:"slot" required:"true"`
	Site        string `json:"site" required:"true"`
	Outcome     string `json:"outcome" required:"true" enum:"waiting,begun,refused,left"`
	Why         string `json:"why,omitempty"`
	Next        string `json:"next,omitempty"`
	Replacement string `json:"replacement,omitempty"`
	State       string `json:"state,omitempty" description:"of the replacement"`
	WaitingFor  string `json:"waiting_for,omitempty"`
}

// BatchRehearsal is what a batch would do, with nothing sent: how many slots of each
// site, and the steps of the first one that can be replaced.
type BatchRehearsal struct {
	Slots     int         `json:"slots" required:"true"`
	Sites     []SiteCount `json:"sites" required:"true"`
	Watched   int         `json:"watched" required:"true" description:"slots of devices without a family, which would be refused"`
	Sample    string      `json:"sample,omitempty" description:"DEVICE/SLOT of the one that is rehearsed"`
	Rehearsal *Rehearsal  `json:"rehearsal,omitempty"`
	Why       string      `json:"why,omitempty" description:"why the sample cannot be replaced"`
}

// SiteCount is how many slots of a batch a site has.
type SiteCount struct {
	Site  string `json:"site" required:"true"`
	Count int    `json:"count" required:"true"`
}

// mostOfBatch is how many slots go into one batch.
const mostOfBatch = 20_000

// chosen are the slots of an order.
func (s *Service) chosen(ctx context.Context, o BatchOrder) ([]store.SlotName, error) {
	cannot := "the batch is not begun"
	if (len(o.Slots) == 0) == (o.Filter == nil) {
		return nil, problem.Reject(cannot, "it is not said which slots", "give their names, or a filter")
	}
	var out []store.SlotName
	if o.Filter != nil {
		err := fleet.CheckFilter(o.Filter.filter())
		if err != nil {
			return nil, err
		}
		if out, err = s.store.SlotNames(ctx, s.moment(), o.Filter.filter()); err != nil {
			return nil, err
		}
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
		d, err := s.store.Device(ctx, device)
		if err != nil {
			return nil, err
		}
		out = append(out, store.SlotName{Device: device, Slot: slot, Site: row.Site, Family: d.Family})
	}
	switch {
	case len(out) == 0:
		return nil, problem.Reject(cannot, "no slot fits", "choose others")
	case len(out) > mostOfBatch:
		return nil, problem.Reject(cannot, fmt.Sprintf("%d slots are more than %d", len(out), mostOfBatch), "choose fewer, such as those of one site")
	}
	return out, nil
}

// RehearseBatch shows what a batch would do.
func (s *Service) RehearseBatch(ctx context.Context, o BatchOrder) (BatchRehearsal, error) {
	slots, err := s.chosen(ctx, o)
	if err != nil {
		return BatchRehearsal{}, err
	}
	out := BatchRehearsal{Slots: len(slots), Sites: []SiteCount{}}
	at := map[string]int{}
	for _, slot := range slots {
		i, known := at[slot.Site]
		if !known {
			i = len(out.Sites)
			at[slot.Site], out.Sites = i, append(out.Sites, SiteCount{Site: slot.Site})
		}
		out.Sites[i].Count++
		if slot.Family == "" {
			out.Watched++
		} else if out.Sample == "" {
			out.Sample = slot.Device + "/" + slot.Slot
			rehearsed, err := s.Rehearse(ctx, RehearsalOrder{Order: o.orderFor(slot.Device, slot.Slot)})
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
	slices.SortFunc(out.Sites, func(a, b SiteCount) int { return strings.Compare(a.Site, b.Site) })
	return out, nil
}

func (o BatchOrder) orderFor(device, slot string) Order {
	return Order{Device: device, Slot: slot, Signer: o.Signer, Key: o.Key, Unseen: o.Unseen, OneWay: o.OneWay}
}

// BeginBatch begins a replacement of each of many slots. It returns at once.
func (s *Service) BeginBatch(ctx context.Context, o BatchOrder, by string) (Batch, error) {
	slots, err := s.chosen(ctx, o)
	if err != nil {
		return Batch{}, err
	}
	if o.Signer != "" {
		if _, err := s.desk.Signer(ctx, o.Signer); err != nil {
			return Batch{}, err
		}
	}
	row := store.Batch{AskedBy: by, BegunAt: s.moment()}
	row.Terms.V = store.BatchTerms{Signer: o.Signer, Key: string(o.Key), Unseen: o.Unseen, OneWay: o.OneWay}
	var items []store.BatchItem
	for _, slot := range slots {
		items = append(items, store.BatchItem{Device: slot.Device, Slot: slot.Slot, Site: slot.Site})
	}
	id, err := s.store.AddBatch(ctx, row, items)
	if err != nil {
		return Batch{}, err
	}
	deed.Say(ctx, "%s: %d slots, signer %s", batchName(id), len(items), cmp.Or(o.Signer, "the policy's"))
	s.log.Info("batch begun", "batch", batchName(id), "slots", len(items), "by", by)
	s.running.Go(func() { s.carryBatch(id) })
	return s.Batch(ctx, batchName(id))
}

// takeUpBatches goes on with the batches of which something is left to begin.
func (s *Service) takeUpBatches(ctx context.Context) error {
	open, err := s.store.OpenBatches(ctx)
	for _, b := range open {
		s.running.Go(func() { s.carryBatch(b.ID) })
	}
	return err
}

// batchPause is how long those of a batch wait whose device has another replacement.
const batchPause = 2 * time.Second

// carryBatch begins what can be begun, until nothing is left. Whatever ends it, the
// next start goes on: an item and its replacement are recorded in one transaction.
func (s *Service) carryBatch(id int64) {
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

// beginSome goes once through what is left to begin, and says how many still are.
func (s *Service) beginSome(ctx context.Context, id int64) (left int, err error) {
	b, err := s.store.Batch(ctx, id)
	if err != nil || !b.EndedAt.IsZero() {
		return 0, err
	}
	for p := (store.Page{Most: 200}); ; {
		items, next, err := s.store.ItemPage(ctx, store.ItemFilter{Batch: id, Outcome: store.ItemWaiting}, p)
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
	return 0, s.store.EndBatch(ctx, id, s.moment())
}

// beginItem begins one, or says that it waits for another replacement of its device.
func (s *Service) beginItem(ctx context.Context, b store.Batch, item store.BatchItem) (waits bool, err error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	t := b.Terms.V
	o := Order{Device: item.Device, Slot: item.Slot, Signer: t.Signer, Key: request.KeyType(t.Key), Unseen: t.Unseen, OneWay: t.OneWay}
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
		return false, s.store.RefuseItem(ctx, item)
	}
	return false, err
}

// StopBatch begins nothing further of a batch. What was begun goes on.
func (s *Service) StopBatch(ctx context.Context, id, by string) (Batch, error) {
	n, err := batchNumber(id)
	if err != nil {
		return Batch{}, err
	}
	if _, err := s.store.Batch(ctx, n); err != nil {
		return Batch{}, problem.Missing(err, next.ListReplacements, "no batch is called %s", id)
	}
	err = s.store.StopBatch(ctx, n, by, s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Batch{}, problem.New(problem.Conflict, id+" cannot be stopped", "all of it was begun already", "cancel its replacements one by one")
	}
	if err != nil {
		return Batch{}, err
	}
	return s.Batch(ctx, id)
}

// Batches returns a page of the batches, newest first.
func (s *Service) Batches(ctx context.Context, p paging.Page) ([]Batch, string, error) {
	p.Desc = true
	rows, next, err := s.store.BatchPage(ctx, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	out := []Batch{}
	for _, row := range rows {
		b, err := s.showBatch(ctx, row)
		if err != nil {
			return nil, "", err
		}
		out = append(out, b)
	}
	return out, next, nil
}

// CountBatches says how many there are.
func (s *Service) CountBatches(ctx context.Context) (int, error) { return s.store.CountBatches(ctx) }

// Batch shows one.
func (s *Service) Batch(ctx context.Context, id string) (Batch, error) {
	n, err := batchNumber(id)
	if err != nil {
		return Batch{}, err
	}
	row, err := s.store.Batch(ctx, n)
	if err != nil {
		return Batch{}, problem.Missing(err, next.ListReplacements, "no batch is called %s", id)
	}
	return s.showBatch(ctx, row)
}

func (s *Service) showBatch(ctx context.Context, row store.Batch) (Batch, error) {
	out := Batch{ID: batchName(row.ID), Signer: row.Terms.V.Signer, AskedBy: row.AskedBy, BegunAt: row.BegunAt.Time, State: "beginning", Stopped: row.Stopped, Sites: []SiteOfBatch{}}
	if !row.EndedAt.IsZero() {
		out.State = "begun"
	}
	if row.Stopped != "" {
		out.State = "stopped"
	}
	counts, err := s.store.CountItems(ctx, row.ID)
	for _, c := range counts {
		if n := len(out.Sites); n == 0 || out.Sites[n-1].Site != c.Site {
			out.Sites = append(out.Sites, SiteOfBatch{Site: c.Site})
		}
		out.Counts.add(c.Outcome, c.State, c.Count)
		out.Sites[len(out.Sites)-1].add(c.Outcome, c.State, c.Count)
	}
	return out, err
}

// ItemFilter narrows the items of a batch.
type ItemFilter struct{ Batch, Outcome, State string }

func (f ItemFilter) rows() (store.ItemFilter, error) {
	n, err := batchNumber(f.Batch)
	return store.ItemFilter{Batch: n, Outcome: f.Outcome, State: f.State}, err
}

// BatchItems returns a page of a batch's slots.
func (s *Service) BatchItems(ctx context.Context, f ItemFilter, p paging.Page) ([]BatchItem, string, error) {
	filter, err := f.rows()
	if err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.ItemPage(ctx, filter, p.Rows())
	out := []BatchItem{}
	for _, row := range rows {
		item := BatchItem{Device: row.Device, Slot: row.Slot, Site: row.Site, Outcome: row.Outcome, Why: row.Why, Next: row.Next}
		if row.ReplacementID != nil {
			item.Replacement = replacement.Name(*row.ReplacementID)
		}
		if row.State != nil {
			item.State, item.WaitingFor = *row.State, *row.WaitingFor
		}
		out = append(out, item)
	}
	return out, next, p.Wrong(err)
}

// CountBatchItems says how many of a batch's slots fit a filter.
func (s *Service) CountBatchItems(ctx context.Context, f ItemFilter) (int, error) {
	filter, err := f.rows()
	if err != nil {
		return 0, err
	}
	return s.store.CountItemsOf(ctx, filter)
}

func batchName(id int64) string { return "b" + strconv.FormatInt(id, 10) }

func batchNumber(name string) (int64, error) {
	digits, ok := strings.CutPrefix(name, "b")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		return 0, problem.New(problem.NotFound, fmt.Sprintf("no batch is called %q", name), "", "", next.ListReplacements.On(""))
	}
	return n, nil
}
