package policy_test

import (
	"testing"
	"time"

	"freshseal/core/policy"
	"freshseal/core/testkit"
)

func TestPublicLivesGetShorter(t *testing.T) {
	for day, want := range map[string]int{"2025-01-01": 398, "2026-03-14": 398, "2026-03-15": 200, "2027-03-14": 200, "2027-03-15": 100, "2029-03-14": 100, "2029-03-15": 47, "2040-01-01": 47} {
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
	}{{any, 0, false, 0}, {any, 825, false, 825}, {strict, 825, false, 365}, {strict, 825, true, 200}, {any, 90, true, 90}, {any, 0, true, 200}} {
		if got := c.rules.Lifetime(c.signer, c.public, testkit.Now); got != c.want {
			t.Errorf("a signer of %d days, public %v: %d days, want %d", c.signer, c.public, got, c.want)
		}
	}
}
