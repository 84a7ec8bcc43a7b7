package demo

import (
	"strings"
	"testing"

	"freshseal/standin"
)

// No two boxes of the demo have the same address, those of nodes that the documents add included; and every fault is
// one sentence.
func TestTheFleetHasNoAddressTwice(t *testing.T) {
	seen := map[string]string{}
	for _, m := range members {
		addresses := []string{m.address}
		for n := range m.nodes {
			addresses = append(addresses, nodeAddress(m.address, n))
		}
		for _, a := range addresses {
			if other, taken := seen[a]; taken {
				t.Errorf("%s and %s have the address %s", other, m.name, a)
			}
			seen[a] = m.name
		}
	}
	for _, f := range standin.FaultList {
		if strings.Count(f.About, ".") != 1 || !strings.HasSuffix(f.About, ".") {
			t.Errorf("%s: %q is not one sentence", f.Name, f.About)
		}
	}
}
