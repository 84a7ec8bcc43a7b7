package procedure

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Parse reads a procedure and checks all of it. It reports every fault in one go,
// in the order of the text; a procedure with a fault that is no warning cannot be
// used. The names of the built-in procedures are taken.
func Parse(text []byte) (Procedure, []Fault) { return ParseWith(text, parts()) }

// ParseWith is Parse for a procedure that may use these parts.
func ParseWith(text []byte, all Parts) (Procedure, []Fault) {
	p, _, faults := parse(text, BuiltinNames(), all, false)
	return p, faults
}

// parse also returns the parts that are in use. second reads what was stored in the second edition of the language,
// whose undo did not say when it is sent.
func parse(text []byte, taken []string, parts Parts, second bool) (Procedure, Parts, []Fault) {
	r, root := read(text)
	r.second = second
	var p Procedure
	if root == nil {
		return p, nil, r.faults
	}
	r.parts = parts
	p = r.file(root)
	if p.Name != "" && slices.Contains(taken, p.Name) {
		r.faultIn(root, p.Name, "choose another name", "a built-in procedure is called %s", p.Name)
	}
	r.check(&p)
	return p, r.used, r.sorted()
}

// reader turns the tree into a Procedure and collects faults on its way.
type reader struct {
	lines  []string
	faults []Fault
	places map[*Step]ast.Node  // where each step stands, for faults found later
	names  map[string]ast.Node // where each setting and pack stands
	parts  Parts
	used   Parts
	broken map[Section]bool // sections with a step that could not be read
	steps  int
	depth  int
	more   []Setting               // of the parts in use
	pieces map[string][]dialogTurn // of dialog, by name
	said   map[string]bool         // those that a dialog uses

	sessionHeaders ast.Node
	within         Section
	guarded        bool // the step that is read is one of an undo
	second         bool // the text is of the second edition
}

// read parses the YAML and finds what YAML itself has against it.
func read(text []byte) (*reader, ast.Node) {
	r := &reader{used: Parts{}, lines: strings.Split(string(text), "\n"), places: map[*Step]ast.Node{},
		names: map[string]ast.Node{}, broken: map[Section]bool{}}
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
		if at := strings.IndexByte(line, '\t'); at >= 0 && strings.TrimSpace(line[:at]) == "" &&
			strings.TrimSpace(line) != "" {
			r.add(i+1, at+1, "indent with blanks", "a tab in the indentation, which YAML does not allow")
		}
	}
	if len(r.faults) > 0 {
		return r, nil
	}
	if !r.bound(text) {
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
	if len(r.faults) >= maxFaults {
		return
	}
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
			r.add(i+1, strings.Index(r.lines[i], "{{")+1, quoteIt, "YAML takes a text that begins with {{ for "+
				"a mapping")
			return
		}
	}
	r.add(max(line, 1), max(column, 1), "correct the line; the built-in procedures are examples",
		"this is not YAML: %s", what)
}

func (r *reader) file(root ast.Node) Procedure {
	var p Procedure
	var as ast.Node
	r.readPieces(root) // wherever they stand, they are there for every dialog
	r.mapping(root, "the procedure", keys{
		"pieces":        func(ast.Node) {},
		"procedure":     func(n ast.Node) { p.Name = r.name(n) },
		"title":         func(n ast.Node) { p.Title = r.text(n) },
		"about":         func(n ast.Node) { p.About = strings.TrimSpace(r.text(n)) },
		"links":         func(n ast.Node) { p.Links = r.words(n, links) },
		"as":            func(n ast.Node) { p.As, as = r.text(n), n },
		"settings":      func(n ast.Node) { p.Settings = r.settings(n) },
		"traits":        func(n ast.Node) { p.Traits = r.traits(n) },
		"packs":         func(n ast.Node) { p.Packs = r.packs(n) },
		"recognized_by": func(n ast.Node) { p.Marks = r.marks(n) },
		"session":       func(n ast.Node) { r.session(n, &p) },
		"around":        func(n ast.Node) { r.arounds(n, &p) },
		"steps": func(n ast.Node) {
			for section, steps := range r.sections(n) {
				p.steps()[section] = steps
			}
		},
	}, "procedure", "title", "links", "traits", "steps")
	for name := range r.pieces {
		if !r.said[name] {
			r.faultIn(root, name, "write {piece: "+name+"} in a talk, or remove it", "the piece of dialog %q is "+
				"never used", name)
		}
	}
	for _, s := range r.more {
		if _, has := p.Setting(s.Name); !has {
			p.Settings = append(p.Settings, s)
		}
	}
	if p.Uses(SSH) {
		if _, has := p.Setting(WorkFolder); !has {
			p.Settings = append(p.Settings, Setting{Name: WorkFolder, Kind: Path, About: "a folder on the device " +
				"that only its administrator can enter; made when it is missing", Default: "/var/lib/freshseal"})
		}
	}
	if _, has := p.Setting(AsPassword); !has && p.As != "" {
		p.Settings = append(p.Settings, Setting{Name: AsPassword, Kind: Secret, About: "the password that " + p.As +
			" asks for, where it does; " + p.As + " must then ask a program for it, such as sudo -A"})
	}
	if s, ok := p.Setting(p.As); as != nil && (!ok || s.Kind != Command) {
		r.fault(as, "add to settings: "+p.As+": {kind: command, about: what stands before commands that need more "+
			"rights, such as sudo -n}", "as names the setting %q, and there is no setting of that name and of the "+
			"kind command", p.As)
	}
	return p
}

// WorkFolder is the setting that every family with SSH has: where on the device
// the work folders of its replacements are.
const WorkFolder = "work_folder"

// AsPassword is the setting that every family with as has: the password for more rights.
const AsPassword = "as_password"

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

func strs[S ~string](list []S) []string {
	out := make([]string, len(list))
	for i, each := range list {
		out[i] = string(each)
	}
	return out
}
