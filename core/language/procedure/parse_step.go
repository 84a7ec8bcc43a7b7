package procedure

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

func (r *Reader) sections(n ast.Node) map[Section][]Step {
	out := map[Section][]Step{}
	known := Keys{}
	for _, section := range append([]Section{Look}, Sections...) {
		known[string(section)] = func(n ast.Node) {
			r.within = section
			out[section] = r.list(n)
		}
	}
	r.Mapping(n, "steps", known)
	// steps move while a list grows, so places are kept by their final address
	for _, section := range append([]Section{Look}, Sections...) {
		for i := range out[section] {
			if step := &out[section][i]; step.Do != nil {
				r.Places[step] = r.at(step)
			}
		}
	}
	return out
}

// at finds a step's node by its verb, which is never copied.
func (r *Reader) at(step *Step) ast.Node {
	for other, n := range r.Places {
		if other.Do == step.Do {
			return n
		}
	}
	return nil
}

func (r *Reader) list(n ast.Node) []Step {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.Fault(n, "begin each step with - ", "this is not a list of steps")
		return nil
	}
	var out []Step
	for _, each := range list.Values {
		if r.steps++; r.steps > maxSteps {
			r.Fault(each, "make two procedures of it", "there are more than %d steps", maxSteps)
			return out
		}
		if used, ok := r.use(each); ok {
			out = append(out, used...)
			continue
		}
		before := len(r.Faults)
		step := r.step(each)
		if step.Do == nil || len(r.Faults) > before {
			r.broken[r.within] = true
		}
		if step.Do != nil {
			out = append(out, step)
			r.Places[&step] = each
		}
	}
	return out
}

// step reads a step: one verb with its own keys, and what every step can say.
func (r *Reader) step(n ast.Node) Step {
	var s Step
	pairs, _ := r.Pairs(n)
	var words []string
	for _, pair := range pairs {
		if key := pair.Key.GetToken().Value; verbs[key] != nil {
			words = append(words, key)
		}
	}
	known, all := r.stepKeys(&s)
	if len(words) == 1 {
		s.Do = verbs[words[0]]()
		known[words[0]] = func(n ast.Node) { s.Do.Read(r, n) }
		for key, read := range s.Do.Keys(r) {
			known[key] = read
		}
		known["undo"] = func(n ast.Node) {
			if s.Do.Changes() != AsksWay {
				r.Fault(n, "leave undo out", "%s needs no undo: it changes nothing, or undoes its change by itself",
					words[0])
				return
			}
			readUndo(r, n, words[0], &s)
		}
		if read := r.refusals(s.Do, &s); read != nil {
			known["refused"] = read
		}
	}
	if len(words) == 0 { // the verb may be mistyped; the keys beside it are not at fault
		for _, word := range all {
			for key := range verbs[word]().Keys(r) {
				if known[key] == nil {
					known[key] = func(ast.Node) {}
				}
			}
		}
	}
	before := len(r.Faults)
	r.Mapping(n, "a step", known)
	switch {
	case len(words) > 1:
		r.Fault(n, "make two steps of it", "a step has two verbs, %s and %s", words[0], words[1])
		return Step{}
	case len(words) == 0:
		if len(r.Faults) == before { // else what was mistyped may be the verb
			r.Fault(n, "add one of "+strings.Join(all, ", "), "a step has no verb")
		}
		return Step{}
	}
	usual, most := s.Do.Limits()
	switch {
	case s.Limit == 0:
		s.Limit = usual
	case s.Limit > most:
		r.Fault(n, "take up to "+most.String(), "the limit %s is too long", s.Limit)
	}
	if s.Do.Word() == "person" {
		s.Repeat = true // people see what is done already
	}
	if len(r.Faults) == before {
		s.Do.Finish(r, n, &s)
	}
	r.agrees(n, s)
	if s.Name == "" {
		s.Name = s.Do.Title()
	}
	s.stand(s.On)
	return s
}

// stepKeys returns the keys of every step, with the words of all verbs beside them.
func (r *Reader) stepKeys(s *Step) (known Keys, all []string) {
	known = Keys{
		"step":      func(n ast.Node) { s.Name = r.Text(n) },
		"on":        func(n ast.Node) { s.On = r.Whole(n) },
		"each":      func(n ast.Node) { s.Each = r.Whole(n) },
		"with":      func(n ast.Node) { s.When = append(s.When, r.Conditions(n, false)...) },
		"without":   func(n ast.Node) { s.When = append(s.When, r.Conditions(n, true)...) },
		"capture":   func(n ast.Node) { s.Capture = r.captures(n) },
		"expect":    func(n ast.Node) { s.Expect = r.Expect(n) },
		"limit":     func(n ast.Node) { s.Limit = r.Duration(n) },
		"repeat":    func(n ast.Node) { s.Repeat = r.OneOf(n, []string{"safe", "unsafe"}) == "safe" },
		"secret":    func(n ast.Node) { s.Secret = r.Bool(n) },
		"otherwise": func(n ast.Node) { s.Otherwise = r.Text(n) },
		"because":   func(n ast.Node) { s.Undo.Because = r.Text(n) },
		"within":    func(n ast.Node) { s.Undo.Within = r.Duration(n) },
		"finally":   func(n ast.Node) { s.Finally = r.beside(n, "finally") },
	}
	if r.within == Session {
		known["fresh"] = func(n ast.Node) { s.Fresh = r.Bool(n) }
	}
	if r.guarded { // a step of an undo
		known["when"] = func(ast.Node) {}
	}
	all, _ = Verbs()
	for _, word := range all {
		known[word] = func(ast.Node) {}
	}
	return known, all
}

// agrees checks that what a step says goes together.
func (r *Reader) agrees(n ast.Node, s Step) {
	switch {
	case !s.Expect.isZero() && !s.Do.Expects():
		r.Fault(n, "leave expect out", "expect means nothing beside %s", s.Do.Word())
	case slices.ContainsFunc(s.Capture, func(c Capture) bool { return c.Spot.Faulty() }):
		r.Fault(n, "name one of css, json, xpath and header; attribute stands beside css",
			"a capture names one place in the answer")
	case s.Do.Link() == HTTPS && slices.ContainsFunc(s.Capture, func(c Capture) bool { return c.Stderr }):
		r.Fault(n, "leave from out", "an answer has no error output")
	case slices.ContainsFunc(s.Capture, func(c Capture) bool { return !c.Spot.IsZero() }) && s.Do.Link() != HTTPS &&
		s.Do.Link() != NETCONF:
		r.Fault(n, "write match: with a pattern", "css, json, xpath and header belong to what http answers")
	case slices.ContainsFunc(s.Capture, func(c Capture) bool { return c.Passing }) &&
		(r.within != Survey || s.Each != "" || s.Do.Link() == Person):
		r.Fault(n, "move the step to survey, without each", "until: restart belongs to a step of survey: it is "+
			"done again whenever its value is needed")
	case slices.ContainsFunc(s.Capture, func(c Capture) bool { return c.Keep }) &&
		(s.Each != "" || s.Do.Link() == Person):
		r.Fault(n, "leave keep out, or do the step without each", "keep: true belongs to one file that the "+
			"device gives")
	case len(s.Capture) > 0 && s.Do.Gives() == "":
		r.Fault(n, "leave capture out", "%s gives nothing to capture", s.Do.Word())
	case (s.Undo.Kind == NoUndo) != (s.Undo.Because != ""):
		r.Fault(n, "write undo: none and because: the reason", "undo: none and because belong together")
	case (s.Undo.Kind == UndoItself) != (s.Undo.Within > 0):
		r.Fault(n, "write undo: itself and within: the time", "undo: itself and within belong together")
	}
}

// stand has a step, and what is beside it, done on a device.
func (s *Step) stand(on string) {
	for _, each := range append(s.Beside(), s) {
		each.On = on
	}
}

// Beside returns the steps that stand beside a step: those that undo it, and the one that is always done.
func (s *Step) Beside() []*Step {
	var out []*Step
	for i := range s.Undo.Items {
		out = append(out, &s.Undo.Items[i].Step)
	}
	if s.Finally != nil {
		out = append(out, s.Finally)
	}
	return out
}

// refuser is a verb that can tell a refusal from other failures.
type refuser interface {
	// Refusals reads what counts as a refusal.
	Refusals(r *Reader, s *Step) func(ast.Node)
}

// refusals reads what counts as a refusal, of verbs that can tell; nil: the others.
func (r *Reader) refusals(do Verb, s *Step) func(ast.Node) {
	if v, can := do.(refuser); can {
		return v.Refusals(r, s)
	}
	return nil
}

// beside reads a step that is beside another one.
func (r *Reader) beside(n ast.Node, what string) *Step {
	if r.depth > 0 {
		r.Fault(n, "leave it out", "%s cannot stand in a step that stands beside another one", what)
		return nil
	}
	if _, isMap := r.Pairs(n); !isMap {
		s := Step{Do: verbs["run"]()}
		s.Do.Read(r, n)
		s.Name = s.Do.Title()
		s.Limit, _ = s.Do.Limits()
		return &s
	}
	guarded := r.guarded
	r.depth++
	defer func() { r.depth--; r.guarded = guarded }()
	s := r.step(n)
	if s.Do == nil {
		return nil
	}
	if s.Undo.Kind != UndoUnsaid || len(s.Capture) > 0 || s.Each != "" || s.On != "" || s.When != nil {
		r.Fault(n, "leave it out: it follows the step beside which it stands", "a step in %s has no undo, capture, "+
			"on, each, with or without of its own", what)
	}
	return &s
}

// captures reads a name for the whole output, or names with patterns.
func (r *Reader) captures(n ast.Node) []Capture {
	pairs, isMap := r.Pairs(n)
	if !isMap {
		return []Capture{{Name: r.valueNamed(n, "a captured value")}}
	}
	var out []Capture
	for _, pair := range pairs {
		c := Capture{Name: r.valueNamed(pair.Key, "a captured value")}
		if _, nested := r.Pairs(pair.Value); nested {
			known := r.Spots(&c)
			known["from"] = func(n ast.Node) { c.Stderr = r.OneOf(n, []string{"output", "errors"}) == "errors" }
			known["secret"] = func(n ast.Node) { c.Secret = r.Bool(n) }
			known["keep"] = func(n ast.Node) { c.Keep = r.Bool(n) }
			known["until"] = func(n ast.Node) { c.Passing = r.OneOf(n, []string{"restart"}) == "restart" }
			r.Mapping(pair.Value, "the capture "+c.Name, known)
			c.Secret = c.Secret || c.Keep // exports hold keys
		} else {
			c.Pattern = r.Pattern(pair.Value)
		}
		out = append(out, c)
	}
	return out
}

func (r *Reader) Expect(n ast.Node) Expect {
	var e Expect
	r.Mapping(n, "expect", Keys{
		"exit": func(n ast.Node) {
			for _, each := range r.Nodes(n) {
				e.Exit = append(e.Exit, r.Number(each, 0, 255))
			}
		},
		"match":      func(n ast.Node) { e.Match = r.Pattern(n) },
		"not_match":  func(n ast.Node) { e.NotMatch = r.Pattern(n) },
		"errors":     func(n ast.Node) { e.Stderr = r.Pattern(n) },
		"not_errors": func(n ast.Node) { e.NotStderr = r.Pattern(n) },
		"same":       func(n ast.Node) { e.Same = r.Whole(n) },
	})
	return e
}
