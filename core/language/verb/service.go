package verb

import (
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Service is what Fresh Seal does to its own certificate; the built-in family of
// the service itself is its only user.
type Service struct {
	procedure.PlainVerb
	Act     string
	Content string
}

// ServiceAct is an act on the service's own certificate, in its final form.
type ServiceAct struct {
	Act     string
	Content []byte
}

// The acts.
const (
	MakeRequest = "make-request"
	Keep        = "keep"
	LayDown     = "install"
	Serve       = "activate"
	PutBack     = "put-back"
	ClearAway   = "clear"
)

var serviceActs = []string{MakeRequest, Keep, LayDown, Serve, PutBack, ClearAway}

var _ = procedure.Register("Fresh Seal's own certificate alone", func() procedure.Verb { return &Service{} })

func (*Service) Word() string                           { return "service" }
func (v *Service) Title() string                        { return v.Act }
func (*Service) Link() string                           { return procedure.Itself }
func (*Service) Changes() procedure.Way                 { return procedure.AsksWay }
func (*Service) Gives() value.Kind                      { return value.Content }
func (v *Service) Read(r *procedure.Reader, n ast.Node) { v.Act = r.OneOf(n, serviceActs) }
func (v *Service) Uses() []procedure.Use {
	return []procedure.Use{{Text: v.Content, Place: procedure.InContent}}
}

func (v *Service) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{"holds": func(n ast.Node) { v.Content = r.Content(n) }}
}

func (v *Service) Finish(r *procedure.Reader, n ast.Node, _ *procedure.Step) {
	if (v.Act == LayDown) != (v.Content != "") {
		r.Fault(n, "write service: install and holds: leaf_first together", "service: install and holds "+
			"belong together")
	}
}

// Expand returns a *ServiceAct.
func (v *Service) Expand(scope *procedure.Scope) (procedure.Act, error) {
	c, err := procedure.ExpandContent(v.Content, scope)
	return &ServiceAct{v.Act, c.Bytes}, err
}

// Line returns the act.
func (a *ServiceAct) Line() string { return a.Act }

// Detail returns empty.
func (a *ServiceAct) Detail() string { return "" }
