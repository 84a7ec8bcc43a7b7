package procedure

import (
	"errors"
	"slices"
	"strings"
)

// Rehearsed is one step as it would be done, for people to read.
type Rehearsed struct {
	Section Section `json:"stage" required:"true"`
	Name    string  `json:"name" required:"true"`
	Verb    string  `json:"verb" required:"true"`
	Text    string  `json:"text" required:"true"`
	Content string  `json:"content,omitempty"` // a file's text and the like
	Limit   string  `json:"limit" required:"true"`
	Undo    string  `json:"undo,omitempty"`
	When    string  `json:"when,omitempty"`
	Finally string  `json:"finally,omitempty"`
	Repeat  bool    `json:"repeat,omitempty"`

	Note string `json:"note,omitempty"`

	Difference string `json:"difference,omitempty"`

	act Act
}

// Differs is an act that changes a file, depending on what the file holds.
type Differs interface {
	File() string
	// Differ returns the file after the change, and the difference for people.
	Differ(old []byte) (changed []byte, difference string, err error)
}

// Differs is the step's act where it changes a file depending on what it holds.
func (r Rehearsed) Differs() (Differs, bool) {
	d, ok := r.act.(Differs)
	return d, ok
}

// Rehearse gives every step's final text in order, ways back included. Values
// that are yet to come stand as ‹what they are›; secrets as dots. Nothing is
// sent anywhere.
func (p Procedure) Rehearse(scope *Scope) ([]Rehearsed, error) {
	full := *scope
	full.assume = true
	full.made = &Made{} // a rehearsal makes nothing that is kept
	scope = &full
	var out []Rehearsed
	var way wayBack
	entered := map[Visit]bool{}
	enclose := func(visit Visit, leave bool) error {
		steps, err := p.enclosure(visit, leave, scope)
		out, entered[visit] = append(out, steps...), !leave
		if visit == Change && !leave {
			way.enter = steps
		}
		return err
	}
	if err := enclose(Contact, false); err != nil {
		return nil, err
	}
	for _, section := range []Section{Session, Survey, Request, Look, Backup, Trust, Install, Trial, Activate, Prove,
		Mirror, Seal, Revert, Cancel, SignOut} {
		if section == Revert {
			if n := len(out); entered[Change] {
				if err := enclose(Change, true); err != nil {
					return nil, err
				}
				way.leave = slices.Clone(out[n:])
			}
			out = append(out, way.steps()...)
		}
		for _, step := range p.Steps[section] {
			if !step.Holds(scope) {
				continue
			}
			if step.Touches() && slices.Contains(changing, section) && !entered[Change] {
				if err := enclose(Change, false); err != nil {
					return nil, err
				}
			}
			items, err := step.Items(scope)
			if err != nil {
				return nil, err
			}
			for _, item := range items {
				r, err := rehearse(section, step, item, scope)
				if err != nil {
					return nil, err
				}
				out = append(out, r)
				if err := way.add(section, step, item, r, scope); err != nil {
					return nil, err
				}
			}
			if section == Look {
				continue // what it captures are looks, and no values
			}
			for _, c := range step.Capture {
				kind := step.Do.Gives()
				if c.part() {
					kind = Text
				}
				scope = scope.With(c.Name, Value{Kind: kind, Secret: c.Secret, About: "what the step “" + step.Name +
					"” gives as " + c.Name})
			}
		}
	}
	return out, enclose(Contact, true)
}

// enclosure are the steps that enter or leave a kind of visit, in their final form; leaving goes the other way round.
func (p Procedure) enclosure(visit Visit, leave bool, scope *Scope) ([]Rehearsed, error) {
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
			r, err := rehearse(Enclosure, step, "", scope)
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

func (w *wayBack) add(section Section, step Step, item string, r Rehearsed, scope *Scope) error {
	if !slices.Contains(Sections, section) || section == Survey || section == Seal || section == Revert ||
		section == Cancel {
		return nil
	}
	entry := func(name string, ready Ready, err error) (Rehearsed, error) {
		if err != nil {
			return Rehearsed{}, err
		}
		return Rehearsed{Section: Revert, Name: name, Verb: ready.Step.Do.Word(), Text: ready.Act.Line(),
			Content: ready.Act.Detail(), Limit: ready.Step.Limit.String()}, nil
	}
	if path := step.Do.Writes(); path != "" && !inWork(path) {
		to, err := step.WritesTo(item, scope)
		if err != nil {
			return err
		}
		w.undo = append(w.undo, Rehearsed{Section: Revert, Name: "put back " + to, Verb: r.Verb, Text: to,
			Limit: DefaultLimit.String()})
	}
	switch step.Undo.Kind {
	case UndoSteps:
		for i := range slices.Backward(step.Undo.Items) { // all of it is turned round
			ready, err := step.UndoReady(i, item, scope)
			undo, err := entry(ready.Name(), ready, err)
			if err != nil {
				return err
			}
			undo.When = step.Undo.Items[i].text()
			w.undo = append(w.undo, undo)
		}
	case UndoAgain:
		w.again = append(w.again, Rehearsed{Section: Revert, Name: "again: " + r.Name, Verb: r.Verb, Text: r.Text,
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

// inWork says that a path, with its values still in it, is in the work folder.
func inWork(path string) bool {
	return strings.HasPrefix(path, "{{work}}") || strings.HasPrefix(path, "{{before}}")
}

func (w *wayBack) steps() []Rehearsed {
	slices.Reverse(w.undo)
	slices.Reverse(w.finally)
	return slices.Concat(w.enter, w.undo, w.again, w.finally, w.leave)
}

func rehearse(section Section, step Step, item string, scope *Scope) (Rehearsed, error) {
	ready, err := step.Expand(section, item, scope)
	if err != nil {
		return Rehearsed{}, err
	}
	r := Rehearsed{Section: section, Name: ready.Name(), Verb: step.Do.Word(), Text: ready.Line(),
		Content: ready.Act.Detail(), Limit: step.Limit.String(), Repeat: step.Again(), act: ready.Act}
	if step.mayBeEmpty(scope) {
		r.Note = "left out where the chain has no intermediates"
	}
	for _, c := range step.Capture {
		if c.Keep {
			r.Note = "what it gives is kept here, sealed, after the replacement: " + c.Name
		}
	}
	if r.Undo, err = step.undoText(section, item, scope); err != nil {
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

// undoText says how a step's change is taken back.
func (s Step) undoText(section Section, item string, scope *Scope) (string, error) {
	switch s.Undo.Kind {
	case UndoSteps:
		var out []string
		for i, each := range s.Undo.Items {
			undo, err := s.UndoReady(i, item, scope)
			if err != nil {
				return "", err
			}
			text := undo.Act.Line()
			if when := each.text(); when != "" {
				text += " (" + when + ")"
			}
			out = append(out, text)
		}
		return strings.Join(out, "; "), nil
	case UndoItself:
		return "the device takes it back by itself within " + s.Undo.Within.String(), nil
	case UndoAgain:
		return "done again at the end of the way back, if something was undone", nil
	case NoUndo:
		return "no way back: " + s.Undo.Because, nil
	}
	if s.Do.Changes() == KnowsWay && !strings.HasPrefix(s.Do.Writes(), "{{work}}") {
		return "the old file is kept before and put back", nil
	}
	return "", nil
}

// FinallyReady is the step that is done on every way out, in its final form.
func (s Step) FinallyReady(item string, scope *Scope) (Ready, error) {
	if s.Finally == nil {
		return Ready{}, errors.New("it has no finally")
	}
	return s.Finally.besideOf(s, "finally", "finally", item, scope)
}

func (s *Step) besideOf(of Step, section Section, what, item string, scope *Scope) (Ready, error) {
	out := *s
	out.Each = of.Each
	if out.Name == out.Do.Title() { // it has no name of its own
		out.Name = what + " of “" + of.Name + "”"
	}
	return out.Expand(section, item, scope)
}
