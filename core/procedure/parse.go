package procedure

import (
	"bytes"
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

// Parse reads a procedure and checks all of it. It reports every fault in one go,
// in the order of the text; a procedure with a fault that is no warning cannot be
// used. The names of the built-in procedures are taken.
func Parse(text []byte) (Procedure, []Fault) { return parse(text, BuiltinNames(), parts()) }

func parse(text []byte, taken []string, parts map[string]Part) (Procedure, []Fault) {
	r, root := read(text)
	var p Procedure
	if root == nil {
		return p, r.faults
	}
	r.parts = parts
	p = r.file(root)
	if p.Name != "" && slices.Contains(taken, p.Name) {
		r.faultIn(root, p.Name, "choose another name", "a built-in procedure is called %s", p.Name)
	}
	r.check(&p)
	return p, r.sorted()
}

// reader turns the tree into a Procedure and collects faults on its way.
type reader struct {
	lines  []string
	faults []Fault
	places map[*Step]ast.Node  // where each step stands, for faults found later
	names  map[string]ast.Node // where each setting and pack stands
	parts  map[string]Part
	broken map[Section]bool // sections with a step that could not be read
	steps  int
	depth  int
	more   []Setting // of the parts in use
	within Section
}

// read parses the YAML and finds what YAML itself has against it.
func read(text []byte) (*reader, ast.Node) {
	r := &reader{lines: strings.Split(string(text), "\n"), places: map[*Step]ast.Node{}, names: map[string]ast.Node{}, broken: map[Section]bool{}}
	switch {
	case len(text) > MaxSize:
		r.add(1, 1, "make it smaller", "the file has %d bytes, more than %d", len(text), MaxSize)
		return r, nil
	case bytes.HasPrefix(text, []byte("\xef\xbb\xbf")):
		r.add(1, 1, "save the file as UTF-8 without a byte order mark", "the file begins with a byte order mark")
		return r, nil
	case bytes.IndexByte(text, 0) >= 0:
		r.add(1, 1, "save the file as UTF-8", "the file is not UTF-8 text")
		return r, nil
	}
	for i, line := range r.lines {
		if at := strings.IndexByte(line, '\t'); at >= 0 && strings.TrimSpace(line[:at]) == "" && strings.TrimSpace(line) != "" {
			r.add(i+1, at+1, "indent with blanks", "a tab in the indentation, which YAML does not allow")
		}
	}
	if len(r.faults) > 0 {
		return r, nil
	}
	tree, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		r.notYAML(err)
		return r, nil
	}
	if len(tree.Docs) != 1 || tree.Docs[0].Body == nil {
		r.add(1, 1, "begin with procedure: NAME", "the file contains %d YAML documents instead of one", len(tree.Docs))
		return r, nil
	}
	return r, tree.Docs[0].Body
}

func (r *reader) sorted() []Fault {
	slices.SortStableFunc(r.faults, func(a, b Fault) int { return (a.Line-b.Line)*1000 + a.Column - b.Column })
	return slices.Compact(r.faults)
}

func (r *reader) add(line, column int, instead, format string, args ...any) {
	r.faults = append(r.faults, Fault{Line: line, Column: column, What: fmt.Sprintf(format, args...), Instead: instead})
}

func (r *reader) fault(at ast.Node, instead, format string, args ...any) {
	line, column := 1, 1
	if at != nil && at.GetToken() != nil {
		line, column = at.GetToken().Position.Line, at.GetToken().Position.Column
	}
	r.add(line, column, instead, format, args...)
}

// faultIn reports a fault at a fragment of a text that begins at a node.
func (r *reader) faultIn(at ast.Node, fragment, instead, format string, args ...any) {
	if at == nil || at.GetToken() == nil {
		r.fault(at, instead, format, args...)
		return
	}
	start := at.GetToken().Position
	fragment = firstLine(fragment)
	for i := max(start.Line-1, 0); i < len(r.lines) && fragment != ""; i++ {
		from := 0
		if i == start.Line-1 {
			from = min(start.Column-1, len(r.lines[i]))
		}
		if found := strings.Index(r.lines[i][from:], fragment); found >= 0 {
			r.add(i+1, from+found+1, instead, format, args...)
			return
		}
	}
	r.fault(at, instead, format, args...)
}

var (
	yamlError   = regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`)
	bareOpening = regexp.MustCompile(`^\s*(?:- +)?(?:[\w-]+: +|- +)\{\{`)
)

const quoteIt = `put the whole text into double quotes: "{{name}} …"`

// notYAML reports what the YAML parser says; a value without quotes is what most
// authors run into.
func (r *reader) notYAML(err error) {
	line, column, what := 1, 1, err.Error()
	if m := yamlError.FindStringSubmatch(what); m != nil {
		line, _ = strconv.Atoi(m[1])
		column, _ = strconv.Atoi(m[2])
		what = m[3]
	}
	for i := max(line-3, 0); i < min(line+1, len(r.lines)); i++ {
		if bareOpening.MatchString(r.lines[i]) {
			r.add(i+1, strings.Index(r.lines[i], "{{")+1, quoteIt, "YAML takes a text that begins with {{ for a mapping")
			return
		}
	}
	r.add(max(line, 1), max(column, 1), "correct the line; freshseal procedure show NAME prints procedures that can be used", "this is not YAML: %s", what)
}

func (r *reader) file(root ast.Node) Procedure {
	var p Procedure
	var as ast.Node
	r.mapping(root, "the procedure", keys{
		"procedure": func(n ast.Node) { p.Name = r.name(n) },
		"title":     func(n ast.Node) { p.Title = r.text(n) },
		"about":     func(n ast.Node) { p.About = strings.TrimSpace(r.text(n)) },
		"links":     func(n ast.Node) { p.Links = r.words(n, links) },
		"as":        func(n ast.Node) { p.As, as = r.text(n), n },
		"settings":  func(n ast.Node) { p.Settings = r.settings(n) },
		"traits":    func(n ast.Node) { p.Traits = r.traits(n) },
		"packs":     func(n ast.Node) { p.Packs = r.packs(n) },
		"steps":     func(n ast.Node) { p.Steps = r.sections(n) },
	}, "procedure", "title", "links", "traits", "steps")
	for _, s := range r.more {
		if _, has := p.Setting(s.Name); !has {
			p.Settings = append(p.Settings, s)
		}
	}
	if p.Uses(SSH) {
		if _, has := p.Setting(WorkFolder); !has {
			p.Settings = append(p.Settings, Setting{Name: WorkFolder, Kind: Path, About: "a folder on the device that only its administrator can enter; made when it is missing", Default: "/var/lib/freshseal"})
		}
	}
	if s, ok := p.Setting(p.As); as != nil && (!ok || s.Kind != Command) {
		r.fault(as, "name a setting of the kind command", "as names %q, which is not a setting of the kind command", p.As)
	}
	return p
}

// WorkFolder is the setting that every family with SSH has: where on the device
// the work folders of its replacements are.
const WorkFolder = "work_folder"

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
		case key == "<<":
			r.fault(pair.Key, "write the keys out", "merge keys are not part of the language")
		case !ok:
			instead := "the keys that fit here are " + strings.Join(names, ", ")
			if near := nearest(key, names); near != "" {
				instead = "write " + near + "; " + instead
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
	case *ast.AnchorNode, *ast.AliasNode:
		r.fault(n, "write the text out", "anchors and aliases are not part of the language")
		return ""
	case *ast.MappingNode, *ast.MappingValueNode:
		if at := n.GetToken().Position; at.Line <= len(r.lines) && strings.Contains(r.lines[at.Line-1], "{{") {
			r.fault(n, quoteIt, "YAML takes a text that begins with {{ for a mapping")
			return ""
		}
	}
	r.fault(n, "write one text", "this is not a text")
	return ""
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
var valueName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// content reads a text with values; a bare name is that value alone.
func (r *reader) content(n ast.Node) string {
	text := r.text(n)
	if valueName.MatchString(text) {
		return "{{" + text + "}}"
	}
	return text
}

// path reads a path with values; a bare name is that value alone.
func (r *reader) path(n ast.Node) string {
	text := strings.TrimSpace(r.content(n))
	if text != "" && text[0] != '/' && !strings.HasPrefix(text, "{{") {
		r.fault(n, "begin with a slash, or with a setting of the kind path", "%q is not an absolute path", text)
	}
	return text
}

// whole reads a text that is one value: its name, or {{name}}.
func (r *reader) whole(n ast.Node) string {
	text := strings.TrimSpace(r.content(n))
	m := placeholder.FindStringSubmatch(text)
	if m == nil || m[0] != text {
		r.fault(n, "write the name of one value, such as request_key", "%q is not one value alone", text)
		return ""
	}
	return m[1]
}

func (r *reader) name(n ast.Node) string {
	name := r.text(n)
	if !nameForm.MatchString(name) {
		r.fault(n, "use small letters, digits and -", "%q cannot be a procedure's name", name)
	}
	return name
}

// valueNamed reads the name of a new value.
func (r *reader) valueNamed(n ast.Node, what string) string {
	name := r.text(n)
	switch _, taken := givenOf(name); {
	case !valueName.MatchString(name):
		r.fault(n, "use small letters, digits and _", "%q cannot be the name of %s", name, what)
	case taken && !(what == "a captured value" && name == "request"), name == item:
		r.fault(n, "choose another name", "%q is the name of a value that every procedure has", name)
	}
	return name
}

// words reads one word or a list of them, each among the allowed ones.
func (r *reader) words(n ast.Node, allowed []string) []string {
	var out []string
	for _, each := range r.nodes(n) {
		out = append(out, r.oneOf(each, allowed))
	}
	return out
}

func (r *reader) nodes(n ast.Node) []ast.Node {
	if list, ok := n.(*ast.SequenceNode); ok {
		return list.Values
	}
	return []ast.Node{n}
}

func (r *reader) oneOf(n ast.Node, allowed []string) string {
	word := r.text(n)
	if !slices.Contains(allowed, word) {
		instead := "write one of " + strings.Join(allowed, ", ")
		if near := nearest(word, allowed); near != "" {
			instead = "write " + near + "; the words that fit here are " + strings.Join(allowed, ", ")
		}
		r.fault(n, instead, "%q is not known here", word)
	}
	return word
}

func (r *reader) duration(n ast.Node) time.Duration {
	d, err := time.ParseDuration(r.text(n))
	if err != nil || d <= 0 || d > 60*24*time.Hour {
		r.fault(n, "write a length of time, such as 30s, 5m or 48h", "%q is not such a length of time", r.text(n))
		return time.Second
	}
	return d
}

func (r *reader) bool(n ast.Node) bool { return r.oneOf(n, []string{"true", "false"}) == "true" }

func (r *reader) settings(n ast.Node) []Setting {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write name: {kind: …, about: …}", "settings is not a mapping")
	}
	var out []Setting
	for _, pair := range pairs {
		s := Setting{Name: r.valueNamed(pair.Key, "a setting"), Kind: Text}
		if r.names[s.Name] != nil {
			r.fault(pair.Key, "leave one out", "two settings are called %q", s.Name)
			continue
		}
		r.names[s.Name] = pair.Key
		r.mapping(pair.Value, "the setting "+s.Name, keys{
			"kind":    func(n ast.Node) { s.Kind = Kind(r.oneOf(n, strs(settingKinds))) },
			"about":   func(n ast.Node) { s.About = r.text(n) },
			"default": func(n ast.Node) { s.Default = r.text(n) },
			"choices": func(n ast.Node) {
				for _, each := range r.nodes(n) {
					s.Choices = append(s.Choices, r.text(each))
				}
			},
		}, "about")
		switch _, err := s.read(s.Default); {
		case (s.Kind == Choice) != (len(s.Choices) > 0):
			r.fault(pair.Key, "write kind: choice and choices: [a, b]", "choice and choices belong together")
		case s.Kind == Secret && s.Default != "":
			r.fault(pair.Key, "leave the default out; each device is given its own", "a secret cannot have a default")
		case err != nil:
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
		known[string(section)] = func(n ast.Node) {
			r.within = section
			out[section] = r.list(n)
		}
	}
	r.mapping(n, "steps", known)
	for _, section := range Sections { // steps move while a list grows, so places are kept by their final address
		for i := range out[section] {
			if step := &out[section][i]; step.Do != nil {
				r.places[step] = r.at(step)
			}
		}
	}
	return out
}

// at finds a step's node by its verb, which is never copied.
func (r *reader) at(step *Step) ast.Node {
	for other, n := range r.places {
		if other.Do == step.Do {
			return n
		}
	}
	return nil
}

func (r *reader) list(n ast.Node) []Step {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.fault(n, "begin each step with - ", "this is not a list of steps")
		return nil
	}
	var out []Step
	for _, each := range list.Values {
		if r.steps++; r.steps > maxSteps {
			r.fault(each, "make two procedures of it", "there are more than %d steps", maxSteps)
			return out
		}
		if used, ok := r.use(each); ok {
			out = append(out, used...)
			continue
		}
		before := len(r.faults)
		step := r.step(each)
		if step.Do == nil || len(r.faults) > before {
			r.broken[r.within] = true
		}
		if step.Do != nil {
			out = append(out, step)
			r.places[&step] = each
		}
	}
	return out
}

// step reads a step: one verb with its own keys, and what every step can say.
func (r *reader) step(n ast.Node) Step {
	var s Step
	pairs, _ := r.pairs(n)
	var words []string
	for _, pair := range pairs {
		if key := pair.Key.GetToken().Value; verbs[key] != nil {
			words = append(words, key)
		}
	}
	known := keys{
		"step":      func(n ast.Node) { s.Name = r.text(n) },
		"each":      func(n ast.Node) { s.Each = r.whole(n) },
		"with":      func(n ast.Node) { s.With = r.whole(n) },
		"without":   func(n ast.Node) { s.Without = r.whole(n) },
		"capture":   func(n ast.Node) { s.Capture = r.captures(n) },
		"expect":    func(n ast.Node) { s.Expect = r.expect(n) },
		"limit":     func(n ast.Node) { s.Limit = r.duration(n) },
		"repeat":    func(n ast.Node) { s.Repeat = r.oneOf(n, []string{"safe", "unsafe"}) == "safe" },
		"secret":    func(n ast.Node) { s.Secret = r.bool(n) },
		"otherwise": func(n ast.Node) { s.Otherwise = r.text(n) },
		"because":   func(n ast.Node) { s.Undo.Because = r.text(n) },
		"finally":   func(n ast.Node) { s.Finally = r.beside(n, "finally") },
	}
	all, _ := Verbs()
	for _, word := range all {
		known[word] = func(ast.Node) {}
	}
	if len(words) == 1 {
		s.Do = verbs[words[0]]()
		known[words[0]] = func(n ast.Node) { s.Do.read(r, n) }
		for key, read := range s.Do.keys(r) {
			known[key] = read
		}
		known["undo"] = func(n ast.Node) {
			if s.Do.Changes() != AsksWay {
				r.fault(n, "leave undo out", "%s needs no undo: it changes nothing, or undoes its change by itself", words[0])
				return
			}
			s.Undo.Kind, s.Undo.Step = r.undo(n, words[0])
		}
	}
	before := len(r.faults)
	r.mapping(n, "a step", known)
	switch {
	case len(words) > 1:
		r.fault(n, "make two steps of it", "a step has two verbs, %s and %s", words[0], words[1])
		return Step{}
	case len(words) == 0:
		if len(r.faults) == before { // else what was mistyped may be the verb
			r.fault(n, "add one of "+strings.Join(all, ", "), "a step has no verb")
		}
		return Step{}
	}
	usual, most := s.Do.Limits()
	switch {
	case s.Limit == 0:
		s.Limit = usual
	case s.Limit > most:
		r.fault(n, "take up to "+most.String(), "the limit %s is too long", s.Limit)
	}
	if s.Do.Word() == "person" {
		s.Repeat = true // people see what is done already
	}
	if len(r.faults) == before {
		s.Do.finish(r, n, &s)
	}
	switch {
	case !s.Expect.isZero() && !s.Do.Expects():
		r.fault(n, "leave expect out", "expect means nothing beside %s", s.Do.Word())
	case len(s.Capture) > 0 && s.Do.Gives() == "":
		r.fault(n, "leave capture out", "%s gives nothing to capture", s.Do.Word())
	case (s.Undo.Kind == NoUndo) != (s.Undo.Because != ""):
		r.fault(n, "write undo: none and because: the reason", "undo: none and because belong together")
	}
	if s.Name == "" {
		s.Name = s.Do.Title()
	}
	return s
}

// undo reads how a step is undone: a word, a text for the same verb, or a step.
func (r *reader) undo(n ast.Node, verb string) (UndoKind, *Step) {
	if _, isMap := r.pairs(n); isMap {
		return UndoStep, r.beside(n, "undo")
	}
	switch kind := UndoKind(r.text(n)); kind {
	case UndoAgain, UndoLooks, NoUndo:
		return kind, nil
	}
	s := Step{Do: verbs[verb]()}
	s.Do.read(r, n)
	s.Name, s.Repeat = s.Do.Title(), verb == "person"
	s.Limit, _ = s.Do.Limits()
	return UndoStep, &s
}

// beside reads a step that stands beside another one.
func (r *reader) beside(n ast.Node, what string) *Step {
	if r.depth > 0 {
		r.fault(n, "leave it out", "%s cannot stand in a step that stands beside another one", what)
		return nil
	}
	if _, isMap := r.pairs(n); !isMap {
		s := Step{Do: &Run{}}
		s.Do.read(r, n)
		s.Name = s.Do.Title()
		s.Limit, _ = s.Do.Limits()
		return &s
	}
	r.depth++
	defer func() { r.depth-- }()
	s := r.step(n)
	if s.Do == nil {
		return nil
	}
	if s.Undo.Kind != UndoUnsaid || len(s.Capture) > 0 || s.Each != "" || s.With != "" || s.Without != "" {
		r.fault(n, "leave it out: it follows the step beside which it stands", "a step in %s has no undo, capture, each, with or without of its own", what)
	}
	return &s
}

// captures reads a name for the whole output, or names with patterns.
func (r *reader) captures(n ast.Node) []Capture {
	pairs, isMap := r.pairs(n)
	if !isMap {
		return []Capture{{Name: r.valueNamed(n, "a captured value")}}
	}
	var out []Capture
	for _, pair := range pairs {
		c := Capture{Name: r.valueNamed(pair.Key, "a captured value")}
		if _, nested := r.pairs(pair.Value); nested {
			r.mapping(pair.Value, "the capture "+c.Name, keys{
				"match":  func(n ast.Node) { c.Pattern = r.pattern(n) },
				"from":   func(n ast.Node) { c.Stderr = r.oneOf(n, []string{"output", "errors"}) == "errors" },
				"secret": func(n ast.Node) { c.Secret = r.bool(n) },
			})
		} else {
			c.Pattern = r.pattern(pair.Value)
		}
		out = append(out, c)
	}
	return out
}

func (r *reader) expect(n ast.Node) Expect {
	var e Expect
	r.mapping(n, "expect", keys{
		"exit": func(n ast.Node) {
			for _, each := range r.nodes(n) {
				e.Exit = append(e.Exit, r.number(each, 0, 255))
			}
		},
		"match":      func(n ast.Node) { e.Match = r.pattern(n) },
		"not_match":  func(n ast.Node) { e.NotMatch = r.pattern(n) },
		"errors":     func(n ast.Node) { e.Stderr = r.pattern(n) },
		"not_errors": func(n ast.Node) { e.NotStderr = r.pattern(n) },
		"same":       func(n ast.Node) { e.Same = r.whole(n) },
	})
	return e
}

// packs reads the forms of its own in which a family wants its files:
//
//	packs:
//	  console_store: {about: "…", form: leaf-first, encoding: pkcs12, key: before, alias: console}
func (r *reader) packs(n ast.Node) []Pack {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write name: {about: …, form: …}", "packs is not a mapping")
	}
	var out []Pack
	for _, pair := range pairs {
		p := Pack{Name: r.valueNamed(pair.Key, "a pack"), Form: pack.LeafFirst}
		if r.names[p.Name] != nil {
			r.fault(pair.Key, "choose another name", "a setting or another pack is called %q", p.Name)
		}
		r.names[p.Name] = pair.Key
		d := &p.Dress
		r.mapping(pair.Value, "the pack "+p.Name, keys{
			"about":       func(n ast.Node) { p.About = r.text(n) },
			"form":        func(n ast.Node) { p.Form = pack.Form(r.oneOf(n, strs(pack.Forms))) },
			"encoding":    func(n ast.Node) { d.Encoding = pack.Encoding(r.oneOf(n, strs(pack.Encodings))) },
			"key":         func(n ast.Node) { d.Place = pack.KeyPlace(r.oneOf(n, strs(pack.KeyPlaces))) },
			"key_form":    func(n ast.Node) { d.KeyForm = pack.KeyForm(r.oneOf(n, strs(pack.KeyForms))) },
			"alias":       func(n ast.Node) { d.Alias = r.text(n) },
			"line_ends":   func(n ast.Node) { d.CRLF = r.oneOf(n, []string{"lf", "crlf"}) == "crlf" },
			"line_length": func(n ast.Node) { d.LineLength = r.number(n, -1, 1000) },
			"text":        func(n ast.Node) { d.Text = r.bool(n) },
		}, "about")
		if why := p.Dress.Unfit(p.Form); why != nil {
			r.fault(pair.Key, "correct the pack", "the pack %s: %v", p.Name, why)
		}
		out = append(out, p)
	}
	return out
}

func strs[S ~string](list []S) []string {
	out := make([]string, len(list))
	for i, each := range list {
		out[i] = string(each)
	}
	return out
}
