package request_test

import (
	"fmt"
	"slices"
	"testing"

	"freshseal/core/pki/request"
)

// What people give is asked for whatever it is; what rules add is left out where
// the signer would refuse the whole request for it.
func TestNamesAreGatheredAsTheSignerTakesThem(t *testing.T) {
	const host = "Gate.Mainquay.Tidewrack.com."
	all := []request.Candidate{
		{Name: host, Source: "the server name"}, {Name: "gate.mainquay.tidewrack.com", Source: "today's certificate"},
		{Name: request.Short(host), Source: "short", Derived: true},
		{Name: "192.0.2.7", Source: "address", Derived: true}, {Name: "10.1.2.3", Source: "address", Derived: true},
		{Name: request.Beside(host, "sip"), Source: "prefix", Derived: true},
		{Name: "ticket office", Source: "cluster", Derived: true},
	}
	for signer, c := range map[string]struct {
		terms request.Terms
		want  []string
		left  int
	}{
		"anything": {request.AnySigner, []string{"gate.mainquay.tidewrack.com", "gate", "192.0.2.7",
			"10.1.2.3", "sip.mainquay.tidewrack.com"}, 1},
		"public names": {request.PublicSigner,
			[]string{"gate.mainquay.tidewrack.com", "sip.mainquay.tidewrack.com"}, 4},
		"public, addresses": {request.Terms{Public: true, Addresses: true},
			[]string{"gate.mainquay.tidewrack.com", "192.0.2.7", "sip.mainquay.tidewrack.com"}, 3},
	} {
		names, sources, left := request.Gather(all, c.terms)
		if !slices.Equal(names, c.want) || len(left) != c.left || sources[names[0]] != "the server name" {
			t.Errorf("%s: %v from %v, left out %v", signer, names, sources, left)
		}
	}
	for name, want := range map[string]string{"gate": " ", "192.0.2.7": " ", "*.tidewrack.com": " sip.tidewrack.com",
		"gate.tidewrack.com": "gate sip.tidewrack.com"} {
		if got := request.Short(name) + " " + request.Beside(name, "sip"); got != want {
			t.Errorf("%s: %q", name, got)
		}
	}
	if got := fmt.Sprint(request.Domains([]string{"b.gate.tidewrack.co.uk", "*.tidewrack.co.uk", "192.0.2.7",
		"gate"})); got != "[192.0.2.7 gate tidewrack.co.uk]" {
		t.Errorf("domains %s", got)
	}
}
