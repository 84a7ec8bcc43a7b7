package request

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshseal/core/judgement/finding"
)

// SubjectFields are the names of the fields of a subject, in the order in which people read them.
var SubjectFields = []string{"common_name", "organization", "unit", "locality", "state", "country", "email"}

// Field points to a field of a subject by its name; nil if there is none of that name.
func (s *Subject) Field(name string) *string {
	switch name {
	case "common_name":
		return &s.CommonName
	case "organization":
		return &s.Organization
	case "unit":
		return &s.Unit
	case "locality":
		return &s.Locality
	case "state":
		return &s.State
	case "country":
		return &s.Country
	case "email":
		return &s.Email
	}
	return nil
}

// Carried returns the plan without the fields of the subject that the request cannot carry, which stand in Dropped
// with their values.
func (p Plan) Carried(can func(field string) bool) Plan {
	p.Dropped, p.Sources = map[string]string{}, maps.Clone(p.Sources)
	for _, name := range SubjectFields[1:] { // every request has a common name, be it chosen by the device
		if at := p.Subject.Field(name); *at != "" && !can(name) {
			p.Dropped[name], *at = *at, ""
			delete(p.Sources, name)
		}
	}
	return p
}

// Difference is a field in which a request differs from its plan.
type Difference struct {
	Field    string `json:"field" required:"true"`
	Planned  string `json:"planned" required:"true"`
	Made     string `json:"made" required:"true"`
	Demanded bool   `json:"demanded,omitempty"`
}

func (d Difference) String() string {
	return fmt.Sprintf("%s: planned was “%s”, and the request has “%s”", strings.ReplaceAll(d.Field, "_", " "),
		d.Planned, d.Made)
}

// Compare returns the fields in which a request differs from its plan, all of them, with those that the signer
// demands first.
func Compare(plan Plan, r Request, t Terms) []Difference {
	var out []Difference
	add := func(field, planned, made string, demanded bool) {
		if planned != made {
			out = append(out, Difference{field, planned, made, demanded})
		}
	}
	have := subjectOf(r)
	for _, name := range SubjectFields {
		add(name, *plan.Subject.Field(name), *have.Field(name), slices.Contains(t.Fields, name))
	}
	names, planned := slices.Sorted(slices.Values(r.Names())), slices.Sorted(slices.Values(plan.Names))
	add("names", strings.Join(planned, ", "), strings.Join(names, ", "), true)
	add("key", plan.Key.Text(), r.Key(), true)
	slices.SortStableFunc(out, func(a, b Difference) int {
		switch {
		case a.Demanded == b.Demanded:
			return 0
		case a.Demanded:
			return -1
		}
		return 1
	})
	return out
}

// Demanded returns the findings of differences in fields that the signer demands.
func Demanded(all []Difference) []finding.Finding {
	var out []finding.Finding
	for _, d := range all {
		if d.Demanded && slices.Contains(SubjectFields, d.Field) {
			out = append(out, finding.SubjectDiffers.Found("%s, which the signer demands", d).As(finding.Error).
				WithRemedy("see why the device does not take it, and make the request again"))
		}
	}
	return out
}
