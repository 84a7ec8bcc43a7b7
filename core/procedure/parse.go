package procedure

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/pack"
	"freshseal/core/request"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Parse reads a procedure and checks all of it: its form, its names, and that
// every value stands where it can be made safe. It reports every fault it
// finds, in the order of the text; the procedure can be used only when there is none.
func Parse(text []byte) (Procedure, []Fault) {
	if len(text) > MaxSize {
		return Procedure{}, []Fault{{1, 1, fmt.Sprintf("the file has %d bytes, more than %d", len(text), MaxSize), "split it, or leave texts out"}}
	}
	r := &reader{lines: strings.Split(string(text), "\n")}
	p := r.file(text)
	if len(r.faults) == 0 {
		r.check(&p)
	}
	slices.SortStableFunc(r.faults, func(a, b Fault) int { return (a.Line-b.Line)*1000 + a.Column - b.Column })
	return p, r.faults
}

// reader turns the tree into a Procedure and collects faults on its way.
type reader struct {
	lines  []string
	faults []Fault
	places map[*Step]ast.Node // where each step stands, for faults found later
	steps  int
}

func (r *reader) fault(at ast.Node, instead, format string, args ...any) {
	line, column := 1, 1
	if at != nil && at.GetToken() != nil {
		line, column = at.GetToken().Position.Line, at.GetToken().Position.Column
	}
	r.faults = append(r.faults, Fault{line, column, fmt.Sprintf(format, args...), instead})
}

// faultIn reports a fault at a fragment of a text that begins at a node.
func (r *reader) faultIn(at ast.Node, fragment, instead, format string, args ...any) {
	start := at.GetToken().Position
	for i := max(start.Line-1, 0); i < len(r.lines); i++ {
		from := 0
		if i == start.Line-1 {
			from = min(start.Column-1, len(r.lines[i]))
		}
		if found := strings.Index(r.lines[i][from:], fragment); found >= 0 {
			r.faults = append(r.faults, Fault{i + 1, from + found + 1, fmt.Sprintf(format, args...), instead})
			return
		}
	}
	r.fault(at, instead, format, args...)
}

var yamlError = regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`)

func (r *reader) file(text []byte) Procedure {
	var p Procedure
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		f := Fault{1, 1, "this is not YAML: " + err.Error(), "see how the built-in procedures are written: freshseal procedure show NAME"}
		if m := yamlError.FindStringSubmatch(err.Error()); m != nil {
			f.Line, _ = strconv.Atoi(m[1])
			f.Column, _ = strconv.Atoi(m[2])
			f.What = "this is not YAML: " + m[3]
		}
		r.faults = append(r.faults, f)
		return p
	}
	if len(tree.Docs) != 1 || tree.Docs[0].Body == nil {
		r.fault(nil, "begin with procedure: NAME", "the file holds %d YAML documents instead of one", len(tree.Docs))
		return p
	}
	r.places = map[*Step]ast.Node{}
	r.mapping(tree.Docs[0].Body, "the procedure", keys{
		"procedure": func(n ast.Node) { p.Name = r.name(n) },
		"title":     func(n ast.Node) { p.Title = r.text(n) },
		"about":     func(n ast.Node) { p.About = strings.TrimSpace(r.text(n)) },
		"links":     func(n ast.Node) { p.Links = r.words(n, links) },
		"settings":  func(n ast.Node) { p.Settings = r.settings(n) },
		"traits":    func(n ast.Node) { p.Traits = r.traits(n) },
		"packs":     func(n ast.Node) { p.Packs = r.packs(n) },
		"steps":     func(n ast.Node) { p.Steps = r.sections(n) },
	}, "procedure", "title", "links", "traits", "steps")
	return p
}

// keys says what to do with the value of each key that a mapping may have.
type keys map[string]func(ast.Node)

// mapping reads a mapping by its known keys; unknown and doubled ones are
// faults, and so are required ones that are missing.
func (r *reader) mapping(n ast.Node, what string, known keys, required ...string) {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write key: value lines", "%s is not a mapping", what)
		return
	}
	var names []string
	for name := range known {
		names = append(names, name)
	}
	slices.Sort(names)
	seen := map[string]bool{}
	for _, pair := range pairs {
		key := pair.Key.GetToken().Value
		read, ok := known[key]
		switch {
		case !ok:
			instead := "the keys are " + strings.Join(names, ", ")
			if near := nearest(key, names); near != "" {
				instead = "write " + near
			}
			r.fault(pair.Key, instead, "%s has no key %q", what, key)
		case seen[key]:
			r.fault(pair.Key, "leave one out", "%s has the key %q twice", what, key)
		case pair.Value == nil || pair.Value.Type() == ast.NullType:
			r.fault(pair.Key, "give it a value or leave the key out", "%q is empty", key)
		default:
			read(pair.Value)
		}
		seen[key] = true
	}
	for _, key := range required {
		if !seen[key] {
			r.fault(n, "add "+key+": …", "%s lacks the key %q", what, key)
		}
	}
}

func (r *reader) pairs(n ast.Node) ([]*ast.MappingValueNode, bool) {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}, true
	}
	return nil, false
}

func (r *reader) text(n ast.Node) string {
	switch t := n.(type) {
	case *ast.StringNode:
		return t.Value
	case *ast.LiteralNode:
		return t.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return t.GetToken().Value
	}
	r.fault(n, "write one value; anchors and aliases are not part of the language", "this is not a text")
	return ""
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
var valueName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

func (r *reader) name(n ast.Node) string {
	name := r.text(n)
	if !nameForm.MatchString(name) {
		r.fault(n, "use small letters, digits and -", "%q cannot be a procedure's name", name)
	}
	return name
}

// words reads one word or a list of them, each among the allowed ones.
func (r *reader) words(n ast.Node, allowed []string) []string {
	nodes := []ast.Node{n}
	if list, ok := n.(*ast.SequenceNode); ok {
		nodes = list.Values
	}
	var out []string
	for _, each := range nodes {
		out = append(out, r.oneOf(each, allowed))
	}
	return out
}

func (r *reader) oneOf(n ast.Node, allowed []string) string {
	word := r.text(n)
	if !slices.Contains(allowed, word) {
		r.fault(n, "write one of "+strings.Join(allowed, ", "), "%q is not known here", word)
	}
	return word
}

func (r *reader) duration(n ast.Node) time.Duration {
	d, err := time.ParseDuration(r.text(n))
	if err != nil || d <= 0 || d > maxHandLimit {
		r.fault(n, "write a length of time, such as 30s, 5m or 48h", "%q is not such a length of time", r.text(n))
	}
	return d
}

func (r *reader) settings(n ast.Node) []Setting {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write name: {kind: …, about: …}", "settings is not a mapping")
	}
	var out []Setting
	for _, pair := range pairs {
		s := Setting{Name: pair.Key.GetToken().Value, Kind: Text}
		if !valueName.MatchString(s.Name) {
			r.fault(pair.Key, "use small letters, digits and _", "%q cannot be a setting's name", s.Name)
		}
		if _, taken := Given[s.Name]; taken {
			r.fault(pair.Key, "choose another name", "%q is the name of a value that every procedure has", s.Name)
		}
		r.mapping(pair.Value, "the setting "+s.Name, keys{
			"kind":    func(n ast.Node) { s.Kind = Kind(r.oneOf(n, strs(settingKinds))) },
			"about":   func(n ast.Node) { s.About = r.text(n) },
			"default": func(n ast.Node) { s.Default = r.text(n) },
		}, "about")
		if _, err := s.Kind.read(s.Default); err != nil {
			r.fault(pair.Key, "correct the default", "the default of %s: %v", s.Name, err)
		}
		out = append(out, s)
	}
	return out
}

func (r *reader) traits(n ast.Node) Traits {
	t := Traits{Form: pack.LeafFirst, RestartLimit: time.Minute}
	r.mapping(n, "traits", keys{
		"key_types": func(n ast.Node) {
			for _, word := range r.words(n, strs(request.AllKeyTypes)) {
				t.KeyTypes = append(t.KeyTypes, request.KeyType(word))
			}
		},
		"form":          func(n ast.Node) { t.Form = pack.Form(r.oneOf(n, strs(pack.Forms))) },
		"key_made_by":   func(n ast.Node) { t.KeyGiven = r.oneOf(n, []string{"device", "service"}) == "service" },
		"restart_limit": func(n ast.Node) { t.RestartLimit = r.duration(n) },
	}, "key_types")
	return t
}

func (r *reader) sections(n ast.Node) map[Section][]Step {
	out := map[Section][]Step{}
	known := keys{}
	for _, section := range Sections {
		known[string(section)] = func(n ast.Node) { out[section] = r.list(n) }
	}
	r.mapping(n, "steps", known, string(Backup), string(Activate), string(Revert))
	return out
}

func (r *reader) list(n ast.Node) []Step {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.fault(n, "begin each step with - ", "this is not a list of steps")
		return nil
	}
	out := make([]Step, 0, len(list.Values))
	for _, each := range list.Values {
		if r.steps++; r.steps > maxSteps {
			r.fault(each, "make two procedures of it", "there are more than %d steps", maxSteps)
			return out
		}
		out = append(out, r.step(each))
		r.places[&out[len(out)-1]] = each
	}
	return out
}

func (r *reader) step(n ast.Node) Step {
	s := Step{Mode: 0o600}
	known := keys{
		"step":      func(n ast.Node) { s.Name = r.text(n) },
		"content":   func(n ast.Node) { s.Content = r.single(n) },
		"mode":      func(n ast.Node) { s.Mode = r.mode(n) },
		"copy":      func(n ast.Node) { s.Copy = r.labelled(n, "copy", r.text) },
		"files":     func(n ast.Node) { s.Files = r.files(n) },
		"ask":       func(n ast.Node) { s.Ask = r.text(n) },
		"seen":      func(n ast.Node) { s.Seen = Sight(r.oneOf(n, []string{string(SeenNew), string(SeenOld)})) },
		"capture":   func(n ast.Node) { s.Capture = r.capture(n) },
		"when":      func(n ast.Node) { s.When = r.when(n) },
		"expect":    func(n ast.Node) { s.Expect = r.expect(n) },
		"limit":     func(n ast.Node) { s.Limit = r.duration(n) },
		"repeat":    func(n ast.Node) { s.Repeat = r.oneOf(n, []string{"safe", "unsafe"}) == "safe" },
		"secret":    func(n ast.Node) { s.Secret = r.oneOf(n, []string{"true", "false"}) == "true" },
		"otherwise": func(n ast.Node) { s.Otherwise = r.text(n) },
	}
	for _, verb := range verbs {
		known[string(verb)] = func(n ast.Node) {
			if s.Verb != "" {
				r.fault(n, "make two steps of it", "a step has two verbs, %s and %s", s.Verb, verb)
			}
			s.Verb = verb
			if verb == Wait {
				s.Pause = r.duration(n)
				return
			}
			if verb == Own {
				s.Text = r.oneOf(n, ownActs)
				return
			}
			s.Text = strings.TrimSpace(r.text(n))
			if verb == Run {
				if f := checkShell(s.Text); f != nil {
					r.faultIn(n, f.fragment, f.instead, "%s", f.what)
				}
			}
		}
	}
	before := len(r.faults)
	r.mapping(n, "a step", known, "step")
	if len(r.faults) > before {
		return s // what else is missing may be what was mistyped
	}
	if s.Verb == "" {
		r.fault(n, "add one of "+strings.Join(strs(verbs), ", "), "a step has no verb")
	}
	r.limits(n, &s)
	if (s.Verb == Put || s.Verb == Own && s.Text == LayDown) != (s.Content != "") {
		r.fault(n, "write put: PATH and content: \"{{value}}\" together", "put and content belong together")
	}
	return s
}

// single reads a text that is one value and nothing else.
func (r *reader) single(n ast.Node) string {
	text := strings.TrimSpace(r.text(n))
	m := placeholder.FindStringSubmatch(text)
	if m == nil || m[0] != text {
		r.fault(n, `write one value, such as "{{leaf_first}}"`, "%q is not one value alone", text)
		return ""
	}
	return m[1]
}

func (r *reader) mode(n ast.Node) uint32 {
	mode, err := strconv.ParseUint(strings.TrimPrefix(n.GetToken().Value, "0o"), 8, 32)
	if err != nil || mode > 0o777 {
		r.fault(n, "write it in octal, such as 0600", "%q is no file mode", n.GetToken().Value)
	}
	return uint32(mode)
}

func (r *reader) capture(n ast.Node) string {
	name := r.text(n)
	if !valueName.MatchString(name) {
		r.fault(n, "use small letters, digits and _", "%q cannot be a value's name", name)
	}
	return name
}

func (r *reader) when(n ast.Node) Condition {
	name, not := strings.CutPrefix(r.text(n), "not ")
	return Condition{Setting: name, Not: not}
}

func (r *reader) expect(n ast.Node) Expect {
	var e Expect
	r.mapping(n, "expect", keys{
		"exit": func(n ast.Node) {
			var err error
			if e.Exit, err = strconv.Atoi(r.text(n)); err != nil || e.Exit < 0 || e.Exit > 255 {
				r.fault(n, "write a number from 0 to 255", "%q is no exit code", r.text(n))
			}
		},
		"match": func(n ast.Node) {
			var err error
			if e.Match, err = regexp.Compile(r.text(n)); err != nil {
				r.fault(n, "see the syntax of RE2", "this is no regular expression: %v", err)
			}
		},
		"same": func(n ast.Node) { e.Same = r.single(n) },
	})
	return e
}

func strs[S ~string](list []S) []string {
	out := make([]string, len(list))
	for i, each := range list {
		out[i] = string(each)
	}
	return out
}
