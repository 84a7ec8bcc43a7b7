package procedure

// Kept reports whether a value that a step captures is a file that is kept off the device after the replacement.
func (p Procedure) Kept(name string) bool {
	for _, step := range p.everyStep() {
		for _, c := range step.Capture {
			if c.Keep && c.Name == name {
				return true
			}
		}
	}
	return false
}
