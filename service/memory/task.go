package memory

import (
	"context"
	"slices"

	_ "freshseal/core/language/verb"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Journal is the noun of the store.
type Journal struct{ w *World }

func (s Journal) BeginStep(_ context.Context, step store.Step) (int64, error) {
	if err := s.w.called("Journal.BeginStep"); err != nil {
		return *new(int64), err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	if err := s.w.written(); err != nil {
		return 0, err
	}
	step.ID = int64(len(s.w.Steps) + 1)
	s.w.Steps = append(s.w.Steps, step)
	if step.Task != nil {
		t := *step.Task
		t.StepID, t.ReplacementID, t.Open, t.Section, t.Name, t.Text = step.ID, step.ReplacementID, true,
			step.Section, step.Name, step.Text
		s.w.Jobs[step.ID] = t
	}
	return step.ID, nil
}

func (s Journal) EndStep(_ context.Context, step store.Step) error {
	if err := s.w.called("Journal.EndStep"); err != nil {
		return err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	if err := s.w.written(); err != nil {
		return err
	}
	at := &s.w.Steps[step.ID-1]
	at.EndedAt, at.OK, at.Unknown, at.Why, at.Refused = step.EndedAt, step.OK, step.Unknown, step.Why, step.Refused
	at.Capture, at.Captured = step.Capture, step.Captured
	return nil
}

func (s Journal) Steps(context.Context, int64) ([]store.Step, error) {
	if err := s.w.called("Journal.Steps"); err != nil {
		return *new([]store.Step), err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	return slices.Clone(s.w.Steps), nil
}

func (s Journal) SetCaptured(ctx context.Context, step store.Step) error {
	if err := s.w.called("Journal.SetCaptured"); err != nil {
		return err
	}
	return s.EndStep(ctx, step)
}

func (s Journal) ShowStep(context.Context, store.Step, store.Moment) error {
	if err := s.w.called("Journal.ShowStep"); err != nil {
		return err
	}
	return nil
}

func (s Tasks) ForgetFiles(context.Context, int64) error {
	if err := s.w.called("Tasks.ForgetFiles"); err != nil {
		return err
	}
	return nil
}

// KeptFile returns one that was kept.
func (s Journal) KeptFile(_ context.Context, _ int64, name string) (store.KeptFile, error) {
	if err := s.w.called("Journal.KeptFile"); err != nil {
		return *new(store.KeptFile), err
	}

	for _, f := range s.w.Files {
		if f.Name == name {
			return f, nil
		}
	}
	return store.KeptFile{}, store.ErrNotFound
}

func (s Journal) KeptFiles(context.Context, int64) ([]store.KeptFile, error) {
	if err := s.w.called("Journal.KeptFiles"); err != nil {
		return *new([]store.KeptFile), err
	}
	return s.w.Files, nil
}

func (s Journal) Took(context.Context, string, string, int) ([]int64, error) {
	if err := s.w.called("Journal.Took"); err != nil {
		return *new([]int64), err
	}

	return []int64{900, 1000}, nil
}

func (s Tasks) open() (out []store.Task) {
	for _, t := range s.w.Jobs {
		if t.Open {
			out = append(out, t)
		}
	}
	return out
}

func (s Tasks) Open(context.Context) ([]store.Task, error) {
	if err := s.w.called("Tasks.Open"); err != nil {
		return *new([]store.Task), err
	}
	return s.open(), nil
}

func (s Tasks) Count(context.Context, int64) (int, error) {
	if err := s.w.called("Tasks.Count"); err != nil {
		return *new(int), err
	}
	return len(s.w.Jobs), nil
}

func (s Tasks) Page(context.Context, int64, store.Page) ([]store.Task, string, error) {
	if err := s.w.called("Tasks.Page"); err != nil {
		return *new([]store.Task), *new(string), err
	}

	return s.open(), "", nil
}

// Get returns one by its step.
func (s Tasks) Get(_ context.Context, step int64) (store.Task, error) {
	if err := s.w.called("Tasks.Get"); err != nil {
		return *new(store.Task), err
	}

	t, has := s.w.Jobs[step]
	if !has {
		return t, store.ErrNotFound
	}
	return t, nil
}

func (s Tasks) Take(_ context.Context, step int64, by string) error {
	if err := s.w.called("Tasks.Take"); err != nil {
		return err
	}

	t := s.w.Jobs[step]
	t.TakenBy = by
	s.w.Jobs[step] = t
	return s.w.written()
}

func (s Tasks) AddNote(_ context.Context, step int64, n store.Note) error {
	if err := s.w.called("Tasks.AddNote"); err != nil {
		return err
	}

	t := s.w.Jobs[step]
	t.Notes.V = append(t.Notes.V, n)
	s.w.Jobs[step] = t
	return s.w.written()
}

// End ends one with what became of its step, and has the replacement go on.
func (s Tasks) End(ctx context.Context, step store.Step, e replacement.Event) (replacement.Action, error) {
	if err := s.w.called("Tasks.End"); err != nil {
		return *new(replacement.Action), err
	}

	t, has := s.w.Jobs[step.ID]
	if !has || !t.Open {
		return replacement.Nothing, store.ErrNotFound
	}
	t.Open = false
	s.w.Jobs[step.ID] = t
	if int(step.ID) <= len(s.w.Steps) {
		if err := Journal(s).EndStep(ctx, step); err != nil {
			return replacement.Nothing, err
		}
	}
	_, action, err := Replacements(s).Advance(ctx, step.ReplacementID, e, step.EndedAt)
	return action, err
}
