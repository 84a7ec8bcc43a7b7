package judge_test

import (
	"crypto/x509"
	"slices"
	"strings"
	"testing"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/testkit"
)

// A slot is judged by the clients that use it: by each of its groups, and as supplicants do where it is read by EAP.
func TestASlotIsJudgedByItsClients(t *testing.T) {
	const host = "radius.tidewrack.example"
	root, other := testkit.Root(t, "Root"), testkit.Root(t, "Campus Root")
	middle := root.Below(t, "Middle")
	leaf := middle.Leaf(t, host)
	plain := middle.Leaf(t, host, func(c *x509.Certificate) { c.ExtKeyUsage = nil })
	wild := middle.Leaf(t, "*.tidewrack.example")
	s := &judge.Snapshot{Anchors: chain.NewPool(other.Certificate), Authorities: chain.NewPool(middle.Certificate,
		root.Certificate), TrustGroups: map[string]*chain.Pool{
		"fleet": chain.NewPool(other.Certificate), "laptops": chain.NewPool(root.Certificate, other.Certificate),
		"tills": chain.NewPool(other.Certificate),
	}}
	for about, c := range map[string]struct {
		leaf  testkit.Signer
		slot  judge.Slot
		base  due.Condition
		codes []finding.Code
		lacks []string
	}{
		"by the fleet": {leaf, judge.Slot{ServerName: host}, due.Flawed,
			[]finding.Code{finding.AnchorUnknown}, []string{"fleet"}},
		"by those who use it": {leaf, judge.Slot{ServerName: host, TrustGroups: []string{"laptops"}},
			due.Fresh, nil, nil},
		"by two groups, one lacks it": {leaf,
			judge.Slot{ServerName: host, TrustGroups: []string{"laptops", "tills"}}, due.Flawed,
			[]finding.Code{finding.AnchorUnknown}, []string{"tills"}},
		"by two groups, the other order": {leaf,
			judge.Slot{ServerName: host, TrustGroups: []string{"tills", "laptops"}}, due.Flawed,
			[]finding.Code{finding.AnchorUnknown}, []string{"tills"}},
		"by a group without roots": {leaf, judge.Slot{ServerName: host, TrustGroups: []string{"nobody"}},
			due.Flawed, []finding.Code{finding.AnchorUnknown}, []string{"nobody"}},
		"a supplicant, and it is well": {leaf, judge.Slot{ServerName: host, TrustGroups: []string{"laptops"},
			OverEAP: true}, due.Fresh, nil, nil},
		"a supplicant, no use is stated": {plain, judge.Slot{ServerName: host, TrustGroups: []string{"laptops"},
			OverEAP: true}, due.Fresh, []finding.Code{finding.SupplicantRefuses}, nil},
		"a browser, no use is stated": {plain, judge.Slot{ServerName: host, TrustGroups: []string{"laptops"}},
			due.Fresh, nil, nil},
		"a supplicant, wildcards alone": {wild, judge.Slot{ServerName: host, TrustGroups: []string{"laptops"},
			OverEAP: true}, due.Fresh, []finding.Code{finding.SupplicantRefuses}, nil},
	} {
		got := s.Judge([]*cert.Certificate{c.leaf.Certificate, middle.Certificate}, c.slot, testkit.Now)
		var codes []finding.Code
		var lacks []string
		for _, f := range got.Findings {
			codes = append(codes, f.Code)
			if f.Code == finding.AnchorUnknown {
				lacks = append(lacks, f.Actions[0].About)
				if f.Actions[0].What != root.SHA256 || !strings.Contains(f.What, f.Actions[0].About) {
					t.Errorf("%s: %+v", about, f)
				}
			}
		}
		if got.State.Base != c.base || !slices.Equal(codes, c.codes) || !slices.Equal(lacks, c.lacks) {
			t.Errorf("%s: it is %s with %v, lacked by %v", about, got.State.Base, codes, lacks)
		}
	}
}
