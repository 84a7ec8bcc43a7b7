// Package library reads the procedures of a folder beside the built-in ones.
package library

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"freshseal/core/language/procedure"
	_ "freshseal/core/language/verb" // the verbs that procedures use
)

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
		name, isProcedure := strings.CutSuffix(file.Name(), procedure.ProcedureEnding)
		switch {
		case file.IsDir(), strings.HasPrefix(file.Name(), "."), strings.HasSuffix(file.Name(), "~"),
			strings.HasSuffix(file.Name(), procedure.PartEnding):
			continue
		case !isProcedure:
			notes = append(notes, fmt.Sprintf("%s is passed over: procedures end in %s, parts in %s", file.Name(),
				procedure.ProcedureEnding, procedure.PartEnding))
			continue
		}
		source := loadFile(folder, file.Name(), known)
		if source.Name == "" || !slices.Contains(procedure.BuiltinNames(), name) && all[source.Name].Name != "" ||
			slices.Contains(procedure.BuiltinNames(), source.Name) {
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

func loadFile(folder fs.FS, file string, known procedure.Parts) Source {
	source := Source{File: file}
	text, err := fs.ReadFile(folder, file)
	if err != nil {
		source.Faults = []procedure.Fault{{Line: 1, Column: 1, What: "it cannot be read: " + err.Error(),
			Instead: "correct its rights"}}
		return source
	}
	source.YAML = string(text)
	source.Procedure, source.Used, source.Faults = procedure.ParseAll(text, procedure.BuiltinNames(), known, false)
	if source.Uses(procedure.Itself) {
		source.Faults = append(source.Faults,
			procedure.Fault{Line: 1, Column: 1, What: "the link " + procedure.Itself + " is for Fresh Seal's own " +
				"certificate alone",
				Instead: "choose another link"})
	}
	return source
}

// LoadParts reads the parts of a folder beside the built-in ones: each file
// NAME.part.yaml. notes tell of those that are passed over. A fault in a part is told
// of by the procedures that use it.
func LoadParts(folder fs.FS) (all procedure.Parts, notes []string, err error) {
	all = procedure.Parts{}
	for name, part := range procedure.BuiltinParts() {
		all[name] = part
	}
	files, err := fs.Glob(folder, "*"+procedure.PartEnding)
	for _, file := range files {
		name := strings.TrimSuffix(file, procedure.PartEnding)
		if _, taken := all[name]; taken {
			notes = append(notes, fmt.Sprintf("%s is passed over: a built-in part is called %s", file, name))
			continue
		}
		text, err := fs.ReadFile(folder, file)
		if err != nil {
			notes = append(notes, fmt.Sprintf("%s is passed over: %v", file, err))
			continue
		}
		all[name] = procedure.Part{Name: name, Text: text}
	}
	return all, notes, err
}
