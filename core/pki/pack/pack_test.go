package pack_test

import (
	"bytes"
	"encoding/pem"
	"errors"
	"slices"
	"testing"

	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/testkit"
)

func TestEachFormHoldsJustWhatItSays(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	upper := root.Below(t, "Quay Upper")
	lower := upper.Below(t, "Quay Lower")
	leaf := lower.Leaf(t, "gate.tidewrack.example")
	heap := chain.NewPool(upper.Certificate, root.Certificate, lower.Certificate)
	whole := chain.Complete(leaf.Certificate, heap, chain.NewPool(root.Certificate), testkit.Now)
	for form, want := range map[pack.Form][]testkit.Signer{
		pack.LeafFirst: {leaf, lower, upper}, pack.LeafFirstWithRoot: {leaf, lower, upper, root}, pack.Leaf: {leaf},
		pack.Intermediates: {lower, upper}, pack.IntermediatesWithRoot: {lower, upper, root}, pack.Root: {root},
	} {
		content, err := pack.Make(form, whole)
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(content, []byte("\r")) || !bytes.HasSuffix(content, []byte("-----END CERTIFICATE-----\n")) {
			t.Errorf("%s: the line ends are not LF", form)
		}
		var got [][]byte
		for block, rest := pem.Decode(content); block != nil; block, rest = pem.Decode(rest) {
			got = append(got, block.Bytes)
		}
		if !slices.EqualFunc(got, want, func(der []byte, s testkit.Signer) bool { return bytes.Equal(der, s.Raw) }) {
			t.Errorf("%s holds %d certificates, not the %d wanted in their order", form, len(got), len(want))
		}
	}
	noRoot := chain.Complete(leaf.Certificate, chain.NewPool(lower.Certificate), chain.NewPool(), testkit.Now)
	if _, err := pack.Make(pack.LeafFirstWithRoot, noRoot); !errors.Is(err, pack.ErrNoRoot) {
		t.Errorf("without a root: %v", err)
	}
}
