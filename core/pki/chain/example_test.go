package chain_test

import (
	"fmt"
	"os"

	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
)

// A path is completed from whatever lies around, in any order; what is missing is named.
func ExampleComplete() {
	content, err := os.ReadFile("../pile/testdata/golden/key-and-certificates")
	if err != nil {
		fmt.Println(err)
		return
	}
	accounts, err := pile.Sort([]pile.File{{Content: content}}, pile.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	found := pile.Certificates(accounts)
	leaf, root := found[0], found[len(found)-1]
	at := leaf.NotBefore
	path := chain.Complete(leaf, chain.NewPool(found...), chain.NewPool(root), at)
	for _, c := range path.Certificates {
		fmt.Println(c.ShortName())
	}
	fmt.Println("anchored:", path.Anchored, "valid:", chain.Valid(path, at))
	alone := chain.Complete(leaf, chain.NewPool(), chain.NewPool(root), at)
	fmt.Println("alone:", alone.Complete, "missing:", alone.Missing.Subject)
	// Output:
	// gate.tidewrack.example
	// Quay Issuing
	// Quay Root
	// anchored: true valid: true
	// alone: false missing: CN=Quay Issuing
}
