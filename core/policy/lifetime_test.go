package policy_test

import (
	"testing"
	"time"

	"freshseal/core/policy"
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
