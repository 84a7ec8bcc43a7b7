package procedure

import (
	"io/fs"
	"path"
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
// procedure goes before the part's.
type Part struct {
	Name string
	text []byte
}

// parts are the built-in ones, by name.
var parts = sync.OnceValue(func() map[string]Part {
	out := map[string]Part{}
	files, err := fs.Glob(builtin, "builtin/*.part.yaml")
	if err != nil {
		panic(err)
	}
	for _, file := range files {
		text, err := builtin.ReadFile(file)
		if err != nil {
			panic(err)
		}
		name := strings.TrimSuffix(path.Base(file), ".part.yaml")
		out[name] = Part{name, text}
	}
	return out
})

// use takes in a part where a step says so; the second result says that it does.
func (r *reader) use(n ast.Node) ([]Step, bool) {
	pairs, ok := r.pairs(n)
	if !ok || len(pairs) == 0 || pairs[0].Key.GetToken().Value != "use" {
		return nil, false
	}
	if len(pairs) > 1 {
		r.fault(pairs[1].Key, "leave it out", "nothing stands beside use")
	}
	name := r.text(pairs[0].Value)
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
	steps, settings, faults := part.read(r)
	for _, f := range faults {
		r.fault(pairs[0].Value, "correct the part", "the part %s, line %d: %s", name, f.Line, f.What)
	}
	for i := range steps {
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
	r.depth = 0
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
