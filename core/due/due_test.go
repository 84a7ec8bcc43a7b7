package due_test

import (
	"testing"
	"time"

	"freshseal/core/due"
	"freshseal/core/finding"
)

func TestASlotHasTheFirstConditionThatApplies(t *testing.T) {
	policy := due.Policy{Renewal: 30 * 24 * time.Hour, Margin: 7 * 24 * time.Hour, Turnaround: 2 * 24 * time.Hour}
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	in := func(days int) time.Time { return now.AddDate(0, 0, days) }
	wrong := []finding.Finding{finding.NameMissing.Found("x")}
	warned := []finding.Finding{finding.IssuerEndsFirst.Found("x")}
	for want, cases := range map[due.Condition][]due.Facts{
		due.Dark:    {{}, {NotAfter: in(90)}},
		due.Lapsed:  {{Read: true, NotAfter: in(-1), SelfSigned: true, SHA256: "a", Installed: "b"}},
		due.Stray:   {{Read: true, NotAfter: in(90), SelfSigned: true, SHA256: "a", Installed: "b"}},
		due.Factory: {{Read: true, NotAfter: in(1), SelfSigned: true, Findings: wrong}},
		due.Flawed:  {{Read: true, NotAfter: in(1), Findings: wrong}},
		due.Overdue: {{Read: true, NotAfter: in(8)}},
		due.Due:     {{Read: true, NotAfter: in(10)}, {Read: true, NotAfter: in(29)}},
		due.Fresh:   {{Read: true, NotAfter: in(31), SHA256: "a", Installed: "a", Findings: warned}},
	} {
		for _, facts := range cases {
			if got := due.Stand(facts, policy).At(facts.NotAfter, now); got != want {
				t.Errorf("%+v is %s, want %s", facts, got, want)
			}
		}
	}
}
