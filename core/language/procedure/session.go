package procedure

import (
	"freshseal/core/language/answer"

	"github.com/goccy/go-yaml/ast"
)

// readSession reads how one signs in to the device's web interface and out again, and how it
// answers to who is not signed in (if nothing is said: with status 401):
//
//	session:
//	  sign_in:
//	    - {http: POST /session, form: {user: "{{web_user}}", word: "{{web_password}}"}}
//	    - {http: GET /form, fresh: true, capture: {once: {css: "input[name=once]", attribute: value, secret: true}}}
//	  headers: {X-Token: "{{token}}"}
//	  sign_out: [{http: POST /session/end}]
//	  lost: {leads_to: ^/sign-in}
func readSession(r *Reader, n ast.Node, p *Procedure) {
	steps := func(section Section) func(ast.Node) {
		return func(n ast.Node) {
			r.within = section
			p.steps()[section] = r.list(n)
			for i := range p.Steps[section] {
				step := &p.Steps[section][i]
				if r.Places[step] = r.at(step); step.Undo.Kind != UndoUnsaid || step.Finally != nil || step.Each != "" {
					r.Fault(r.at(step), "leave it out", "a step of a session has no undo, finally or each")
				}
				if step.Fresh && (step.Do.Word() != "http" || step.Do.Changes() != Looks || len(step.Capture) == 0) {
					r.Fault(r.at(step), "write it beside a GET that captures the token",
						"fresh is asked again before each call that changes something, and this step is no "+
							"such question")
				}
			}
		}
	}
	p.Lost = answer.Answer{Status: []int{401}}
	r.Mapping(n, "session", Keys{
		"sign_in":  steps(Session),
		"headers":  func(n ast.Node) { p.Headers, r.sessionHeaders = r.Headers(n), n },
		"sign_out": steps(SignOut),
		"lost":     func(n ast.Node) { p.Lost = r.Answer(n, "lost") },
	}, "sign_in")
}

// steps returns the procedure's steps, to be added to.
func (p *Procedure) steps() map[Section][]Step {
	if p.Steps == nil {
		p.Steps = map[Section][]Step{}
	}
	return p.Steps
}
