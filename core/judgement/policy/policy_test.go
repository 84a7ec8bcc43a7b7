package policy_test

import (
	"slices"
	"testing"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
)

func n(i int) *int { return &i }

func TestWhatIsSetNearerToADeviceCounts(t *testing.T) {
	fleet := policy.Rules{RenewalDays: n(60), RequiredNames: []string{"fleet.tidewrack.example"}}
	site := policy.Rules{RenewalDays: n(45), MarginDays: n(14)}
	device := policy.Rules{RenewalDays: n(20), RequiredNames: []string{}}
	all := policy.Default.Under(fleet).Under(site).Under(device)
	if d := all.Due(); d.Renewal != 20*24*time.Hour || d.Margin != 14*24*time.Hour ||
		d.Turnaround != 2*24*time.Hour || len(all.Names()) != 0 {
		t.Errorf("%+v", d)
	}
	if names := policy.Default.Under(fleet).Names("gate.tidewrack.example",
		"fleet.tidewrack.example"); !slices.Equal(names,
		[]string{"gate.tidewrack.example", "fleet.tidewrack.example"}) {
		t.Errorf("names %v", names)
	}
	for _, bad := range []policy.Rules{{RenewalDays: n(0)}, {MinRSABits: n(-1)}, {RequiredNames: []string{"a b"}}} {
		if bad.Check() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func TestWhatBreaksTheRulesIsFound(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example") // P-256, lives for three months
	path := []*cert.Certificate{leaf.Certificate, root.Certificate}
	if found := policy.Default.Judge(path); len(found) > 0 {
		t.Errorf("by default: %v", found)
	}
	found := policy.Default.Under(policy.Rules{MinECBits: n(384), MaxLifetimeDays: n(47)}).Judge(path)
	var codes []finding.Code
	for _, f := range found {
		codes = append(codes, f.Code)
	}
	if !slices.Equal(codes, []finding.Code{finding.WeakKey, finding.WeakKey, finding.LifetimeTooLong}) {
		t.Errorf("strictly: %v", codes)
	}
}

func TestWordsThatAreNoneAreRefused(t *testing.T) {
	yes, signer := true, "harbour"
	for _, bad := range []policy.Rules{{RenewalKey: &signer}, {Approval: &signer}, {Key: (*request.KeyType)(&signer)},
		{NamePrefixes: []string{"*"}}} {
		if bad.Check() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	weak := policy.Default.Under(policy.Rules{WeakKeys: &yes})
	for key, want := range map[request.KeyType]bool{request.RSA1024: true, request.RSA2048: false,
		request.ECDSAP256: false} {
		if why := policy.Default.Refuses(key); (why != "") != want || weak.Refuses(key) != "" {
			t.Errorf("%s: %q", key, why)
		}
	}
}
