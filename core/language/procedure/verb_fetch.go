package procedure

import "github.com/goccy/go-yaml/ast"

// Fetch reads a file from the device:
//
//   - fetch: "{{work}}/request.pem"
//     capture: request
type Fetch struct {
	plainVerb
	Path string
}

// FetchAct is a file to read, in its final form.
type FetchAct struct{ Path string }

var _ = register("a file from the device", func() Verb { return &Fetch{} })

func (*Fetch) Word() string    { return "fetch" }
func (v *Fetch) Title() string { return "read " + placeholder.ReplaceAllString(v.Path, "$1") }
func (*Fetch) Gives() Kind     { return Content }
func (*Fetch) Expects() bool   { return true }

func (v *Fetch) read(r *reader, n ast.Node) { v.Path = r.path(n) }
func (v *Fetch) uses() []use                { return []use{{v.Path, inPath}} }

// Expand gives a *FetchAct.
func (v *Fetch) Expand(scope *Scope) (Act, error) {
	path, err := expandPath(v.Path, scope)
	return &FetchAct{path}, err
}

// Line is the path.
func (a *FetchAct) Line() string { return a.Path }

// Detail is empty.
func (a *FetchAct) Detail() string { return "" }
