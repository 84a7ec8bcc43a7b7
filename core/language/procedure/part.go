package procedure

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml/ast"
)

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
	text []byte
}

// Parts are parts by name.
type Parts map[string]Part

// parts are the built-in ones.
var parts = sync.OnceValue(func() Parts {
	out := Parts{}
	files, err := fs.Glob(builtin, "builtin/*.part.yaml")
	if err != nil {
		panic(err)
	}
	for _, file := range files {
		text, err := builtin.ReadFile(file)
		if err != nil {
			panic(err)
		}
		name := strings.TrimSuffix(path.Base(file), partEnding)
		out[name] = Part{name, text}
	}
	return out
})

// LoadParts reads the parts of a folder beside the built-in ones: each file
// NAME.part.yaml. notes tell of those that are passed over. A fault in a part is told
// of by the procedures that use it.
func LoadParts(folder fs.FS) (all Parts, notes []string, err error) {
	all = Parts{}
	for name, part := range parts() {
		all[name] = part
	}
	files, err := fs.Glob(folder, "*"+partEnding)
	for _, file := range files {
		name := strings.TrimSuffix(file, partEnding)
		if _, taken := all[name]; taken {
			notes = append(notes, fmt.Sprintf("%s is passed over: a built-in part is called %s", file, name))
			continue
		}
		text, err := fs.ReadFile(folder, file)
		if err != nil {
			notes = append(notes, fmt.Sprintf("%s is passed over: %v", file, err))
			continue
		}
		all[name] = Part{name, text}
	}
	return all, notes, err
}

// use takes in a part where a step says so; the second result says that it does.
func (r *reader) use(n ast.Node) ([]Step, bool) {
	pairs, ok := r.pairs(n)
	if !ok || len(pairs) == 0 || pairs[0].Key.GetToken().Value != "use" {
		return nil, false
	}
	var all Step
	name := ""
	r.mapping(n, "use", keys{
		"use":     func(n ast.Node) { name = r.text(n) },
		"on":      func(n ast.Node) { all.On = r.whole(n) },
		"with":    func(n ast.Node) { all.When = append(all.When, r.conditions(n, false)...) },
		"without": func(n ast.Node) { all.When = append(all.When, r.conditions(n, true)...) },
	})
	part, ok := r.parts[name]
	if !ok {
		var known []string
		for each := range r.parts {
			known = append(known, each)
		}
		instead := "the parts are " + strings.Join(known, ", ")
		if near := nearest(name, known); near != "" {
			instead = "write " + near
		}
		r.broken[r.within] = true
		r.fault(pairs[0].Value, instead, "no part is called %q", name)
		return nil, true
	}
	if r.depth > 0 {
		r.fault(n, "write its steps out", "a part cannot use another part")
		return nil, true
	}
	r.used[name] = part
	steps, settings, faults := part.read(r)
	for _, f := range faults {
		r.fault(pairs[0].Value, "correct the part", "the part %s, line %d: %s", name, f.Line, f.What)
	}
	for i := range steps {
		steps[i].When = append(slices.Clone(all.When), steps[i].When...)
		steps[i].stand(cmp.Or(steps[i].On, all.On))
		r.places[&steps[i]] = pairs[0].Value
	}
	r.more = append(r.more, settings...)
	return steps, true
}

func (p Part) read(user *reader) ([]Step, []Setting, []Fault) {
	r, root := read(p.text)
	if root == nil {
		return nil, nil, r.faults
	}
	r.depth, r.second = 0, user.second
	r.within, r.parts = user.within, map[string]Part{}
	var steps []Step
	var settings []Setting
	r.mapping(root, "the part", keys{
		"part": func(n ast.Node) {
			if got := r.name(n); got != p.Name {
				r.fault(n, "write "+p.Name, "the part is called %q in a file named %q", got, p.Name)
			}
		},
		"about":    func(n ast.Node) { r.text(n) },
		"settings": func(n ast.Node) { settings = r.settings(n) },
		"steps":    func(n ast.Node) { steps = r.list(n) },
	}, "part", "about", "steps")
	user.steps += len(steps)
	return steps, settings, r.faults
}
