package procedure

import "github.com/goccy/go-yaml/ast"

// Service is what Fresh Seal does to its own certificate; the built-in family of
// the service itself is its only user.
type Service struct {
	plainVerb
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

var _ = register("Fresh Seal's own certificate alone", func() Verb { return &Service{} })

func (*Service) Word() string                 { return "service" }
func (v *Service) Title() string              { return v.Act }
func (*Service) Link() string                 { return Itself }
func (*Service) Changes() Way                 { return AsksWay }
func (*Service) Gives() Kind                  { return Content }
func (v *Service) read(r *reader, n ast.Node) { v.Act = r.oneOf(n, serviceActs) }
func (v *Service) uses() []use                { return []use{{v.Content, inContent}} }

func (v *Service) keys(r *reader) keys {
	return keys{"holds": func(n ast.Node) { v.Content = r.content(n) }}
}

func (v *Service) finish(r *reader, n ast.Node, _ *Step) {
	if (v.Act == LayDown) != (v.Content != "") {
		r.fault(n, "write service: install and holds: leaf_first together", "service: install and holds "+
			"belong together")
	}
}

// Expand gives a *ServiceAct.
func (v *Service) Expand(scope *Scope) (Act, error) {
	c, err := expandContent(v.Content, scope)
	return &ServiceAct{v.Act, c.bytes}, err
}

// Line is the act.
func (a *ServiceAct) Line() string { return a.Act }

// Detail is empty.
func (a *ServiceAct) Detail() string { return "" }
