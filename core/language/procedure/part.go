package procedure

import (
	"cmp"
	"embed"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Files are the procedures and parts that come with the program, in the folder builtin.
//
//go:embed builtin/*.yaml
var Files embed.FS

// How the names of files end.
const (
	ProcedureEnding = ".procedure.yaml"
	PartEnding      = ".part.yaml"
)

// BuiltinNames returns the names of the procedures that come with the program.
func BuiltinNames() []string {
	files, err := fs.Glob(Files, "builtin/*"+ProcedureEnding)
	if err != nil {
		panic(err)
	}
	names := make([]string, len(files))
	for i, file := range files {
		names[i] = strings.TrimSuffix(path.Base(file), ProcedureEnding)
	}
	return names
}

// Part is a list of steps that families share, with the settings that they need:
//
//	part: key-and-request-by-openssl
//	about: …
//	settings: {openssl: {kind: command, about: …, default: openssl}}
//	steps:
//	  - run: …
//
// A procedure takes it in with use: NAME; a setting of the same name in the
// procedure goes before the part's. Beside use may stand with, without and on, which
// count for each of its steps.
type Part struct {
	Name string
	Text []byte
}

// Parts are parts by name.
type Parts map[string]Part

// BuiltinParts are the built-in ones.
var BuiltinParts = sync.OnceValue(func() Parts {
	out := Parts{}
	files, err := fs.Glob(Files, "builtin/*.part.yaml")
	if err != nil {
		panic(err)
	}
	for _, file := range files {
		text, err := Files.ReadFile(file)
		if err != nil {
			panic(err)
		}
		name := strings.TrimSuffix(path.Base(file), PartEnding)
		out[name] = Part{Name: name, Text: text}
	}
	return out
})

// use adds a part where a step says so; the second result says that it does.
func (r *Reader) use(n ast.Node) ([]Step, bool) {
	pairs, ok := r.Pairs(n)
	if !ok || len(pairs) == 0 || pairs[0].Key.GetToken().Value != "use" {
		return nil, false
	}
	var all Step
	name := ""
	r.Mapping(n, "use", Keys{
		"use":     func(n ast.Node) { name = r.Text(n) },
		"on":      func(n ast.Node) { all.On = r.Whole(n) },
		"with":    func(n ast.Node) { all.When = append(all.When, r.Conditions(n, false)...) },
		"without": func(n ast.Node) { all.When = append(all.When, r.Conditions(n, true)...) },
	})
	part, ok := r.parts[name]
	if !ok {
		var known []string
		for each := range r.parts {
			known = append(known, each)
		}
		instead := "the parts are " + strings.Join(known, ", ")
		if near := value.Nearest(name, known); near != "" {
			instead = "write " + near
		}
		r.broken[r.within] = true
		r.Fault(pairs[0].Value, instead, "no part is called %q", name)
		return nil, true
	}
	if r.depth > 0 {
		r.Fault(n, "write its steps out", "a part cannot use another part")
		return nil, true
	}
	r.used[name] = part
	steps, settings, faults := part.read(r)
	for _, f := range faults {
		r.Fault(pairs[0].Value, "correct the part", "the part %s, line %d: %s", name, f.Line, f.What)
	}
	for i := range steps {
		steps[i].When = append(slices.Clone(all.When), steps[i].When...)
		steps[i].stand(cmp.Or(steps[i].On, all.On))
		r.Places[&steps[i]] = pairs[0].Value
	}
	r.more = append(r.more, settings...)
	return steps, true
}

func (p Part) read(user *Reader) ([]Step, []Setting, []Fault) {
	r, root := read(p.Text)
	if root == nil {
		return nil, nil, r.Faults
	}
	r.depth, r.Second = 0, user.Second
	r.within, r.parts = user.within, map[string]Part{}
	var steps []Step
	var settings []Setting
	r.Mapping(root, "the part", Keys{
		"part": func(n ast.Node) {
			if got := r.name(n); got != p.Name {
				r.Fault(n, "write "+p.Name, "the part is called %q in a file named %q", got, p.Name)
			}
		},
		"about":    func(n ast.Node) { r.Text(n) },
		"settings": func(n ast.Node) { settings = readSettings(r, n) },
		"steps":    func(n ast.Node) { steps = r.list(n) },
	}, "part", "about", "steps")
	user.steps += len(steps)
	return steps, settings, r.Faults
}
