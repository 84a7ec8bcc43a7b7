package procedure

import (
	"encoding/xml"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// RPC is a call by NETCONF (RFC 6241): the inside of its rpc element, in which values stand
// in texts and attributes. Bytes that are no text are written in base64, as YANG's binary is.
//
//   - rpc: <commit><confirmed/><persist>{{replacement}}</persist></commit>
//     undo: <cancel-commit><persist-id>{{replacement}}</persist-id></cancel-commit>
type RPC struct {
	plainVerb
	Content string
	Want    Answer
	Refused bool // that the device answers with an error is no failure: there may be nothing to do

	name string // of its element
}

// RPCAct is a call in its final form.
type RPCAct struct {
	Content string
	Want    Answer
	Refused bool
	name    string
	shown   string
}

var _ = register("a call by NETCONF", func() Verb { return &RPC{} })

func (*RPC) Word() string    { return "rpc" }
func (v *RPC) Title() string { return v.name }
func (*RPC) Link() string    { return NETCONF }
func (v *RPC) Safe() bool    { return v.name == "get" || v.name == "get-config" || v.name == "get-data" }
func (*RPC) Gives() Kind     { return Content }
func (*RPC) Expects() bool   { return true }

// Changes says that what does not only look has to be undone.
func (v *RPC) Changes() Way {
	if v.Safe() {
		return Looks
	}
	return AsksWay
}

func (v *RPC) read(r *reader, n ast.Node) {
	v.Content = r.xml(n)
	decoder := xml.NewDecoder(strings.NewReader(v.Content))
	for {
		token, err := decoder.Token()
		if err != nil {
			break // the end, or told already
		}
		start, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		if v.name != "" {
			r.fault(n, "make two steps of it", "a call is one operation, and this one has %s and %s", v.name,
				start.Name.Local)
			return
		}
		v.name = start.Name.Local
		if decoder.Skip() != nil {
			break
		}
	}
	if v.name == "" {
		r.fault(n, "write an operation, such as <commit/>", "this is not an operation")
	}
}

func (v *RPC) keys(r *reader) keys {
	return keys{"error": func(n ast.Node) { v.Refused = r.oneOf(n, []string{"allowed", "no"}) == "allowed" },
		"expect": func(n ast.Node) {
			if v.Want = r.answer(n, "expect"); v.Want.Status != nil || v.Want.LeadsTo != nil {
				r.fault(n, "leave them out", "status and leads_to belong to http")
			}
		}}
}

func (v *RPC) uses() []use { return []use{{v.Content, inBody}} }

// Expand gives an *RPCAct.
func (v *RPC) Expand(scope *Scope) (Act, error) {
	a := &RPCAct{name: v.name, Refused: v.Refused}
	var err error
	if a.Want, err = v.Want.expand(scope); err != nil {
		return nil, err
	}
	if a.Content, err = expandXML(v.Content, scope, false); err != nil {
		return nil, err
	}
	a.shown, err = expandXML(v.Content, scope, true)
	return a, err
}

// Line is the name of the call.
func (a *RPCAct) Line() string { return a.name }

// Detail is its content.
func (a *RPCAct) Detail() string { return a.shown }
