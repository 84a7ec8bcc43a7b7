package verb

import (
	"encoding/xml"
	"strings"

	"freshseal/core/language/answer"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// RPC is a call by NETCONF (RFC 6241): the inside of its rpc element, in which values stand
// in texts and attributes. Bytes that are no text are written in base64, as YANG's binary is.
//
//   - rpc: <commit><confirmed/><persist>{{replacement}}</persist></commit>
//     undo: <cancel-commit><persist-id>{{replacement}}</persist-id></cancel-commit>
type RPC struct {
	procedure.PlainVerb
	Content string
	Want    answer.Answer
	Refused bool // that the device answers with an error is no failure: there may be nothing to do

	name string // of its element
}

// RPCAct is a call in its final form.
type RPCAct struct {
	Content string
	Want    answer.Answer
	Refused bool
	name    string
	shown   string
}

var _ = procedure.Register("a call by NETCONF", func() procedure.Verb { return &RPC{} })

func (*RPC) Word() string      { return "rpc" }
func (v *RPC) Title() string   { return v.name }
func (*RPC) Link() string      { return procedure.NETCONF }
func (v *RPC) Safe() bool      { return v.name == "get" || v.name == "get-config" || v.name == "get-data" }
func (*RPC) Gives() value.Kind { return value.Content }
func (*RPC) Expects() bool     { return true }

// Changes says that what does not only look has to be undone.
func (v *RPC) Changes() procedure.Way {
	if v.Safe() {
		return procedure.Looks
	}
	return procedure.AsksWay
}

func (v *RPC) Read(r *procedure.Reader, n ast.Node) {
	v.Content = readXML(r, n)
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
			r.Fault(n, "make two steps of it", "a call is one operation, and this one has %s and %s", v.name,
				start.Name.Local)
			return
		}
		v.name = start.Name.Local
		if decoder.Skip() != nil {
			break
		}
	}
	if v.name == "" {
		r.Fault(n, "write an operation, such as <commit/>", "this is not an operation")
	}
}

func (v *RPC) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{"error": func(n ast.Node) { v.Refused = r.OneOf(n, []string{"allowed", "no"}) == "allowed" },
		"expect": func(n ast.Node) {
			if v.Want = r.Answer(n, "expect"); v.Want.Status != nil || v.Want.LeadsTo != nil {
				r.Fault(n, "leave them out", "status and leads_to belong to http")
			}
		}}
}

func (v *RPC) Uses() []procedure.Use {
	return []procedure.Use{{Text: v.Content, Place: procedure.InBody}}
}

// Expand returns an *RPCAct.
func (v *RPC) Expand(scope *procedure.Scope) (procedure.Act, error) {
	a := &RPCAct{name: v.name, Refused: v.Refused}
	var err error
	if a.Want, err = procedure.ExpandAnswer(v.Want, scope); err != nil {
		return nil, err
	}
	if a.Content, err = expandXML(v.Content, scope, false); err != nil {
		return nil, err
	}
	a.shown, err = expandXML(v.Content, scope, true)
	return a, err
}

// Line returns the name of the call.
func (a *RPCAct) Line() string { return a.name }

// Detail is its content.
func (a *RPCAct) Detail() string { return a.shown }

func (v *RPC) Refusals(r *procedure.Reader, s *procedure.Step) func(ast.Node) {
	return func(n ast.Node) {
		if _, isMap := r.Pairs(n); !isMap && r.Second { // as the second edition wrote it
			v.Refused = r.OneOf(n, []string{"allowed", "no"}) == "allowed"
			return
		}
		a := r.Answer(n, "refused")
		if s.Refused.Answer = &a; a.Match == nil {
			r.Fault(n, "write refused: {match: …} with a pattern on the text of the error",
				"this says of no error that it is a refusal")
		}
	}
}
