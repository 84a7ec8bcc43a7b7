package procedure

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"freshseal/core/language/bounds"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Parse reads a procedure and checks all of it. It reports every fault in one go,
// in the order of the text; a procedure with a fault that is no warning cannot be
// used. The names of the built-in procedures are taken.
func Parse(text []byte) (Procedure, []Fault) { return ParseWith(text, BuiltinParts()) }

// ParseWith is Parse for a procedure that may use these parts.
func ParseWith(text []byte, all Parts) (Procedure, []Fault) {
	p, _, faults := ParseAll(text, BuiltinNames(), all, false)
	return p, faults
}

// ParseAll also returns the parts that are in use. second reads what was stored in the second edition of the language,
// whose undo did not say when it is sent.
func ParseAll(text []byte, taken []string, parts Parts, second bool) (Procedure, Parts, []Fault) {
	if len(verbs) == 0 {
		panic("procedure: no verb is known; import freshseal/core/language/verb")
	}
	r, root := read(text)
	r.Second = second
	var p Procedure
	if root == nil {
		return p, nil, r.Faults
	}
	r.parts = parts
	p = r.file(root)
	if p.Name != "" && slices.Contains(taken, p.Name) {
		r.faultIn(root, p.Name, "choose another name", "a built-in procedure is called %s", p.Name)
	}
	r.check(&p)
	return p, r.used, r.sorted()
}

// Reader turns the tree into a Procedure and collects faults on its way.
type Reader struct {
	Lines  []string
	Faults []Fault
	Places map[*Step]ast.Node  // where each step stands, for faults found later
	names  map[string]ast.Node // where each setting and pack stands
	parts  Parts
	used   Parts
	broken map[Section]bool // sections with a step that could not be read
	steps  int
	depth  int
	more   []Setting         // of the parts in use
	Pieces map[string]*piece // of dialog, by name

	sessionHeaders ast.Node
	within         Section
	guarded        bool // the step that is read is one of an undo
	Second         bool // the text is of the second edition
}

// read parses the YAML and finds what YAML itself has against it.
func read(text []byte) (*Reader, ast.Node) {
	r := &Reader{used: Parts{}, Lines: strings.Split(string(text), "\n"), Places: map[*Step]ast.Node{},
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
	for i, line := range r.Lines {
		if at := strings.IndexByte(line, '\t'); at >= 0 && strings.TrimSpace(line[:at]) == "" &&
			strings.TrimSpace(line) != "" {
			r.add(i+1, at+1, "indent with blanks", "a tab in the indentation, which YAML does not allow")
		}
	}
	if len(r.Faults) > 0 {
		return r, nil
	}
	for _, e := range bounds.Check(text) {
		r.add(e.Line, e.Column, e.Instead, "%s", e.What)
	}
	if len(r.Faults) > 0 {
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

func (r *Reader) sorted() []Fault {
	slices.SortStableFunc(r.Faults, func(a, b Fault) int { return (a.Line-b.Line)*1000 + a.Column - b.Column })
	return slices.Compact(r.Faults)
}

func (r *Reader) add(line, column int, instead, format string, args ...any) {
	const maxFaults = 200
	if len(r.Faults) >= maxFaults {
		return
	}
	r.Faults = append(r.Faults, Fault{Line: line, Column: column, What: fmt.Sprintf(format, args...), Instead: instead})
}

func (r *Reader) Fault(at ast.Node, instead, format string, args ...any) {
	line, column := 1, 1
	if at != nil && at.GetToken() != nil {
		line, column = at.GetToken().Position.Line, at.GetToken().Position.Column
	}
	r.add(line, column, instead, format, args...)
}

// faultIn reports a fault at a fragment of a text that begins at a node.
func (r *Reader) faultIn(at ast.Node, fragment, instead, format string, args ...any) {
	if at == nil || at.GetToken() == nil {
		r.Fault(at, instead, format, args...)
		return
	}
	start := at.GetToken().Position
	fragment = FirstLine(fragment)
	for i := max(start.Line-1, 0); i < len(r.Lines) && fragment != ""; i++ {
		from := 0
		if i == start.Line-1 {
			from = min(start.Column-1, len(r.Lines[i]))
		}
		if found := strings.Index(r.Lines[i][from:], fragment); found >= 0 {
			r.add(i+1, from+found+1, instead, format, args...)
			return
		}
	}
	r.Fault(at, instead, format, args...)
}

var (
	yamlError   = regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`)
	bareOpening = regexp.MustCompile(`^\s*(?:- +)?(?:[\w-]+: +|- +)\{\{`)
)

const QuoteIt = `put the whole text into double quotes: "{{name}} …"`

// notYAML reports what the YAML parser says; a value without quotes is what most
// authors run into.
func (r *Reader) notYAML(err error) {
	line, column, what := 1, 1, err.Error()
	if m := yamlError.FindStringSubmatch(what); m != nil {
		line, _ = strconv.Atoi(m[1])
		column, _ = strconv.Atoi(m[2])
		what = m[3]
	}
	for i := max(line-3, 0); i < min(line+1, len(r.Lines)); i++ {
		if bareOpening.MatchString(r.Lines[i]) {
			r.add(i+1, strings.Index(r.Lines[i], "{{")+1, QuoteIt, "YAML takes a text that begins with {{ for "+
				"a mapping")
			return
		}
	}
	r.add(max(line, 1), max(column, 1), "correct the line; the built-in procedures are examples",
		"this is not YAML: %s", what)
}

func (r *Reader) file(root ast.Node) Procedure {
	var p Procedure
	var as ast.Node
	readPieces(r, root) // wherever they stand, they are there for every dialog
	r.Mapping(root, "the procedure", Keys{
		"pieces":        func(ast.Node) {},
		"procedure":     func(n ast.Node) { p.Name = r.name(n) },
		"title":         func(n ast.Node) { p.Title = r.Text(n) },
		"about":         func(n ast.Node) { p.About = strings.TrimSpace(r.Text(n)) },
		"links":         func(n ast.Node) { p.Links = r.words(n, links) },
		"as":            func(n ast.Node) { p.As, as = r.Text(n), n },
		"settings":      func(n ast.Node) { p.Settings = readSettings(r, n) },
		"traits":        func(n ast.Node) { p.Traits = readTraits(r, n) },
		"packs":         func(n ast.Node) { p.Packs = readPacks(r, n) },
		"recognized_by": func(n ast.Node) { p.Marks = readMarks(r, n) },
		"session":       func(n ast.Node) { readSession(r, n, &p) },
		"around":        func(n ast.Node) { readArounds(r, n, &p) },
		"steps": func(n ast.Node) {
			for section, steps := range r.sections(n) {
				p.steps()[section] = steps
			}
		},
	}, "procedure", "title", "links", "traits", "steps")
	for name := range r.Pieces {
		if r.Pieces[name].Read == nil {
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
			p.Settings = append(p.Settings,
				Setting{Name: WorkFolder, Kind: value.Path, About: "a folder on the device " +
					"that only its administrator can enter; made when it is missing", Default: "/var/lib/freshseal"})
		}
	}
	if _, has := p.Setting(AsPassword); !has && p.As != "" {
		p.Settings = append(p.Settings, Setting{Name: AsPassword, Kind: value.Secret, About: "the password that " +
			p.As +
			" asks for, where it does; " + p.As + " must then ask a program for it, such as sudo -A"})
	}
	if s, ok := p.Setting(p.As); as != nil && (!ok || s.Kind != value.Command) {
		r.Fault(as, "add to settings: "+p.As+": {kind: command, about: what stands before commands that need more "+
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
