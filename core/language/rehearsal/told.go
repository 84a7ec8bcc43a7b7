package rehearsal

import (
	"freshseal/core/language/procedure"
)

// Told is what a step will do to a device of the family, for people who look at the family
// before they have one.
type Told struct {
	Section procedure.Section `json:"stage" required:"true"`
	Name    string            `json:"name" required:"true"`
	Link    string            `json:"link,omitempty"`
	When    string            `json:"when,omitempty"`
	Undo    string            `json:"undo,omitempty"`
	Finally string            `json:"finally,omitempty"`
}

// Tell returns what a replacement does to a device of the family, in order; ways back included, of
// steps as what undoes them.
func Tell(p procedure.Procedure) []Told {
	out := []Told{}
	for _, section := range append([]procedure.Section{procedure.Session, procedure.Look}, procedure.Sections...) {
		for _, step := range p.Steps[section] {
			t := Told{Section: section, Name: step.Name, Link: step.Do.Link(), When: step.When.Text()}
			switch {
			case step.Do.Changes() == procedure.KnowsWay && !procedure.InWork(step.Do.Writes()):
				t.Undo = "what was there before is put back"
			case step.Undo.Kind == procedure.UndoSteps:
				t.Undo = step.Undo.Told()
			case step.Undo.Kind == procedure.UndoItself:
				t.Undo = "by itself, within " + step.Undo.Within.String()
			case step.Undo.Kind == procedure.UndoAgain:
				t.Undo = "done once more at the end, if something was undone"
			case step.Undo.Kind == procedure.NoUndo:
				t.Undo = "there is no way back: " + step.Undo.Because
			}
			if step.Finally != nil {
				t.Finally = step.Finally.Name
			}
			out = append(out, t)
		}
	}
	return out
}
