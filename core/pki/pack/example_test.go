package pack_test

import (
	"fmt"
	"os"
	"strings"

	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/pile"
)

// From files in any order to the exact file that a device wants: files → pile → chain → pack.
func ExampleMake() {
	content, err := os.ReadFile("../pile/testdata/golden/key-and-certificates")
	if err != nil {
		fmt.Println(err)
		return
	}
	accounts, err := pile.Sort([]pile.File{{Name: "answer (2).cer", Content: content}}, pile.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	certificates := pile.Certificates(accounts)
	leaf := certificates[0]
	path := chain.Complete(leaf, chain.NewPool(certificates...), chain.NewPool(), leaf.NotBefore)
	for _, form := range []pack.Form{pack.Leaf, pack.LeafFirst, pack.LeafFirstWithRoot} {
		file, err := pack.Make(form, path)
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Printf("%s: %d certificates\n", form, strings.Count(string(file), "BEGIN CERTIFICATE"))
	}
	// Output:
	// leaf: 1 certificates
	// leaf-first: 2 certificates
	// leaf-first-with-root: 3 certificates
}
