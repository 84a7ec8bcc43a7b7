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
	served, err := api.Description()
	if err != nil {
		t.Fatal(err)
	}
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

// A description of a property that is no more stands in the table for nothing.
func TestEveryDescriptionIsOfAProperty(t *testing.T) {
	document, err := api.Description()
	if err != nil {
		t.Fatal(err)
	}
	for of, text := range contract.Descriptions {
		quoted, err := json.Marshal(text)
		if err != nil || !bytes.Contains(document, bytes.Trim(quoted, `"`)) {
			t.Errorf("nothing in the document is described by %s: %s", of, text)
		}
	}
}
