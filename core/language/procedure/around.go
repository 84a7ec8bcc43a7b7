package procedure

import (
	"github.com/goccy/go-yaml/ast"
)

// Around is what encloses every visit to the device: forward, undo, resume, clearing, and a revert after the seal.
//
//	around:
//	  - {enter: "{{tool}} maintenance enter", leave: "{{tool}} maintenance leave", for: change}
//	  - {enter: {person: Switch the shell on.}, leave: {person: Switch the shell off.}, for: contact}
type Around struct {
	Enter, Leave []Step
	For          Visit
}

// Visit says which visits are enclosed.
type Visit string

// The visits.
const (
	Change  Visit = "change"  // those that change something, such as by maintenance
	Contact Visit = "contact" // all, such as by a shell that is switched on
)

// Enclosure is the section under which entering and leaving stand in the journal.
const Enclosure Section = "around"

// readArounds reads one enclosure or a list of them, outermost first.
func readArounds(r *Reader, n ast.Node, p *Procedure) {
	for _, each := range r.Nodes(n) {
		var a Around
		steps := func(to *[]Step) func(ast.Node) {
			return func(n ast.Node) {
				for _, each := range r.Nodes(n) {
					if s := readEnclosing(r, each); s.Do != nil {
						*to = append(*to, s)
					}
				}
			}
		}
		r.within = Enclosure
		r.Mapping(each, "around", Keys{
			"enter": steps(&a.Enter),
			"leave": steps(&a.Leave),
			"for":   func(n ast.Node) { a.For = Visit(r.OneOf(n, []string{string(Change), string(Contact)})) },
		}, "enter", "leave", "for")
		p.Arounds = append(p.Arounds, a)
	}
	for i := range p.Arounds {
		for _, list := range [][]Step{p.Arounds[i].Enter, p.Arounds[i].Leave} {
			for k := range list {
				r.Places[&list[k]] = r.at(&list[k])
			}
		}
	}
}

// readEnclosing reads a step of an enclosure: a command, or a whole step. It may always be done again.
func readEnclosing(r *Reader, n ast.Node) Step {
	var s Step
	if _, isMap := r.Pairs(n); isMap {
		if s = r.step(n); s.Do == nil {
			return s
		}
		if s.Undo.Kind != UndoUnsaid || s.Finally != nil || len(s.Capture) > 0 || s.Each != "" || s.On != "" {
			r.Fault(n, "leave it out", "a step of around has no undo, finally, capture, each or on")
		}
	} else {
		s = Step{Do: verbs["run"]()}
		s.Do.Read(r, n)
		s.Name = s.Do.Title()
		s.Limit, _ = s.Do.Limits()
	}
	s.Repeat = true
	r.Places[&s] = n
	return s
}

// enclosed checks the steps of enclosures as it does those of sections.
func (c *Checker) enclosed() {
	names := map[string]bool{}
	for i := range c.P.Arounds {
		for _, list := range [][]Step{c.P.Arounds[i].Enter, c.P.Arounds[i].Leave} {
			for k := range list {
				step := &list[k]
				if names[step.Name] {
					c.Fault(step, "give each a name of its own with step: the journal tells steps apart by it",
						"two steps of around are called %q", step.Name)
				}
				names[step.Name] = true
				c.step(Enclosure, step)
			}
		}
	}
}

// Contacts reports whether a step reaches the device over a link.
func (s Step) Contacts() bool {
	link := s.Do.Link()
	return link != "" && link != Person && link != Itself
}

// Touches reports whether a step changes something on the device beyond the work folder.
func (s Step) Touches() bool {
	switch s.Do.Changes() {
	case Looks:
		return false
	case KnowsWay:
		return !InWork(s.Do.Writes())
	}
	return s.Undo.Kind != UndoLooks
}
