package naming_test

import (
	"strings"
	"testing"

	"freshseal/core/naming"
)

// A name goes into addresses, commands and file names as it is.
func TestNamesAreSafeWhereverTheyStand(t *testing.T) {
	for _, name := range []string{"", "-a", "a-", ".", "..", "a/b", "a b", "A", "a\n", "a\x00", "ä", "a%2f", "--help",
		"a'b", "$(x)", strings.Repeat("a", 129)} {
		if naming.Device(name) || naming.Label(name) || naming.Slot(name) && !strings.HasSuffix(name, "-") {
			t.Errorf("%q is accepted", name)
		}
	}
	if !naming.Device("gate-1.mainquay.tidewrack.example") || !naming.Device(strings.Repeat("a", 128)) ||
		naming.Label(strings.Repeat("a", 65)) || !naming.Slot("eap") || naming.Slot("a.b") ||
		naming.Slot(strings.Repeat("a", 32)) {
		t.Error("the lengths")
	}
}
