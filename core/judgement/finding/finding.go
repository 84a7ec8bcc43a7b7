// Package finding names what can be wrong with a certificate, a chain or a
// request. A newcomer takes one of the codes below and says what was seen:
//
//	finding.NameMissing.Found("%s is not among the names", name)
//
// The code brings its severity, why it matters and what to do about it.
package finding

import (
	"fmt"
	"strings"
	"time"

	"freshseal/core/next"
)

// Severity says how much a finding matters.
type Severity string

// The severities, worst first.
const (
	Error   Severity = "error"   // clients refuse it, or soon will
	Warning Severity = "warning" // some clients fail, or nobody knows yet
	Note    Severity = "note"    // worth knowing
)

// Finding is one thing found wrong, in words for the person who has to correct it.
type Finding struct {
	Code     Code     `json:"code" required:"true"`
	Severity Severity `json:"severity" required:"true" enum:"error,warning,note"`
	What     string   `json:"what" required:"true"`
	Why      string   `json:"why" required:"true"`
	Remedy   string   `json:"remedy" required:"true"`

	Actions []next.Action `json:"actions,omitempty"`
}

// Found makes the finding of this code; the format says what was seen.
func (c Code) Found(format string, args ...any) Finding {
	m := meanings[c]
	return Finding{Code: c, Severity: m.severity, What: fmt.Sprintf(format, args...), Why: m.why, Remedy: m.remedy}
}

// WithRemedy returns the finding with a remedy that fits the case better.
func (f Finding) WithRemedy(format string, args ...any) Finding {
	f.Remedy = fmt.Sprintf(format, args...)
	return f
}

// On returns the findings of a slot, DEVICE/SLOT, with what can be done about each.
func On(slot string, all []Finding) []Finding {
	out := make([]Finding, len(all))
	for i, f := range all {
		switch do := remedies[f.Code]; {
		case len(f.Actions) > 0: // it knows better
		case do == "":
		case do == next.TakeIn:
			f.Actions = []next.Action{do.On("")}
		case do == next.AddRoot:
			f.Actions = []next.Action{do.On("fleet")}
		case do == next.TryDevice:
			device, _, _ := strings.Cut(slot, "/")
			f.Actions = []next.Action{do.On(device)}
		default:
			f.Actions = []next.Action{do.On(slot)}
		}
		out[i] = f
	}
	return out
}

// AfterSeal returns the finding of a slot, DEVICE/SLOT, that became something worse a time after a replacement was
// sealed, with the offer to revert it where that is possible.
func AfterSeal(slot, replacement string, after time.Duration, became string, revertible bool) Finding {
	passed := "less than a minute"
	if after >= time.Minute {
		passed = strings.TrimSuffix(after.Round(time.Minute).String(), "0s")
	}
	f := ChangedAfterSeal.Found("%s after %s was sealed, the slot became %s", passed, replacement, became)
	if f.Actions = []next.Action{next.Replace.On(slot)}; !revertible {
		return f.WithRemedy("find out who changed it, then replace it again or take over what is served")
	}
	f.Actions = []next.Action{next.Revert.On(replacement), next.ShowReplacement.On(replacement)}
	return f.WithRemedy("see what happened on the device; a revert of %s puts back what was there before it",
		replacement)
}

// As returns the finding with another severity, where the case is milder or
// worse than the code usually is.
func (f Finding) As(s Severity) Finding {
	f.Severity = s
	return f
}

// Errors returns those findings that are errors, in their order.
func Errors(all []Finding) []Finding {
	var out []Finding
	for _, f := range all {
		if f.Severity == Error {
			out = append(out, f)
		}
	}
	return out
}

// Doubts returns those findings for which an answer waits until a person accepts it, in their order.
func Doubts(all []Finding) []Finding {
	var out []Finding
	for _, f := range all {
		if f.Code.Doubt() {
			out = append(out, f)
		}
	}
	return out
}
