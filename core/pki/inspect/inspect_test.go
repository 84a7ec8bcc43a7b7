package inspect_test

import (
	"slices"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/inspect"
	"freshseal/core/pki/pile"
	"freshseal/core/testkit"
)

func files(signers ...testkit.Signer) []pile.File {
	var out []pile.File
	for _, s := range signers {
		out = append(out, pile.File{Name: s.CommonName(), Content: s.PEM()})
	}
	return out
}

func TestAPileIsJudgedAsFarAsItGoes(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	lower := root.Below(t, "Quay Lower")
	gate, pier := lower.Leaf(t, "gate.tidewrack.example"), lower.Leaf(t, "pier.tidewrack.example")
	anchors := []*cert.Certificate{root.Certificate}
	for about, c := range map[string]struct {
		pile     []pile.File
		terms    inspect.Terms
		chains   int
		complete bool
		valid    bool
		wrong    bool
	}{
		"two leaves in one heap": {files(root, pier, lower, gate), inspect.Terms{Anchors: anchors}, 2, true,
			true, false},
		"no anchor given":         {files(gate, lower, root), inspect.Terms{}, 1, true, false, false},
		"the root is missing":     {files(gate, lower), inspect.Terms{}, 1, false, false, true},
		"the anchor completes it": {files(gate, lower), inspect.Terms{Anchors: anchors}, 1, true, true, false},
		"authorities alone":       {files(lower, root), inspect.Terms{Anchors: anchors}, 1, true, true, false},
		"one leaf chosen": {files(gate, pier, lower),
			inspect.Terms{Anchors: anchors, Leaves: []*cert.Certificate{pier.Certificate}}, 1, true, true, false},
		"a name that only one of them has": {files(gate, pier, lower),
			inspect.Terms{Anchors: anchors, Names: []string{"gate.tidewrack.example"}}, 2, true, true, true},
		"a picture beside it": {append(files(gate, lower),
			pile.File{Name: "x", Content: []byte("\x89PNG")}), inspect.Terms{Anchors: anchors}, 1, true, true, true},
	} {
		c.terms.At = testkit.Now
		account, err := inspect.Files(c.pile, c.terms)
		if err != nil {
			t.Fatal(err)
		}
		bad := slices.ContainsFunc(account.Chains, func(each inspect.Chain) bool {
			return each.Complete != c.complete || each.Valid != c.valid
		})
		if len(account.Chains) != c.chains || bad || account.Wrong() != c.wrong || len(account.Files) != len(c.pile) {
			t.Errorf("%s: wrong %v, %+v", about, account.Wrong(), account.Chains)
		}
	}
}
