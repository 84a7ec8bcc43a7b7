package procedure

import (
	"embed"
	"fmt"
	"io/fs"
	"slices"
)

//go:embed builtin/*.procedure.yaml
var builtin embed.FS

// Source is a procedure together with the text it was read from.
type Source struct {
	Procedure
	YAML string
}

// Builtin are the procedures that come with the program, by name. They are
// checked by its tests, so a fault in one is a broken build.
var Builtin = func() map[string]Source {
	out := map[string]Source{}
	files, err := fs.Glob(builtin, "builtin/*.procedure.yaml")
	if err != nil {
		panic(err)
	}
	for _, file := range files {
		text, err := builtin.ReadFile(file)
		if err != nil {
			panic(err)
		}
		p, faults := Parse(text)
		if len(faults) > 0 {
			panic(fmt.Sprintf("%s: %v", file, faults[0]))
		}
		out[p.Name] = Source{Procedure: p, YAML: string(text)}
	}
	return out
}()

// BuiltinNames are their names in order.
func BuiltinNames() []string {
	var names []string
	for name := range Builtin {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
