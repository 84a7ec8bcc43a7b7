package pack_test

import (
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"testing"

	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/testkit"
)

// Whatever form, encoding and dress are asked for together: either it is said
// beforehand that they do not fit, or the file is written, and what is written
// was read back. Nothing that is called unfit can be written after all.
func TestEveryOptionIsWrittenOrCalledUnfit(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	upper := root.Below(t, "Quay Upper")
	lower := upper.Below(t, "Quay Lower")
	leaf := lower.Leaf(t, "gate.tidewrack.example")
	path := chain.Complete(leaf.Certificate, chain.NewPool(upper.Certificate, lower.Certificate),
		chain.NewPool(root.Certificate), testkit.Now)
	written, unfit := 0, 0
	for _, form := range pack.Forms {
		for _, encoding := range pack.Encodings {
			for _, place := range pack.KeyPlaces {
				for _, keyForm := range []pack.KeyForm{pack.PKCS8, pack.SEC1, pack.PKCS8Locked, pack.OlderLocked} {
					for _, d := range []pack.Options{{}, {CRLF: true, LineLength: 76, Text: true}, {LineLength: -1}} {
						d.Encoding, d.Place, d.KeyForm, d.Passphrase = encoding, place, keyForm, "anchor chain"
						why := d.Unfit(form)
						_, err := pack.Write(form, d, path, leaf.Key)
						switch {
						case errors.Is(err, pack.ErrNoIntermediate): // there are two
							if form != pack.Intermediate3 {
								t.Errorf("%s: %v", form, err)
							}
						case why != nil && err == nil:
							t.Errorf("%s %+v is called unfit (%v) and is written", form, d, why)
						case why == nil && err != nil:
							t.Errorf("%s %+v is not called unfit, and not written: %v", form, d, err)
						case err == nil:
							written++
						default:
							unfit++
						}
					}
				}
			}
		}
	}
	if written < 200 || unfit < 200 {
		t.Errorf("%d are written and %d unfit", written, unfit)
	}
}

func TestAnRSAKeyHasItsOwnOlderForm(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	for form, want := range map[pack.KeyForm]string{pack.PKCS1: "RSA PRIVATE KEY", pack.PKCS8: "PRIVATE KEY",
		pack.PKCS8Locked: "ENCRYPTED PRIVATE KEY", pack.SEC1: ""} {
		label, _, err := pack.KeyDER(pack.Options{KeyForm: form, Passphrase: "anchor chain"}, key)
		if label != want && want != "" || (err == nil) != (want != "") {
			t.Errorf("%s: %q, %v", form, label, err)
		}
	}
}
