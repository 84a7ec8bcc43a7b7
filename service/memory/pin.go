package memory

import (
	"context"
	"slices"

	_ "freshseal/core/language/verb"
	"freshseal/store"
)

func (s Pins) List(context.Context, ...int64) ([]store.Pin, error) {
	if err := s.w.called("Pins.List"); err != nil {
		return *new([]store.Pin), err
	}
	return s.w.Pinned, nil
}

func (s Pins) TellRoots(context.Context, int64, store.Moment) (int, error) {
	if err := s.w.called("Pins.TellRoots"); err != nil {
		return *new(int), err
	}
	return 0, nil
}

func (s Pins) Add(_ context.Context, p store.Pin) (int64, error) {
	if err := s.w.called("Pins.Add"); err != nil {
		return *new(int64), err
	}

	for _, known := range s.w.Pinned {
		if known.Who == p.Who && known.What == p.What {
			return 0, store.ErrTaken
		}
	}
	p.ID, p.Device, p.Slot = int64(len(s.w.Pinned)+1), "gate-1", "web"
	s.w.Pinned = append(s.w.Pinned, p)
	return p.ID, s.w.written()
}

func (s Pins) Get(_ context.Context, id int64) (store.Pin, error) {
	if err := s.w.called("Pins.Get"); err != nil {
		return *new(store.Pin), err
	}

	for _, p := range s.w.Pinned {
		if p.ID == id {
			return p, nil
		}
	}
	return store.Pin{}, store.ErrNotFound
}

func (s Pins) Remove(ctx context.Context, id int64) error {
	if err := s.w.called("Pins.Remove"); err != nil {
		return err
	}

	if _, err := s.Get(ctx, id); err != nil {
		return err
	}
	s.w.Pinned = slices.DeleteFunc(s.w.Pinned, func(p store.Pin) bool { return p.ID == id })
	return s.w.written()
}

func (s Pins) Updates(context.Context, int64) ([]store.PinUpdate, error) {
	if err := s.w.called("Pins.Updates"); err != nil {
		return *new([]store.PinUpdate), err
	}
	return s.w.Updates, nil
}

func (s Pins) Update(_ context.Context, id int64) (store.PinUpdate, error) {
	if err := s.w.called("Pins.Update"); err != nil {
		return *new(store.PinUpdate), err
	}

	for _, u := range s.w.Updates {
		if u.ID == id {
			return u, nil
		}
	}
	return store.PinUpdate{}, store.ErrNotFound
}

// Confirm confirms one that is open.
func (s Pins) Confirm(_ context.Context, id int64, by, note string, at store.Moment) error {
	if err := s.w.called("Pins.Confirm"); err != nil {
		return err
	}

	for i := range s.w.Updates {
		if u := &s.w.Updates[i]; u.ID == id && u.ConfirmedAt.IsZero() {
			u.ConfirmedBy, u.Note, u.ConfirmedAt = by, note, at
			return s.w.written()
		}
	}
	return store.ErrNotFound
}

// Further nouns of the store.
type (
	Pins     struct{ w *World }
	Requests struct{ w *World }
	Tasks    struct{ w *World }
	Signers  struct{ w *World }
	Sites    struct{ w *World }
)
