package request_test

import (
	"strings"
	"testing"

	"freshseal/core/judgement/finding"
	. "freshseal/core/pki/request"
)

// What a signer will not sign is found before it is asked.
func TestNamesThatNobodySigns(t *testing.T) {
	nothing := Terms{}
	for _, each := range []struct {
		name  string
		terms Terms
		why   string // "": it is signed
	}{
		{"gate.tidewrack.com", PublicSigner, ""},
		{"*.tidewrack.com", PublicSigner, ""},
		{"*.tidewrack.com", nothing, "no wildcards"},
		{"gate", PublicSigner, "single label"},
		{"gate", AnySigner, ""},
		{"gate.local", PublicSigner, "RFC 6762"},
		{"router.home.arpa", PublicSigner, "home.arpa (RFC 8375)"},
		{"*.corp", PublicSigner, "single label"},
		{"local.tidewrack.com", PublicSigner, ""},
		{"10.1.2.3", PublicSigner, "RFC 1918"},
		{"fd00::1", PublicSigner, "RFC 4193"},
		{"8.8.4.4", PublicSigner, "no IP addresses"},
		{"10.1.2.3", AnySigner, ""},
		{"192.0.2.1", nothing, "no IP addresses"},
	} {
		found := Unsignable([]string{each.name}, each.terms)
		switch {
		case each.why == "" && len(found) > 0:
			t.Errorf("%s is refused: %s", each.name, found[0].What)
		case each.why != "" && (len(found) != 1 || !strings.Contains(found[0].What, each.why)):
			t.Errorf("%s: %v, want %q", each.name, found, each.why)
		}
	}
	plan := Plan{Names: []string{"gate"}, Key: RSA2048, Subject: Subject{Organization: "Tidewrack Ferries"}}
	if found := plan.Meets(Terms{Fields: []string{"organization", "country"},
		Keys: []KeyType{ECDSAP256}}); len(found) != 2 {
		t.Errorf("%v", found)
	}
}

// What is made here is what was planned, whatever the key.
func TestMadeRequestsSayWhatWasPlanned(t *testing.T) {
	for _, kind := range []KeyType{ECDSAP256, ECDSAP384, RSA2048} {
		plan := Plan{Names: []string{"gate.tidewrack.example", "192.0.2.7", "2001:db8::7"}, Key: kind,
			Subject: Subject{Organization: "Tidewrack Ferries", Country: "XA"}}.Complete()
		key, err := NewKey(kind)
		if err != nil {
			t.Fatal(err)
		}
		made, err := Make(plan, key)
		if err != nil {
			t.Fatal(err)
		}
		read, err := Parse(made.PEM())
		if err != nil {
			t.Fatal(err)
		}
		if wrong := finding.Errors(Check(plan, read)); len(wrong) > 0 || len(read.Extensions) != 3 {
			t.Errorf("%s: %v, %d extensions", kind, wrong, len(read.Extensions))
		}
	}
}
