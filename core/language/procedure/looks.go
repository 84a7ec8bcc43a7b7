package procedure

import (
	"slices"

	"freshseal/core/language/look"
)

// Look is the section of the steps that ask the device which certificate it has in use, which is staged, and what one
// step back would restore. They change nothing, and are carried out whenever that must be known:
//
//	look:
//	  - {http: GET /api/certificate, capture: {now: {json: /sha256}, next: {json: /staged}}}
//
// What they capture are looks and no values: an undo names them in when.
const Look Section = "look"

// Looks returns the names of the looks that the procedure captures.
func (p Procedure) Looks() []string {
	var out []string
	for _, step := range p.Steps[Look] {
		for _, c := range step.Capture {
			out = append(out, c.Name)
		}
	}
	return out
}

// lookedAt checks that the section look only looks, and captures looks alone.
func (c *Checker) lookedAt() {
	seen := map[string]Conditions{}
	for i := range c.P.Steps[Look] {
		step := &c.P.Steps[Look][i]
		switch {
		case step.Do.Changes() == KnowsWay, step.Do.Link() == Person, step.Undo.Kind != UndoUnsaid,
			step.Finally != nil, step.Each != "", step.On != "":
			c.Fault(step, "write a step that only asks: run, http, rpc, fetch or dialog",
				"a step of look changes nothing and has no undo, finally, each or on")
		}
		for _, capture := range step.Capture {
			before, again := seen[capture.Name]
			switch {
			case !slices.Contains(look.Captured, capture.Name):
				c.FaultAt(step, capture.Name, "call it now, next, previous or pending", "%q is not a look",
					capture.Name)
			case again && !before.excludes(step.When):
				c.FaultAt(step, capture.Name, "leave one out", "the look %q is captured twice", capture.Name)
			}
			seen[capture.Name] = step.When
		}
	}
}
