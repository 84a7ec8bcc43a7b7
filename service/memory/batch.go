package memory

import (
	"context"

	"freshseal/store"
)

// Batches is the noun of the store; the world has one batch at a time.
type Batches struct{ w *World }

func (s Batches) Add(_ context.Context, b store.Batch, items []store.BatchItem) (int64, error) {
	if err := s.w.called("Batches.Add"); err != nil {
		return *new(int64), err
	}

	b.ID = s.w.Batch.ID + 1
	s.w.Batch, s.w.Batched = b, items
	for i := range s.w.Batched {
		at := &s.w.Batched[i]
		at.BatchID, at.Position, at.Outcome = b.ID, i, store.ItemWaiting
	}
	return b.ID, s.w.written()
}

func (s Batches) Get(_ context.Context, id int64) (store.Batch, error) {
	if err := s.w.called("Batches.Get"); err != nil {
		return *new(store.Batch), err
	}

	if id != s.w.Batch.ID {
		return store.Batch{}, store.ErrNotFound
	}
	return s.w.Batch, nil
}

func (s Batches) Count(context.Context) (int, error) {
	if err := s.w.called("Batches.Count"); err != nil {
		return *new(int), err
	}
	return int(s.w.Batch.ID), nil
}

func (s Batches) Page(context.Context, store.Page) ([]store.Batch, string, error) {
	if err := s.w.called("Batches.Page"); err != nil {
		return *new([]store.Batch), *new(string), err
	}

	return []store.Batch{s.w.Batch}, "", nil
}

func (s Batches) Open(context.Context) ([]store.Batch, error) {
	if err := s.w.called("Batches.Open"); err != nil {
		return *new([]store.Batch), err
	}

	if s.w.Batch.ID == 0 || !s.w.Batch.EndedAt.IsZero() {
		return nil, nil
	}
	return []store.Batch{s.w.Batch}, nil
}

func (s Batches) fit(f store.ItemFilter) (out []store.BatchItem) {
	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	for _, item := range s.w.Batched {
		if f.Outcome == "" || f.Outcome == item.Outcome {
			out = append(out, item)
		}
	}
	return out
}

func (s Batches) ItemPage(_ context.Context, f store.ItemFilter, _ store.Page) ([]store.BatchItem, string, error) {
	if err := s.w.called("Batches.ItemPage"); err != nil {
		return *new([]store.BatchItem), *new(string), err
	}

	return s.fit(f), "", nil
}

func (s Batches) CountItemsOf(_ context.Context, f store.ItemFilter) (int, error) {
	if err := s.w.called("Batches.CountItemsOf"); err != nil {
		return *new(int), err
	}

	return len(s.fit(f)), nil
}

func (s Batches) CountItems(context.Context, int64) (out []store.ItemCount, err error) {
	if err := s.w.called("Batches.CountItems"); err != nil {
		return *new([]store.ItemCount), err
	}

	for _, item := range s.fit(store.ItemFilter{}) {
		c := store.ItemCount{Site: item.Site, Outcome: item.Outcome, Count: 1}
		if item.ReplacementID != nil {
			c.State = string(s.w.Row.State)
		}
		out = append(out, c)
	}
	return out, nil
}

func (s Batches) RefuseItem(_ context.Context, item store.BatchItem) error {
	if err := s.w.called("Batches.RefuseItem"); err != nil {
		return err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	item.Outcome = store.ItemRefused
	s.w.Batched[item.Position] = item
	return s.w.written()
}

func (s Batches) End(_ context.Context, _ int64, at store.Moment) error {
	if err := s.w.called("Batches.End"); err != nil {
		return err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	s.w.Batch.EndedAt = at
	return s.w.written()
}

func (s Batches) Stop(ctx context.Context, _ int64, by string, at store.Moment) error {
	if err := s.w.called("Batches.Stop"); err != nil {
		return err
	}

	if !s.w.Batch.EndedAt.IsZero() {
		return store.ErrNotFound
	}
	for i := range s.w.Batched {
		if s.w.Batched[i].Outcome == store.ItemWaiting {
			s.w.Batched[i].Outcome = store.ItemLeft
		}
	}
	s.w.Batch.Stopped = by
	return s.End(ctx, 0, at)
}
