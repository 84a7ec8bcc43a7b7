package pile_test

import (
	"fmt"
	"os"
	"strings"

	"freshseal/core/pki/pile"
)

// What came back from a signer is sorted, whatever it is called and however it is written.
func ExampleSort() {
	var files []pile.File
	for _, name := range []string{"key-and-certificates", "der-leaf-called-pem.pem", "document.pdf"} {
		content, err := os.ReadFile("testdata/golden/" + name)
		if err != nil {
			fmt.Println(err)
			return
		}
		files = append(files, pile.File{Name: name, Content: content})
	}
	accounts, err := pile.Sort(files, pile.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, a := range accounts {
		for _, item := range a.Holds {
			fmt.Println(strings.TrimSpace(fmt.Sprint(a.Name, " holds ", item.Kind, " ", item.Subject)))
		}
	}
	fmt.Println(len(pile.Certificates(accounts)), "certificates,", len(pile.Keys(accounts)), "key")
	// Output:
	// key-and-certificates holds key ECDSA P-256
	// key-and-certificates holds certificate CN=gate.tidewrack.example
	// key-and-certificates holds certificate CN=Quay Issuing
	// key-and-certificates holds certificate CN=Quay Root
	// der-leaf-called-pem.pem holds certificate CN=gate.tidewrack.example
	// document.pdf holds junk
	// 3 certificates, 1 key
}
