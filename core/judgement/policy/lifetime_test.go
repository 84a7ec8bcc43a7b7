package policy_test

import (
	"crypto/x509"
	"testing"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/testkit"
)

func TestPublicLivesGetShorter(t *testing.T) {
	for day, want := range map[string]int{"2025-01-01": 398, "2026-03-14": 398, "2026-03-15": 200, "2027-03-14": 200,
		"2027-03-15": 100, "2029-03-14": 100, "2029-03-15": 47, "2040-01-01": 47} {
		at, err := time.Parse(time.DateOnly, day)
		if err != nil {
			t.Fatal(err)
		}
		if got := policy.PublicMaxDays(at); got != want {
			t.Errorf("on %s: %d days, want %d", day, got, want)
		}
	}
}

func TestNobodyIsAskedForMoreThanClientsTake(t *testing.T) {
	year := 365
	strict, any := policy.Default.Under(policy.Rules{MaxLifetimeDays: &year}), policy.Default
	for _, c := range []struct {
		rules  policy.Rules
		signer int
		public bool
		want   int
	}{{any, 0, false, 0}, {any, 825, false, 825}, {strict, 825, false, 365}, {strict, 825, true, 200},
		{any, 90, true, 90}, {any, 0, true, 200}} {
		if got := c.rules.Lifetime(c.signer, c.public, testkit.Now); got != c.want {
			t.Errorf("a signer of %d days, public %v: %d days, want %d", c.signer, c.public, got, c.want)
		}
	}
}

func TestALeafThatLivesTooLongIsToldOf(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	for _, c := range []struct {
		days, most int
		public     bool
		want       finding.Code
	}{
		{90, 90, false, ""}, {91, 90, false, ""}, {365, 90, false, finding.LifetimeTooLong}, {365, 0, false, ""},
		{199, 0, true, ""}, {365, 398, true, finding.LifetimeTooLong},
	} {
		leaf := root.Leaf(t, "gate.tidewrack.example", func(x *x509.Certificate) {
			x.NotBefore, x.NotAfter = testkit.Now, testkit.Now.AddDate(0, 0, c.days)
		})
		found := policy.JudgeLife(leaf.Certificate, "harbour", c.most, c.public)
		if (len(found) == 0) != (c.want == "") || len(found) > 0 && found[0].Code != c.want {
			t.Errorf("%d days of at most %d, public %v: %v", c.days, c.most, c.public, found)
		}
	}
}
