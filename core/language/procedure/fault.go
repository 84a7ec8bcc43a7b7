package procedure

import (
	"fmt"
	"slices"
)

// Fault is something wrong in a procedure's text, or a warning.
type Fault struct {
	Line    int    `json:"line" required:"true"`
	Column  int    `json:"column" required:"true"`
	What    string `json:"what" required:"true"`
	Instead string `json:"instead,omitempty"`
	Warning bool   `json:"warning,omitempty"`
}

// Error returns the fault in one line, with its place and what to write instead.
func (f Fault) Error() string {
	text := fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.What)
	if f.Instead != "" {
		text += "; " + f.Instead
	}
	return text
}

// Refused reports whether a procedure with these faults cannot be used.
func Refused(faults []Fault) bool {
	return slices.ContainsFunc(faults, func(f Fault) bool { return !f.Warning })
}
