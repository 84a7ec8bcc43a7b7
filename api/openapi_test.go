package api_test

import (
	"bytes"
	"flag"
	"os"
	"testing"

	"freshseal/api"
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
