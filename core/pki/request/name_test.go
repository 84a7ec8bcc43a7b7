package request_test

import (
	"strings"
	"testing"

	"freshseal/core/pki/request"
)

// Every name is taken for what it is, or what it lacks is said of it.
func TestNamesAreTakenForWhatTheyAre(t *testing.T) {
	for name, says := range map[string]string{
		"192.0.2.1": "", "2001:db8::1": "", "gate": "", "gate-1.mainquay.example": "", "a_b.example": "",
		"*.mainquay.example": "", "10.mainquay.example": "", "xn--stle-zna.example": "", "3gate.example.7seas": "",
		"": "empty", "..": "two dots", "gate.": "two dots", "a..b": "two dots", "10.0.0.300": "four numbers",
		"1.2.3": "four numbers", "2130706433": "four numbers", "gate.0x7f": "four numbers",
		"*": "wildcard", "*.example": "wildcard", "gate.*.example": "wildcard", "g*.mainquay.example": "wildcard",
		"a b.example": `"a b"`, "-a.example": `"-a"`, "a-.example": `"a-"`, "GATE.example": `"GATE"`,
		"::g": `"::g"`, "keeper@gate.example": `"keeper@gate"`,
		strings.Repeat("a", 63) + ".example": "", strings.Repeat("a", 64) + ".example": "63",
		strings.Repeat("a.", 126) + "a": "", strings.Repeat("a.", 127) + "a": "253",
	} {
		if is := request.NameFlaw(name); (is == "") != (says == "") || !strings.Contains(is, says) {
			t.Errorf("%.40q: %q, want %q", name, is, says)
		}
	}
	for name, plain := range map[string]string{"Gate.Example.": "gate.example", " 192.0.2.1 ": "192.0.2.1",
		"2001:DB8:0::1": "2001:db8::1", "Stüle.example": "xn--stle-1ra.example", ".": ".", "..": ".", "": ""} {
		if is := request.PlainName(name); is != plain {
			t.Errorf("%q is written %q, want %q", name, is, plain)
		}
	}
	for address, fits := range map[string]bool{"GATE.example": true, "192.0.2.1": true, "*.mainquay.example": false,
		"10.0.0.300": false, "..": false} {
		if is := request.AddressFlaw(address); (is == "") != fits {
			t.Errorf("%q: %q", address, is)
		}
	}
}
