package procedure

// Told is what a step will do to a device of the family, for people who look at the family
// before they have one.
type Told struct {
	Section Section `json:"stage" required:"true"`
	Name    string  `json:"name" required:"true"`
	Link    string  `json:"link,omitempty"`
	When    string  `json:"when,omitempty"`
	Undo    string  `json:"undo,omitempty"`
	Finally string  `json:"finally,omitempty"`
}

// Tell is what a replacement does to a device of the family, in order; ways back included, of
// steps as what undoes them.
func (p Procedure) Tell() []Told {
	out := []Told{}
	for _, section := range append([]Section{Session, Look}, Sections...) {
		for _, step := range p.Steps[section] {
			t := Told{Section: section, Name: step.Name, Link: step.Do.Link(), When: step.When.Text()}
			switch {
			case step.Do.Changes() == KnowsWay && !inWork(step.Do.Writes()):
				t.Undo = "what was there before is put back"
			case step.Undo.Kind == UndoSteps:
				t.Undo = step.Undo.told()
			case step.Undo.Kind == UndoItself:
				t.Undo = "by itself, within " + step.Undo.Within.String()
			case step.Undo.Kind == UndoAgain:
				t.Undo = "done once more at the end, if something was undone"
			case step.Undo.Kind == NoUndo:
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
