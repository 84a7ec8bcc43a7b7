package verb

import (
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Fetch reads a file from the device:
//
//   - fetch: "{{work}}/request.pem"
//     capture: request
type Fetch struct {
	procedure.PlainVerb
	Path string
}

// FetchAct is a file to read, in its final form.
type FetchAct struct{ Path string }

var _ = procedure.Register("a file from the device", func() procedure.Verb { return &Fetch{} })

func (*Fetch) Word() string      { return "fetch" }
func (v *Fetch) Title() string   { return "read " + value.Placeholder.ReplaceAllString(v.Path, "$1") }
func (*Fetch) Gives() value.Kind { return value.Content }
func (*Fetch) Expects() bool     { return true }

func (v *Fetch) Read(r *procedure.Reader, n ast.Node) { v.Path = r.Path(n) }
func (v *Fetch) Uses() []procedure.Use {
	return []procedure.Use{{Text: v.Path, Place: procedure.InPath}}
}

// Expand returns a *FetchAct.
func (v *Fetch) Expand(scope *procedure.Scope) (procedure.Act, error) {
	path, err := procedure.ExpandPath(v.Path, scope)
	return &FetchAct{path}, err
}

// Line returns the path.
func (a *FetchAct) Line() string { return a.Path }

// Detail returns empty.
func (a *FetchAct) Detail() string { return "" }
