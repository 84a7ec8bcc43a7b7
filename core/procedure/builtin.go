package procedure

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"
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

// Load reads the procedures of a folder, NAME.procedure.yaml each, beside the
// built-in ones. A file with a fault, or a name that is taken, is an error that
// says where.
func Load(folder fs.FS) (map[string]Source, error) {
	out := maps.Clone(Builtin)
	files, err := fs.Glob(folder, "*.procedure.yaml")
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		text, err := fs.ReadFile(folder, file)
		if err != nil {
			return nil, err
		}
		p, faults := Parse(text)
		if len(faults) > 0 {
			return nil, fmt.Errorf("%s: %w", file, faults[0])
		}
		if _, taken := out[p.Name]; taken {
			return nil, fmt.Errorf("%s: a procedure is called %s already; give it another name", file, p.Name)
		}
		if p.Uses(Itself) {
			return nil, fmt.Errorf("%s: the link %s is for Fresh Seal's own certificate alone", file, Itself)
		}
		out[p.Name] = Source{Procedure: p, YAML: string(text)}
	}
	return out, nil
}
