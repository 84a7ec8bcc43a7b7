package procedure

import "slices"

// Carries reports whether the request of the family can carry a field of the subject, such as "locality": its steps hand that value or the
// whole plan to the device, or Fresh Seal makes the request.
func (p Procedure) Carries(field string) bool {
	if p.Traits.KeyGiven || p.Traits.SignsItself {
		return true
	}
	return slices.ContainsFunc(p.Steps[Request], func(step Step) bool {
		if step.Do.Word() == "service" { // our own request
			return true
		}
		names := step.Names()
		return slices.Contains(names, field) || slices.Contains(names, "request_config")
	})
}
