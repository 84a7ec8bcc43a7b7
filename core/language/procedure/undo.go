package procedure

import (
	"slices"
	"strings"
	"time"

	"freshseal/core/language/look"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// UndoKind says how a step's change is taken back.
type UndoKind string

// The kinds of undoing.
const (
	UndoUnsaid UndoKind = ""     // the verb knows it, or there is nothing to undo
	UndoSteps  UndoKind = "step" // by steps of its own
	// nothing to put back; done once more at the end of the way back, if something was undone
	UndoAgain  UndoKind = "again"
	UndoLooks  UndoKind = "nothing" // the step changes nothing
	UndoItself UndoKind = "itself"  // the device takes it back by itself, within a time
	NoUndo     UndoKind = "none"    // there is no way back
)

// Undo is how a step is undone.
type Undo struct {
	Kind    UndoKind
	Items   []UndoItem    // of UndoSteps, in the order in which they are tried
	Within  time.Duration // of UndoItself
	Because string        // of NoUndo: why there is no way back
}

// UndoItem is one step that takes a change back. It is absolute where it names what is put back (an id, a
// name, a value that was captured), and may then be sent at any time; else When says what must be seen for it
// to be sent.
//
//	undo: {http: PUT /api/administration, json: {certificate: "{{chosen_before}}"}}                    absolute
//	undo: {http: POST /api/certificate/previous, when: {wire: new}}                                   guarded
//	undo: {http: DELETE /api/stage, when: always}                                                     harmless
type UndoItem struct {
	Step   Step
	When   look.Guard // nil: it is absolute, or harmless
	Always bool       // harmless at any time
	Named  bool       // it names what it puts back
	Hold   bool       // of the second edition, in install: nothing says when it may be sent, so a person decides
}

// Text returns when the item is sent, for people.
func (u UndoItem) Text() string {
	switch {
	case u.Hold:
		return "by a person: nothing says whether it may be sent"
	case len(u.When) > 0 && !u.Named && u.When[look.Previous] == "":
		return "when " + u.When.String() + "; what it restores is known to the device alone"
	case len(u.When) > 0:
		return "when " + u.When.String()
	}
	return ""
}

// readUndo reads how a step is undone: a word, a text for the same verb, a step, or a list of steps.
func readUndo(r *Reader, n ast.Node, verb string, s *Step) {
	if list, isList := n.(*ast.SequenceNode); isList {
		s.Undo.Kind = UndoSteps
		for _, each := range list.Values {
			s.Undo.Items = append(s.Undo.Items, readUndoItem(r, each))
		}
		return
	}
	if _, isMap := r.Pairs(n); isMap {
		s.Undo.Kind, s.Undo.Items = UndoSteps, []UndoItem{readUndoItem(r, n)}
		return
	}
	switch kind := UndoKind(r.Text(n)); kind {
	case UndoAgain, UndoLooks, UndoItself, NoUndo:
		s.Undo.Kind = kind
		return
	}
	one := Step{Do: verbs[verb]()}
	one.Do.Read(r, n)
	one.Name, one.Repeat = one.Do.Title(), verb == "person"
	one.Limit, _ = one.Do.Limits()
	s.Undo.Kind, s.Undo.Items = UndoSteps, []UndoItem{{Step: one}}
}

// readUndoItem reads one step of an undo, with when beside it.
func readUndoItem(r *Reader, n ast.Node) UndoItem {
	var item UndoItem
	pairs, isMap := r.Pairs(n)
	if !isMap {
		r.Fault(n, "write a step, such as {run: gatectl back, when: {wire: new}}", "this is not a step")
		return item
	}
	for _, pair := range pairs {
		if pair.Key.GetToken().Value == "when" {
			item.When, item.Always = readGuard(r, pair.Value)
		}
	}
	r.guarded = true
	step := r.beside(n, "undo")
	r.guarded = false
	if step != nil {
		item.Step = *step
	}
	return item
}

// readGuard reads when an undo is sent: always, or what each look must read.
func readGuard(r *Reader, n ast.Node) (look.Guard, bool) {
	pairs, isMap := r.Pairs(n)
	if !isMap {
		return nil, r.OneOf(n, []string{"always"}) == "always"
	}
	out := look.Guard{}
	names := append([]string{look.Wire}, look.Captured...)
	known := Keys{}
	for _, name := range names {
		known[name] = func(n ast.Node) {
			out[name] = look.Word(r.OneOf(n, []string{string(look.New), string(look.Before)}))
		}
	}
	r.Mapping(n, "when", known)
	if len(pairs) == 0 {
		r.Fault(n, "write when: {wire: new}, or when: always", "when names nothing")
	}
	return out, false
}

// ways checks that each item of an undo says what it puts back, or when it is sent.
func (c *Checker) ways(section Section, step *Step) {
	if step.Undo.Kind != UndoSteps {
		return
	}
	for i := range step.Undo.Items {
		item := &step.Undo.Items[i]
		if item.Step.Do == nil {
			continue
		}
		item.Named = c.absolute(item.Step)
		for _, name := range item.When.Names() {
			if name != look.Wire && !slices.Contains(c.P.Looks(), name) {
				c.FaultAt(step, name, "capture it in a step of the section look", "when names the look %q, and "+
					"nothing captures it", name)
			}
		}
		_, next := item.When[look.Next]
		switch {
		case item.Always, section != Install && section != Request && len(item.When) > 0, section == Install && next:
		case section == Install && len(item.When) > 0:
			c.Fault(step, "name the look next, such as when: {wire: before, next: new}, or write when: always "+
				"where the undo is harmless at any time",
				"the undo of “%s” does not look at what is staged: in install nothing is served yet", step.Name)
		case section == Request && len(item.When) > 0:
			c.Fault(step, "name what the step made, such as {{replacement}}, or write when: always",
				"the undo of “%s” asks for what is served, which a request does not change", step.Name)
		case item.Named:
		case c.Second && section == Install:
			item.Hold = true // only a person knows whether it may be sent
		case c.Second:
			item.When = look.Guard{look.Wire: look.New}
		default:
			c.Fault(step, "name what is put back, such as a value that a step captured, or say when it is sent: "+
				"when: {wire: new}; when: always where it is harmless at any time",
				"the undo of “%s” does not say what it puts back: “the one before” is a third certificate where "+
					"nothing was changed", step.Name)
		}
	}
}

// own are given values that name what belongs to one replacement, or what stood before it.
var own = []string{"replacement", "work", "before", "old_sha256"}

// absolute reports whether a step names what it puts back or removes.
func (c *Checker) absolute(s Step) bool {
	if s.Do.Link() == Itself {
		return true // it keeps what stood itself
	}
	for _, u := range s.Do.Uses() {
		for _, name := range value.Named(u.Text) {
			setting, _ := c.P.Setting(name)
			if got, captured := c.Captures[name]; slices.Contains(own, name) || setting.Kind == value.Pattern ||
				captured &&
					got.section != Session {
				return true
			}
		}
	}
	return false
}

// UndoReady returns one step that undoes another one, in its final form.
func (s Step) UndoReady(i int, item string, scope *Scope) (Ready, error) {
	of := s
	if len(s.Undo.Items) > 1 && i > 0 {
		of.Name += " " + strings.Repeat("′", i) // the journal tells steps apart by their names
	}
	return s.Undo.Items[i].Step.besideOf(of, Revert, "undo", item, scope)
}

// Told returns how a change is taken back, by the names of the steps.
func (u Undo) Told() string {
	var out []string
	for _, item := range u.Items {
		if item.Step.Do == nil { // in a file with faults
			continue
		}
		text := item.Step.Name
		if when := item.Text(); when != "" {
			text += " (" + when + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}
