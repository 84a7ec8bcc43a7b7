package sqlite

import (
	"cmp"
	"database/sql/driver"

	"freshseal/core/judgement/finding"
	"freshseal/core/next"
)

// Findings is a column of findings as JSON. What the code of a finding says by itself is not kept: that is most of
// their text, in each row of a large fleet. It is added when they are read, in the words of the program that reads.
type Findings struct{ V []finding.Finding }

type briefFinding struct {
	Code     finding.Code     `json:"code"`
	What     string           `json:"what"`
	Severity finding.Severity `json:"severity,omitempty"`
	Why      string           `json:"why,omitempty"`
	Remedy   string           `json:"remedy,omitempty"`
	Actions  []next.Action    `json:"actions,omitempty"`
}

// Value writes the findings for SQL.
func (f Findings) Value() (driver.Value, error) {
	brief := make([]briefFinding, len(f.V))
	for i, one := range f.V {
		usual := one.Code.Found("")
		brief[i] = briefFinding{Code: one.Code, What: one.What, Actions: one.Actions,
			Severity: unusual(one.Severity, usual.Severity), Why: unusual(one.Why, usual.Why),
			Remedy: unusual(one.Remedy, usual.Remedy)}
	}
	return JSON[[]briefFinding]{V: brief}.Value()
}

func unusual[T ~string](is, usual T) T {
	if is == usual {
		return ""
	}
	return is
}

// Scan reads the findings from SQL.
func (f *Findings) Scan(from any) error {
	var brief JSON[[]briefFinding]
	if err := brief.Scan(from); err != nil {
		return err
	}
	f.V = make([]finding.Finding, len(brief.V))
	for i, one := range brief.V {
		usual := one.Code.Found("")
		f.V[i] = finding.Finding{Code: one.Code, What: one.What, Actions: one.Actions,
			Severity: cmp.Or(one.Severity, usual.Severity), Why: cmp.Or(one.Why, usual.Why),
			Remedy: cmp.Or(one.Remedy, usual.Remedy)}
	}
	return nil
}
