// Package rehearsal shows every step of a replacement in its final text, with its way back, before anything is done.
package rehearsal

import (
	"slices"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
)

// Rehearsed is one step as it would be done, for people to read.
type Rehearsed struct {
	Section procedure.Section `json:"stage" required:"true"`
	Name    string            `json:"name" required:"true"`
	Verb    string            `json:"verb" required:"true"`
	Text    string            `json:"text" required:"true"`
	Content string            `json:"content,omitempty"` // a file's text and the like
	Limit   string            `json:"limit" required:"true"`
	Undo    string            `json:"undo,omitempty"`
	When    string            `json:"when,omitempty"`
	Finally string            `json:"finally,omitempty"`
	Repeat  bool              `json:"repeat,omitempty"`

	Note string `json:"note,omitempty"`

	Difference string `json:"difference,omitempty"`

	act procedure.Act
}

// Differs is an act that changes a file, depending on what the file holds.
type Differs interface {
	File() string
	// Differ returns the file after the change, and the difference for people.
	Differ(old []byte) (changed []byte, difference string, err error)
}

// Differs returns the step's act where it changes a file depending on what it holds.
func (r Rehearsed) Differs() (Differs, bool) {
	d, ok := r.act.(Differs)
	return d, ok
}

// Of returns every step's final text in order, ways back included. Values
// that are yet to come stand as ‹what they are›; secrets as dots. Nothing is
// sent anywhere.
func Of(p procedure.Procedure, scope *procedure.Scope) ([]Rehearsed, error) {
	full := *scope
	full.Assume = true
	full.Made = &procedure.Made{} // a rehearsal makes nothing that is kept
	w := &walk{procedure: p, scope: &full, entered: map[procedure.Visit]bool{}}
	if err := w.enclose(procedure.Contact, false); err != nil {
		return nil, err
	}
	for _, section := range []procedure.Section{procedure.Session, procedure.Survey, procedure.Request,
		procedure.Look, procedure.Backup, procedure.Trust, procedure.Install, procedure.Trial, procedure.Activate,
		procedure.Prove,
		procedure.Mirror, procedure.Seal, procedure.Revert, procedure.Cancel, procedure.SignOut} {
		if section == procedure.Revert {
			if n := len(w.out); w.entered[procedure.Change] {
				if err := w.enclose(procedure.Change, true); err != nil {
					return nil, err
				}
				w.way.leave = slices.Clone(w.out[n:])
			}
			w.out = append(w.out, w.way.steps()...)
		}
		for _, step := range p.Steps[section] {
			if err := w.step(section, step); err != nil {
				return nil, err
			}
		}
	}
	return w.out, w.enclose(procedure.Contact, true)
}

// walk is a rehearsal so far.
type walk struct {
	procedure procedure.Procedure
	scope     *procedure.Scope // with what earlier steps capture
	out       []Rehearsed
	way       wayBack
	entered   map[procedure.Visit]bool
}

func (w *walk) enclose(visit procedure.Visit, leave bool) error {
	steps, err := enclosure(w.procedure, visit, leave, w.scope)
	w.out, w.entered[visit] = append(w.out, steps...), !leave
	if visit == procedure.Change && !leave {
		w.way.enter = steps
	}
	return err
}

func (w *walk) step(section procedure.Section, step procedure.Step) error {
	if !step.Holds(w.scope) {
		return nil
	}
	if step.Touches() && slices.Contains(procedure.Changing, section) && !w.entered[procedure.Change] {
		if err := w.enclose(procedure.Change, false); err != nil {
			return err
		}
	}
	items, err := step.Items(w.scope)
	if err != nil {
		return err
	}
	for _, item := range items {
		r, err := rehearse(section, step, item, w.scope)
		if err != nil {
			return err
		}
		w.out = append(w.out, r)
		if err := w.way.add(section, step, item, r, w.scope); err != nil {
			return err
		}
	}
	if section == procedure.Look {
		return nil // what it captures are looks, and no values
	}
	for _, c := range step.Capture {
		kind := step.Do.Gives()
		if c.Part() {
			kind = value.Text
		}
		w.scope = w.scope.With(c.Name, value.Value{Kind: kind, Secret: c.Secret,
			About: "what the step “" + step.Name + "” gives as " + c.Name})
	}
	return nil
}

// enclosure returns the steps that enter or leave a kind of visit, in their final form; leaving goes the other way
// round.
func enclosure(p procedure.Procedure, visit procedure.Visit, leave bool, scope *procedure.Scope) ([]Rehearsed, error) {
	var out []Rehearsed
	arounds := slices.Clone(p.Arounds)
	if leave {
		slices.Reverse(arounds)
	}
	for _, a := range arounds {
		steps := a.Enter
		if leave {
			steps = a.Leave
		}
		for _, step := range steps {
			if a.For != visit || !step.Holds(scope) {
				continue
			}
			r, err := rehearse(procedure.Enclosure, step, "", scope)
			if err != nil {
				return nil, err
			}
			out = append(out, r)
		}
	}
	return out, nil
}

// wayBack is what is done when a stage after backup fails: undoing, last first, then
// what is done again, then what is always done.
type wayBack struct{ enter, undo, again, finally, leave []Rehearsed }

func (w *wayBack) add(section procedure.Section, step procedure.Step, item string, r Rehearsed,
	scope *procedure.Scope) error {
	if !slices.Contains(procedure.Sections, section) || section == procedure.Survey || section == procedure.Seal ||
		section == procedure.Revert ||
		section == procedure.Cancel {
		return nil
	}
	entry := func(name string, ready procedure.Ready, err error) (Rehearsed, error) {
		if err != nil {
			return Rehearsed{}, err
		}
		return Rehearsed{Section: procedure.Revert, Name: name, Verb: ready.Step.Do.Word(), Text: ready.Act.Line(),
			Content: ready.Act.Detail(), Limit: ready.Step.Limit.String()}, nil
	}
	if path := step.Do.Writes(); path != "" && !procedure.InWork(path) {
		to, err := step.WritesTo(item, scope)
		if err != nil {
			return err
		}
		w.undo = append(w.undo, Rehearsed{Section: procedure.Revert, Name: "put back " + to, Verb: r.Verb, Text: to,
			Limit: procedure.DefaultLimit.String()})
	}
	switch step.Undo.Kind {
	case procedure.UndoSteps:
		for i := range slices.Backward(step.Undo.Items) { // all of it is turned round
			ready, err := step.UndoReady(i, item, scope)
			undo, err := entry(ready.Name(), ready, err)
			if err != nil {
				return err
			}
			undo.When = step.Undo.Items[i].Text()
			w.undo = append(w.undo, undo)
		}
	case procedure.UndoAgain:
		w.again = append(w.again, Rehearsed{Section: procedure.Revert, Name: "again: " + r.Name, Verb: r.Verb,
			Text:  r.Text,
			Limit: r.Limit, When: "if something was undone"})
	}
	if step.Finally == nil {
		return nil
	}
	ready, err := step.FinallyReady(item, scope)
	final, err := entry(ready.Name(), ready, err)
	w.finally = append(w.finally, final)
	return err
}

func (w *wayBack) steps() []Rehearsed {
	slices.Reverse(w.undo)
	slices.Reverse(w.finally)
	return slices.Concat(w.enter, w.undo, w.again, w.finally, w.leave)
}

func rehearse(section procedure.Section, step procedure.Step, item string, scope *procedure.Scope) (Rehearsed, error) {
	ready, err := step.Expand(section, item, scope)
	if err != nil {
		return Rehearsed{}, err
	}
	r := Rehearsed{Section: section, Name: ready.Name(), Verb: step.Do.Word(), Text: ready.Line(),
		Content: ready.Act.Detail(), Limit: step.Limit.String(), Repeat: step.Again(), act: ready.Act}
	if step.MayBeEmpty(scope) {
		r.Note = "left out where the chain has no intermediates"
	}
	for _, c := range step.Capture {
		if c.Keep {
			r.Note = "what it gives is kept here, sealed, after the replacement: " + c.Name
		}
	}
	if r.Undo, err = step.UndoText(section, item, scope); err != nil {
		return r, err
	}
	if step.Finally != nil {
		final, err := step.FinallyReady(item, scope)
		if err != nil {
			return r, err
		}
		r.Finally = final.Act.Line()
	}
	return r, nil
}
