package library

import (
	"encoding/json"
	"fmt"
	"maps"
	"sync"

	"freshseal/core/language/procedure"
)

// Source is a procedure together with the text it was read from. One with faults
// cannot be used.
type Source struct {
	procedure.Procedure
	YAML   string
	File   string // of a folder; empty: built in
	Faults []procedure.Fault
	Used   procedure.Parts // in use
}

// Usable reports whether devices of the family can be worked on.
func (s Source) Usable() bool { return !procedure.Refused(s.Faults) }

// Why returns why a procedure cannot be used, with the place of the first fault.
func (s Source) Why() string {
	for _, f := range s.Faults {
		if !f.Warning {
			return fmt.Sprintf("%s, %v", s.File, f)
		}
	}
	return ""
}

// Builtin returns the procedures that come with the program, by name. They are
// checked by its tests, so a fault in one is a broken build.
var Builtin = sync.OnceValue(func() map[string]Source {
	out := map[string]Source{}
	for name, read := range builtin {
		out[name] = read()
	}
	return out
})

// Named returns the built-in procedure of a name. It reads no other one.
func Named(name string) (Source, bool) {
	read, known := builtin[name]
	if !known {
		return Source{}, false
	}
	return read(), true
}

var builtin = func() map[string]func() Source {
	out := map[string]func() Source{}
	for _, name := range procedure.BuiltinNames() {
		out[name] = sync.OnceValue(func() Source {
			text, err := procedure.Files.ReadFile("builtin/" + name + procedure.ProcedureEnding)
			if err != nil {
				panic(err)
			}
			p, _, faults := procedure.ParseAll(text, nil, procedure.BuiltinParts(), false)
			if len(faults) > 0 || p.Name != name {
				panic(fmt.Sprintf("the built-in procedure %s: %v", name, faults))
			}
			return Source{Procedure: p, YAML: string(text)}
		})
	}
	return out
}()

// kept is how a procedure is kept that uses parts which are not built in: with them,
// so that what becomes of their files changes nothing.
type kept struct {
	YAML  string            `json:"yaml"`
	Parts map[string]string `json:"parts"`
}

// Text returns all that the procedure consists of, for Read.
func (s Source) Text() string {
	k := kept{YAML: s.YAML, Parts: map[string]string{}}
	for name, part := range s.Used {
		if _, isBuiltin := procedure.BuiltinParts()[name]; !isBuiltin {
			k.Parts[name] = string(part.Text)
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
	k, all := kept{}, procedure.Parts{}
	if json.Unmarshal([]byte(text), &k) != nil || len(k.Parts) == 0 {
		k.YAML = text
	}
	maps.Copy(all, procedure.BuiltinParts())
	for name, part := range k.Parts {
		all[name] = procedure.Part{Name: name, Text: []byte(part)}
	}
	p, used, faults := procedure.ParseAll([]byte(k.YAML), nil, all, true)
	if procedure.Refused(faults) {
		return Source{}, faults[0]
	}
	return Source{Procedure: p, YAML: k.YAML, Faults: faults, Used: used}, nil
}
