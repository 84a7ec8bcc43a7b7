package procedure

import (
	"slices"

	"freshseal/core/pki/pack"
)

// Carries reports whether the request of the family can carry a field of the subject, such as "locality": its steps
// hand that value or the whole plan to the device, or Fresh Seal makes the request.
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

// NeedsRoot reports whether the device is given the root of the new chain: the signer should send it along.
func (p Procedure) NeedsRoot() bool {
	for _, steps := range p.Steps {
		for _, step := range steps {
			for _, name := range step.Names() {
				made, _ := p.Pack(name)
				if name == "anchor" ||
					slices.Contains([]pack.Form{pack.Root, pack.LeafFirstWithRoot, pack.IntermediatesWithRoot},
						made.Form) {
					return true
				}
			}
		}
	}
	return false
}

// OneSlot reports whether the steps work on one slot of the device, so that several need a replacement each.
func (p Procedure) OneSlot() bool {
	one := false
	for _, steps := range p.Steps {
		for _, step := range steps {
			if step.Each == "slots" || slices.Contains(step.Names(), "slots") {
				return false
			}
			one = one || slices.Contains(step.Names(), "slot")
		}
	}
	return one
}
