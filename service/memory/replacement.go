package memory

import (
	"context"
	"slices"

	"freshseal/core/language/procedure"
	_ "freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Replacements is the noun of the store.
type Replacements struct{ w *World }

func (s Replacements) Get(_ context.Context, id int64) (store.Replacement, error) {
	if err := s.w.called("Replacements.Get"); err != nil {
		return *new(store.Replacement), err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	for _, r := range append(s.w.Over, s.w.Row) {
		if r.ID == id {
			return r, nil
		}
	}
	return store.Replacement{}, store.ErrNotFound
}

func (s Replacements) Advance(_ context.Context, id int64, e replacement.Event,
	at store.Moment) (store.Replacement, replacement.Action, error) {
	if err := s.w.called("Replacements.Advance"); err != nil {
		return *new(store.Replacement), *new(replacement.Action), err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	if err := s.w.written(); err != nil {
		return s.w.Row, replacement.Nothing, err
	}
	if id != s.w.Row.ID {
		return store.Replacement{}, replacement.Nothing, store.ErrNotFound
	}
	before := s.w.Row.Progress()
	p, action, err := before.On(e)
	if err != nil {
		return s.w.Row, replacement.Nothing, err
	}
	set(&s.w.Row, p)
	s.w.Entries = append(s.w.Entries, replacement.Entry{At: at.Time, Stage: p.Stage, State: p.State, Back: p.Reverting})
	if !before.Within(e) {
		s.w.Row.Since = int64(len(s.w.Steps))
	}
	if e.Kind == replacement.AskedResume {
		s.w.Row.Resumed = int64(len(s.w.Steps))
	}
	return s.w.Row, action, nil
}

func (s Replacements) In(_ context.Context, state replacement.State) ([]store.Replacement, error) {
	if err := s.w.called("Replacements.In"); err != nil {
		return *new([]store.Replacement), err
	}

	if s.w.Row.State == state {
		return []store.Replacement{s.w.Row}, nil
	}
	return nil, nil
}

func (s Replacements) Targets(context.Context, ...int64) (map[int64][]store.Target, error) {
	if err := s.w.called("Replacements.Targets"); err != nil {
		return *new(map[int64][]store.Target), err
	}

	out := map[int64][]store.Target{}
	for _, r := range append(s.w.Over, s.w.Row) {
		out[r.ID] = []store.Target{{Slot: s.w.Slot(), ReplacementID: r.ID, OldSHA256: s.w.Old}}
	}
	return out, nil
}

func (s Replacements) change(do func(*store.Replacement)) error {
	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	if err := s.w.written(); err != nil {
		return err
	}
	do(&s.w.Row)
	return nil
}

func (s Replacements) SetRequest(_ context.Context, _ int64, made request.Request) error {
	if err := s.w.called("Replacements.SetRequest"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.Request, r.SPKI = made.Raw, cert.Fingerprint(made.SPKI()) })
}

func (s Replacements) SetPath(_ context.Context, _ int64, path []*cert.Certificate) error {
	if err := s.w.called("Replacements.SetPath"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) {
		r.Path.V = nil
		for _, c := range path {
			s.w.Certs[c.SHA256] = c
			r.Path.V = append(r.Path.V, c.SHA256)
		}
		r.NewSHA256 = path[0].SHA256
	})
}

func (s Replacements) SetOld(_ context.Context, _, _ int64, sha256 string) error {
	if err := s.w.called("Replacements.SetOld"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.OldSHA256, s.w.Old = sha256, sha256 })
}

func (s Replacements) SetStood(_ context.Context, _ int64, rows []store.Stood) error {
	if err := s.w.called("Replacements.SetStood"); err != nil {
		return err
	}

	return s.change(func(*store.Replacement) { s.w.Standing = rows })
}

func (s Replacements) Stood(context.Context, int64) ([]store.Stood, error) {
	if err := s.w.called("Replacements.Stood"); err != nil {
		return *new([]store.Stood), err
	}
	return s.w.Standing, nil
}

func (s Replacements) SetKeeps(_ context.Context, _ []int64, until store.Moment) error {
	if err := s.w.called("Replacements.SetKeeps"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.KeepsUntil = until })
}

func (s Replacements) SetLeftover(_ context.Context, _ int64, what string, _, _ store.Moment) error {
	if err := s.w.called("Replacements.SetLeftover"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.Leftover = what })
}

func (s Replacements) SetOpens(_ context.Context, _ int64, opens store.Moment, closed string) error {
	if err := s.w.called("Replacements.SetOpens"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.OpensAt, r.Closed = opens, closed })
}

func (s Replacements) SetApproved(_ context.Context, _ int64, by, what string) error {
	if err := s.w.called("Replacements.SetApproved"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.ApprovedBy, r.ApprovedWhat = by, what })
}

func (s Replacements) SetTidied(_ context.Context, ids []int64) error {
	if err := s.w.called("Replacements.SetTidied"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.Tidied = r.Tidied || slices.Contains(ids, r.ID) })
}

func (s Replacements) ProcedureText(context.Context, string) (string, error) {
	if err := s.w.called("Replacements.ProcedureText"); err != nil {
		return *new(string), err
	}
	return s.w.Text, nil
}

func (s Replacements) TookLive(context.Context, string, int) ([]int64, error) {
	if err := s.w.called("Replacements.TookLive"); err != nil {
		return *new([]int64), err
	}
	return nil, nil
}

func (s Replacements) Installs(context.Context, int64) ([]store.Install, error) {
	if err := s.w.called("Replacements.Installs"); err != nil {
		return *new([]store.Install), err
	}

	return s.w.Before, nil
}

func (s Replacements) KeptOf(context.Context, int64, int64) ([]int64, error) {
	if err := s.w.called("Replacements.KeptOf"); err != nil {
		return *new([]int64), err
	}
	return nil, nil
}

func (s Replacements) KeptUntil(context.Context, store.Moment) ([]int64, error) {
	if err := s.w.called("Replacements.KeptUntil"); err != nil {
		return *new([]int64), err
	}
	return s.w.Kept, nil
}

func (s Replacements) AtGates(context.Context) ([]store.AtGate, error) {
	if err := s.w.called("Replacements.AtGates"); err != nil {
		return *new([]store.AtGate), err
	}
	return s.w.Gates, nil
}

func (s Replacements) Of(context.Context, int64) ([]store.Replacement, error) {
	if err := s.w.called("Replacements.Of"); err != nil {
		return *new([]store.Replacement), err
	}
	return nil, nil
}

func (s Replacements) ByKey(context.Context, string) ([]store.Replacement, error) {
	if err := s.w.called("Replacements.ByKey"); err != nil {
		return *new([]store.Replacement), err
	}
	return nil, nil
}

func (s Replacements) Touching(context.Context, int64, string, int64) (int64, error) {
	if err := s.w.called("Replacements.Touching"); err != nil {
		return *new(int64), err
	}

	return s.w.Other, nil
}

func (s Requests) ObsoleteOf(context.Context, int64) ([]store.Obsolete, error) {
	if err := s.w.called("Requests.ObsoleteOf"); err != nil {
		return *new([]store.Obsolete), err
	}

	return s.w.Former, nil
}

// Add begins a replacement.
func (s Replacements) Add(_ context.Context, r store.Replacement, _ []int64, p replacement.Progress, yaml string,
	of *store.BatchItem) (int64, error) {
	if err := s.w.called("Replacements.Add"); err != nil {
		return *new(int64), err
	}

	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	r.Procedure, r.Edition = store.Digest(yaml), procedure.Edition
	id, err := s.w.begin(r, p)
	if err == nil && of != nil {
		at := &s.w.Batched[of.Position]
		at.Outcome, at.ReplacementID = store.ItemStarted, &id
	}
	return id, err
}

// Retry begins one that takes over from another.
func (s Replacements) Retry(_ context.Context, r store.Replacement, _ []int64, p replacement.Progress, yaml string,
	over func(int64) ([]store.Step, map[string][]byte, error), seal func(int64, []byte) []byte) (int64, error) {
	if err := s.w.called("Replacements.Retry"); err != nil {
		return *new(int64), err
	}

	steps, secrets, err := over(s.w.Row.ID + 1)
	if err != nil {
		return 0, err
	}
	s.w.Lock.Lock()
	defer s.w.Lock.Unlock()
	r.Procedure, r.Edition, r.KeepsUntil = store.Digest(yaml), procedure.Edition, store.Moment{}
	id, err := s.w.begin(r, p)
	if err != nil {
		return 0, err
	}
	for i, step := range steps {
		step.ID, step.ReplacementID = int64(i+1), id
		if step.Capture != "" {
			step.Captured = seal(step.ID, step.Captured)
		}
		s.w.Steps = append(s.w.Steps, step)
	}
	for purpose, sealed := range secrets {
		s.w.Secrets[purpose] = sealed
	}
	return id, nil
}

// Page lists all.
func (s Replacements) Page(context.Context, store.ReplacementFilter, store.Page) ([]store.Replacement, string, error) {
	if err := s.w.called("Replacements.Page"); err != nil {
		return *new([]store.Replacement), *new(string), err
	}

	return append(slices.Clone(s.w.Over), s.w.Row), "", nil
}

// CountOf counts all.
func (s Replacements) CountOf(context.Context, store.ReplacementFilter) (int, error) {
	if err := s.w.called("Replacements.CountOf"); err != nil {
		return *new(int), err
	}

	return len(s.w.Over) + 1, nil
}

func (s Replacements) SetClosed(_ context.Context, _ int64, as string) error {
	if err := s.w.called("Replacements.SetClosed"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.ClosedAs = as })
}

func (s Replacements) SetGoAhead(_ context.Context, _ int64, anyTime string) error {
	if err := s.w.called("Replacements.SetGoAhead"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.AnyTime, r.PausedBy, r.StopAfter = anyTime, "", "" })
}

func (s Replacements) SetPaused(_ context.Context, _ int64, by string) error {
	if err := s.w.called("Replacements.SetPaused"); err != nil {
		return err
	}

	return s.change(func(r *store.Replacement) { r.PausedBy = by })
}

// AskAgain takes the request in hand back.
func (s Requests) AskAgain(ctx context.Context, id int64, signer string, plan request.Plan, old store.Obsolete,
	purpose string) (store.Replacement, replacement.Action, error) {
	if err := s.w.called("Requests.AskAgain"); err != nil {
		return *new(store.Replacement), *new(replacement.Action), err
	}

	old.Request, old.SPKI = s.w.Row.Request, s.w.Row.SPKI
	r, action, err := Replacements(s).Advance(ctx, id, replacement.Event{Kind: replacement.AskedAgain}, old.At)
	if err != nil {
		return r, action, err
	}
	s.w.Former = append(s.w.Former, old)
	s.w.Row.Signer, s.w.Row.Plan.V, s.w.Row.Request, s.w.Row.SPKI = signer, plan, nil, ""
	delete(s.w.Secrets, purpose)
	return s.w.Row, action, nil
}

// TakeKey puts another key and request in the place of those in hand.
func (s Requests) TakeKey(_ context.Context, _ int64, old store.Obsolete, made request.Request, purpose string,
	sealed []byte) error {
	if err := s.w.called("Requests.TakeKey"); err != nil {
		return err
	}

	old.Request, old.SPKI = s.w.Row.Request, s.w.Row.SPKI
	s.w.Former = append(s.w.Former, old)
	s.w.Secrets[purpose], s.w.Row.Request = sealed, made.Raw
	return s.w.written()
}

// Entries returns the changes of stage and state.
func (s Replacements) Entries(context.Context, int64) ([]replacement.Entry, error) {
	if err := s.w.called("Replacements.Entries"); err != nil {
		return nil, err
	}

	return s.w.Entries, nil
}
