package memory

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/core/language/procedure"
	_ "freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/device"
)

// Hands returns what carries out the steps of a procedure on the device; path is what is to be installed, once it is
// known.
func (w *World) Hands(journal device.Journal, steps map[procedure.Section][]procedure.Step, path *chain.Path) *Hands {
	return &Hands{w: w, steps: steps, path: path, journal: journal}
}

// Hands carry out steps on the device in memory, and write them into the journal as the runner does.
type Hands struct {
	w       *World
	steps   map[procedure.Section][]procedure.Step
	path    *chain.Path // to be installed
	journal device.Journal
	undone  bool
}

func (h *Hands) Use(j device.Journal) { h.journal = j }

func (h *Hands) Close() {}

// step does one step, unless it was done; do changes the device.
func (h *Hands) step(ctx context.Context, section procedure.Section, name string, do func()) error {
	if _, done := h.journal.Done(section, name, name); done {
		return nil
	}
	id, err := h.journal.Begin(ctx, device.Entry{Section: section, Name: name, Verb: "run", Text: name})
	if err != nil {
		return &device.JournalError{Cause: err}
	}
	if err := h.w.moment(); err != nil { // between the journal and the device
		return &device.JournalError{Cause: err}
	}
	why := h.w.Fails[name]
	if errors.Is(why, device.ErrPerson) {
		return why
	}
	if why == nil {
		h.w.Done = append(h.w.Done, name)
		do()
	}
	if err := h.w.moment(); err != nil { // between the device and the journal
		return &device.JournalError{Cause: err}
	}
	if why != nil && h.w.Unknown {
		if err := h.journal.End(ctx, id, device.Outcome{Unknown: true, Why: why.Error()}); err != nil {
			return &device.JournalError{Cause: err}
		}
		return &device.StepError{Section: section, Step: name, Why: why.Error(), Runs: h.w.Runs,
			Cause: device.ErrCannotTell}
	}
	o := device.Outcome{OK: why == nil, Captured: h.w.Captures[name]}
	if why != nil {
		o.Why = why.Error()
	}
	if err := h.journal.End(ctx, id, o); err != nil {
		return &device.JournalError{Cause: err}
	}
	if err := h.w.moment(); err != nil {
		return &device.JournalError{Cause: err}
	}
	if why != nil {
		return &device.StepError{Section: section, Step: name, Why: why.Error(), Cause: why}
	}
	return nil
}

func (h *Hands) Run(ctx context.Context, section procedure.Section,
	scope *procedure.Scope) (*procedure.Scope, error) {
	for _, step := range h.steps[section] {
		if err := h.step(ctx, section, step.Name, func() {
			switch {
			case section != procedure.Activate || h.w.Ignores:
			case h.w.Signs != nil:
				made := h.w.Signs.Leaf(h.w.T, "gate-1.tidewrack.example").Certificate
				h.w.Serves, h.w.Chain = made, []*cert.Certificate{h.w.Signs.Certificate}
			default:
				h.w.Serves = h.path.Certificates[0]
			}
		}); err != nil {
			return scope, err
		}
		scope = scope.WithAll(h.w.Captures[step.Name])
	}
	return scope, nil
}

// Back undoes what was begun since the backup, last first.
func (h *Hands) Back(ctx context.Context, section, _ procedure.Section, _ *procedure.Scope) error {
	if section != procedure.Revert {
		return nil
	}
	for _, name := range []string{"activate", "install", "trust"} {
		if !h.journal.Fate(procedure.Section(name), name).Begun {
			continue
		}
		h.undone = true
		if err := h.step(ctx, section, "undo "+name, func() {
			if name == "activate" {
				h.w.Serves = h.w.First
			}
		}); err != nil {
			return err
		}
	}
	return nil
}

// Recover knows of each step whether it was done.
func (h *Hands) Recover(ctx context.Context, id int64, section procedure.Section, name string, _ bool,
	_ *procedure.Scope) error {
	if h.w.Unknown {
		return &device.StepError{Section: section, Step: name, Why: "nobody saw its end", Runs: h.w.Runs,
			Cause: map[bool]error{true: errors.New("it cannot be ended"), false: device.ErrCannotTell}[h.w.Runs]}
	}
	did := slices.Contains(h.w.Done, name)
	if err := h.journal.End(ctx, id, device.Outcome{OK: did, Why: "it did not run"}); err != nil {
		return &device.JournalError{Cause: err}
	}
	if did {
		return nil
	}
	return &device.StepError{Section: section, Step: name, Why: "it did not run", Cause: errors.New("not run")}
}

func (h *Hands) Deviation(context.Context, *procedure.Scope) (string, error) {
	if h.w.Serves != h.w.First {
		return fmt.Sprintf("it serves “%s”", h.w.Serves.ShortName()), nil
	}
	return "", nil
}

func (h *Hands) Looks(context.Context, *procedure.Scope, bool) (map[string]string, error) {
	return map[string]string{}, nil
}

func (h *Hands) Keep(context.Context, *procedure.Scope) error { return nil }

func (h *Hands) Look(context.Context, string) ([]byte, error) { return nil, nil }

func (h *Hands) Guarded(procedure.Section, string, *procedure.Scope) bool { return false }

func (h *Hands) Undone() bool { return h.undone }

func (h *Hands) Unmake(context.Context, *procedure.Scope) error { return nil }

func (h *Hands) Afresh(context.Context, *procedure.Scope) error { return nil }

func (h *Hands) Finish(context.Context, *procedure.Scope) error { return nil }

func (h *Hands) Leave(context.Context, *procedure.Scope, bool) error { return nil }

func (h *Hands) Within(*procedure.Scope) bool { return h.w.Inside }

// LeaveVisit leaves what encloses a visit; where "leave" fails, it stays inside.
func (h *Hands) LeaveVisit(context.Context, *procedure.Scope) error {
	h.w.Inside = h.w.Fails["leave"] != nil
	return h.w.Fails["leave"]
}

func (h *Hands) Tidy(context.Context, bool, *procedure.Scope, ...string) error {
	return h.w.Fails["tidy"]
}
