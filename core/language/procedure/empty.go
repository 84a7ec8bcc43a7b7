package procedure

import "slices"

// empty reports whether nothing would be handed to the device: every part of the new chain that the step names is
// empty for this chain, such as the intermediates of an authority that signs straight from its root. Such a step is
// left out.
func (s Step) empty(scope *Scope) bool {
	none := false
	for _, name := range s.Names() {
		if !scope.ofChain(name) {
			continue
		}
		v, err := scope.Value(name)
		if err != nil || v.Filled() {
			return false
		}
		none = true
	}
	return none
}

// MayBeEmpty reports whether the step is left out for some chains: it names the intermediates and nothing else of the
// chain.
func (s Step) MayBeEmpty(scope *Scope) bool {
	names := slices.DeleteFunc(s.Names(), func(name string) bool { return !scope.ofChain(name) })
	return len(names) > 0 && !slices.ContainsFunc(names, func(name string) bool { return name != "intermediates" })
}

// ofChain reports whether a value is made of the new chain.
func (s *Scope) ofChain(name string) bool {
	if _, pack := s.Procedure().Pack(name); pack {
		return true
	}
	return slices.Contains(chainGivens, name)
}

// chainGivens are the given values that are made of the new chain.
var chainGivens = []string{"leaf", "leaf_first", "intermediates", "intermediates_or_root", "anchor", "leaf_der",
	"pkcs7", "pkcs7_pem", "new_sha256"}
