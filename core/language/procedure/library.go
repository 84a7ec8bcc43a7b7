package procedure

import (
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
)

//go:embed builtin/*.yaml
var builtin embed.FS

const (
	procedureEnding = ".procedure.yaml"
	partEnding      = ".part.yaml"
)

// Source is a procedure together with the text it was read from. One with faults
// cannot be used.
type Source struct {
	Procedure
	YAML   string
	File   string // of a folder; empty: built in
	Faults []Fault
	parts  Parts // in use
}

// Usable says that devices of the family can be worked on.
func (s Source) Usable() bool { return !Refused(s.Faults) }

// Why says why a procedure cannot be used, with the place of the first fault.
func (s Source) Why() string {
	for _, f := range s.Faults {
		if !f.Warning {
			return fmt.Sprintf("%s, %v", s.File, f)
		}
	}
	return ""
}

// BuiltinNames are the names of the procedures that come with the program.
func BuiltinNames() []string {
	files, err := fs.Glob(builtin, "builtin/*"+procedureEnding)
	if err != nil {
		panic(err)
	}
	names := make([]string, len(files))
	for i, file := range files {
		names[i] = strings.TrimSuffix(path.Base(file), procedureEnding)
	}
	return names
}

// Builtin are the procedures that come with the program, by name. They are
// checked by its tests, so a fault in one is a broken build.
var Builtin = sync.OnceValue(func() map[string]Source {
	out := map[string]Source{}
	for _, name := range BuiltinNames() {
		text, err := builtin.ReadFile("builtin/" + name + procedureEnding)
		if err != nil {
			panic(err)
		}
		p, _, faults := parse(text, nil, parts(), false)
		if len(faults) > 0 || p.Name != name {
			panic(fmt.Sprintf("the built-in procedure %s: %v", name, faults))
		}
		out[p.Name] = Source{Procedure: p, YAML: string(text)}
	}
	return out
})

// kept is how a procedure is kept that uses parts which are not built in: with them,
// so that what becomes of their files changes nothing.
type kept struct {
	YAML  string            `json:"yaml"`
	Parts map[string]string `json:"parts"`
}

// Text is all that the procedure consists of, for Read.
func (s Source) Text() string {
	k := kept{YAML: s.YAML, Parts: map[string]string{}}
	for name, part := range s.parts {
		if _, isBuiltin := parts()[name]; !isBuiltin {
			k.Parts[name] = string(part.text)
		}
	}
	if len(k.Parts) == 0 {
		return s.YAML
	}
	text, _ := json.Marshal(k) // plain fields cannot fail
	return string(text)
}

// Read reads what Text gave.
func Read(text string) (Source, error) {
	k, all := kept{}, Parts{}
	if json.Unmarshal([]byte(text), &k) != nil || len(k.Parts) == 0 {
		k.YAML = text
	}
	maps.Copy(all, parts())
	for name, part := range k.Parts {
		all[name] = Part{name, []byte(part)}
	}
	p, used, faults := parse([]byte(k.YAML), nil, all, true)
	if Refused(faults) {
		return Source{}, faults[0]
	}
	return Source{Procedure: p, YAML: k.YAML, Faults: faults, parts: used}, nil
}

// Load reads the procedures of a folder beside the built-in ones: each file
// NAME.procedure.yaml, and the parts that they use, NAME.part.yaml. A faulty one is in the result with its faults and
// cannot be used; the others can. notes tell of files that are passed over.
func Load(folder fs.FS) (all map[string]Source, notes []string, err error) {
	all = map[string]Source{}
	for name, source := range Builtin() {
		all[name] = source
	}
	files, err := fs.ReadDir(folder, ".")
	if err != nil {
		return all, nil, fmt.Errorf("the folder of procedures cannot be read: %w", err)
	}
	known, notes, err := LoadParts(folder)
	if err != nil {
		return all, notes, err
	}
	for _, file := range files {
		name, isProcedure := strings.CutSuffix(file.Name(), procedureEnding)
		switch {
		case file.IsDir(), strings.HasPrefix(file.Name(), "."), strings.HasSuffix(file.Name(), "~"),
			strings.HasSuffix(file.Name(), partEnding):
			continue
		case !isProcedure:
			notes = append(notes, fmt.Sprintf("%s is passed over: procedures end in %s, parts in %s", file.Name(),
				procedureEnding, partEnding))
			continue
		}
		source := loadFile(folder, file.Name(), known)
		if source.Name == "" || !slices.Contains(BuiltinNames(), name) && all[source.Name].Name != "" ||
			slices.Contains(BuiltinNames(), source.Name) {
			source.Name = name // what it calls itself cannot be used
			if _, taken := all[name]; taken {
				notes = append(notes, fmt.Sprintf("%s is passed over: a procedure is called %s already", file.Name(),
					name))
				continue
			}
		}
		all[source.Name] = source
	}
	return all, notes, nil
}

func loadFile(folder fs.FS, file string, known Parts) Source {
	source := Source{File: file}
	text, err := fs.ReadFile(folder, file)
	if err != nil {
		source.Faults = []Fault{{Line: 1, Column: 1, What: "it cannot be read: " + err.Error(),
			Instead: "correct its rights"}}
		return source
	}
	source.YAML = string(text)
	source.Procedure, source.parts, source.Faults = parse(text, BuiltinNames(), known, false)
	if source.Uses(Itself) {
		source.Faults = append(source.Faults,
			Fault{Line: 1, Column: 1, What: "the link " + Itself + " is for Fresh Seal's own certificate alone",
				Instead: "choose another link"})
	}
	return source
}
