package due_test

import (
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
)

func TestConditionsHaveARank(t *testing.T) {
	for i, c := range due.Conditions {
		if c.Rank() != i {
			t.Errorf("%s has rank %d", c, c.Rank())
		}
	}
	if due.Condition("soggy").Rank() != len(due.Conditions) {
		t.Error("what is no condition is behind all of them")
	}
}

// What is served is held against what was installed, then against itself.
func TestWhatIsServedDecidesTheBase(t *testing.T) {
	end := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	wrong := []finding.Finding{finding.NameMissing.Found("x")}
	for name, c := range map[string]struct {
		f    due.Facts
		want due.Condition
	}{
		"not read":           {due.Facts{Installed: "a", SHA256: "a"}, due.Unreachable},
		"what was installed": {due.Facts{Read: true, Installed: "a", SHA256: "a"}, due.Fresh},
		"another one":        {due.Facts{Read: true, Installed: "a", SHA256: "b"}, due.Unexpected},
		"another one, self-signed": {due.Facts{Read: true, Installed: "a", SHA256: "b", SelfSigned: true},
			due.Unexpected},
		"never installed": {due.Facts{Read: true, SHA256: "b"}, due.Fresh},
		"the default":     {due.Facts{Read: true, SHA256: "b", SelfSigned: true}, due.Factory},
		"a self-signed one on purpose": {due.Facts{Read: true, Installed: "a", SHA256: "a", SelfSigned: true,
			Findings: wrong}, due.Flawed},
		"with an error": {due.Facts{Read: true, SHA256: "b", Findings: wrong}, due.Flawed},
	} {
		c.f.NotBefore, c.f.NotAfter = end.AddDate(-1, 0, 0), end
		if got := due.StateOf(c.f, due.Policy{Renewal: 30 * 24 * time.Hour}); got.Base != c.want {
			t.Errorf("%s: %s", name, got.Base)
		}
	}
}

// The next turn is the soonest of those that are to come, that of this very moment included.
func TestTheNextTurnIsTheSoonestToCome(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, n) }
	s := due.State{Base: due.Fresh, Due: day(10), Overdue: day(20)}
	for at, want := range map[int]int{0: 10, 10: 10, 11: 20, 20: 20, 21: 30, 30: 30} {
		if got := s.Turns(day(30), day(at)); !got.Equal(day(want)) {
			t.Errorf("on day %d it turns on %s", at, got)
		}
	}
	if got := s.Turns(day(30), day(31)); !got.IsZero() {
		t.Errorf("after its end it turns on %s", got)
	}
}

// A slot is read exactly at the moments after a seal at which a change is reported.
func TestAfterASealItIsReadAtItsMoments(t *testing.T) {
	sealed := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	r := due.Rhythm{Every: 24 * time.Hour, Installed: sealed}
	at := sealed
	for _, after := range due.AfterSeal {
		for steps := 0; at.Before(sealed.Add(after)); steps++ {
			if at = at.Add(r.Next(at, 0.5)); steps > 1000 {
				t.Fatal("it never comes")
			}
		}
		if !at.Equal(sealed.Add(after)) {
			t.Errorf("it is read %s after the seal, and not at %s", at.Sub(sealed), after)
		}
	}
}

// A life of no length, and one without an end, are no work.
func TestNoLifeIsNoWork(t *testing.T) {
	from := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	for name, l := range map[string]due.Life{"no end": {NotBefore: from},
		"no length": {NotBefore: from, NotAfter: from, Due: from},
		"backwards": {NotBefore: from.AddDate(0, 1, 0), NotAfter: from, Due: from}} {
		weeks := due.Forecast(func(yield func(due.Life) bool) { yield(l) }, from, 52, func(time.Time) time.Duration {
			return 0
		})
		for _, w := range weeks {
			if len(w.Today) != 0 {
				t.Errorf("%s: %+v", name, w)
			}
		}
	}
	if got := due.WorkingDays(from, 0, nil); !got.Equal(from) {
		t.Errorf("no days are %s", got)
	}
}
