package api_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"testing"

	"freshseal/api"
	"freshseal/contract"
)

var update = flag.Bool("update", false, "write openapi.json anew")

// The console's types are made of openapi.json, so it must be the document
// that the service serves.
func TestTheDescriptionOnFileIsTheOneServed(t *testing.T) {
	served := described(t)
	if *update {
		if err := os.WriteFile("openapi.json", served, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	onFile, err := os.ReadFile("openapi.json")
	if err != nil || !bytes.Equal(onFile, served) {
		t.Fatalf("openapi.json is not up to date (%v); run: go test ./api -update", err)
	}
}

// A description of a property that is no more is in the table for nothing.
func TestEveryDescriptionIsOfAProperty(t *testing.T) {
	document := described(t)
	for of, text := range contract.Descriptions {
		quoted, err := json.Marshal(text)
		if err != nil || !bytes.Contains(document, bytes.Trim(quoted, `"`)) {
			t.Errorf("nothing in the document is described by %s: %s", of, text)
		}
	}
}

// described is the document, with the comments of contract's sources.
func described(t *testing.T) []byte {
	t.Helper()
	known, err := comments("../contract")
	if err != nil {
		t.Fatal(err)
	}
	document, err := api.Description(known)
	if err != nil {
		t.Fatal(err)
	}
	return document
}
