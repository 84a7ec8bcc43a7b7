package due_test

import (
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/window"
)

func TestASlotHasTheFirstConditionThatApplies(t *testing.T) {
	policy := due.Policy{Renewal: 30 * 24 * time.Hour, Margin: 7 * 24 * time.Hour, Turnaround: 2 * 24 * time.Hour}
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	in := func(days int) time.Time { return now.AddDate(0, 0, days) }
	wrong := []finding.Finding{finding.NameMissing.Found("x")}
	warned := []finding.Finding{finding.IssuerEndsFirst.Found("x")}
	for want, cases := range map[due.Condition][]due.Facts{
		due.Unreachable: {{}, {NotAfter: in(90)}},
		due.Expired:     {{Read: true, NotAfter: in(-1), SelfSigned: true, SHA256: "a", Installed: "b"}},
		due.Unexpected:  {{Read: true, NotAfter: in(90), SelfSigned: true, SHA256: "a", Installed: "b"}},
		due.Factory:     {{Read: true, NotAfter: in(1), SelfSigned: true, Findings: wrong}},
		due.Flawed:      {{Read: true, NotAfter: in(1), Findings: wrong}},
		due.Overdue:     {{Read: true, NotAfter: in(8)}},
		due.Due:         {{Read: true, NotAfter: in(10)}, {Read: true, NotAfter: in(29)}},
		due.Fresh:       {{Read: true, NotAfter: in(31), SHA256: "a", Installed: "a", Findings: warned}},
	} {
		for _, facts := range cases {
			if got := due.StateOf(facts, policy).At(facts.NotAfter, now); got != want {
				t.Errorf("%+v is %s, want %s", facts, got, want)
			}
		}
	}
}

// A certificate that was bought for a month on trial, or that lives for days, is not due all
// its life: the reminder comes in its last third, and in time for the signer where that can be.
func TestAShortLifeIsDueInItsLastThird(t *testing.T) {
	policy := due.Policy{Renewal: 30 * 24 * time.Hour, Margin: 7 * 24 * time.Hour, Turnaround: 2 * 24 * time.Hour}
	begun := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for days, turns := range map[int][2]int{365: {335, 356}, 90: {60, 81}, 41: {11, 32}, 31: {21, 22}, 30: {20, 21},
		6: {4, 4}} {
		facts := due.Facts{Read: true, NotBefore: begun, NotAfter: begun.AddDate(0, 0, days)}
		s := due.StateOf(facts, policy)
		for day, want := range map[int]due.Condition{turns[0] - 1: due.Fresh,
			turns[1] - 1: map[bool]due.Condition{true: due.Fresh, false: due.Due}[turns[0] == turns[1]],
			turns[1]:     due.Overdue} {
			if got := s.At(facts.NotAfter, begun.AddDate(0, 0, day).Add(time.Hour)); got != want {
				t.Errorf("of %d days, on day %d it is %s, want %s", days, day, got, want)
			}
		}
	}
}

// A signer that answers within three working days is asked before the weekend.
func TestWorkingDaysAreCountedBack(t *testing.T) {
	monday := time.Date(2026, 6, 8, 12, 0, 0, 0, time.UTC)
	for days, want := range map[int]string{0: "06-08", 1: "06-09", 5: "06-15", -1: "06-05", -3: "06-03", -6: "05-29"} {
		if got := due.WorkingDays(monday, days, nil).Format("01-02"); got != want {
			t.Errorf("%d working days from Monday 8 June is %s, want %s", days, got, want)
		}
	}
	p := due.Policy{Margin: 7 * 24 * time.Hour, WorkingDays: 3}
	if got := due.ActBy(monday.AddDate(0, 0, 7), p); got.Format(time.DateOnly) != "2026-06-03" {
		t.Errorf("act by %s", got)
	}
}

// The list of a fleet names conditions by the moments at which they turn: between
// two of them nothing may change.
func TestAConditionTurnsOnlyWhenItSays(t *testing.T) {
	begun := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for _, p := range []due.Policy{
		{Renewal: 30 * 24 * time.Hour, Margin: 7 * 24 * time.Hour, Turnaround: 2 * 24 * time.Hour},
		{Renewal: 5 * 24 * time.Hour, Margin: 7 * 24 * time.Hour, WorkingDays: 40}, {},
	} {
		for _, facts := range []due.Facts{{}, {Read: true}, {Read: true, SelfSigned: true},
			{Read: true, SHA256: "a", Installed: "b"}} {
			facts.NotAfter = begun.AddDate(0, 0, 45)
			s := due.StateOf(facts, p)
			now, turns := s.At(facts.NotAfter, begun), s.Turns(facts.NotAfter, begun)
			for at := begun; at.Before(begun.AddDate(0, 0, 60)); at = at.Add(time.Hour) {
				is := s.At(facts.NotAfter, at)
				if is != now && (turns.IsZero() || !at.After(turns)) {
					t.Fatalf("%+v under %+v turns from %s to %s by %s, and was to do so at %s", facts, p, now, is, at,
						turns)
				}
				if is.Rank() > now.Rank() {
					t.Fatalf("%+v under %+v gets better by itself: from %s to %s", facts, p, now, is)
				}
				now, turns = is, s.Turns(facts.NotAfter, at)
			}
		}
	}
}

// The device must have its certificate when its site can be reached last, and the signer does not work on
// holidays.
func TestActByCountsWithWindowsAndHolidays(t *testing.T) {
	windows, err := window.ParseAll([]string{"DTSTART:20260601T080000Z RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H"})
	if err != nil {
		t.Fatal(err)
	}
	ends := time.Date(2026, 12, 31, 12, 0, 0, 0, time.UTC) // a Thursday
	off := due.Days{"2026-12-15": true, "2026-12-14": true, "2026-12-12": true}
	for about, c := range map[string]struct {
		policy due.Policy
		want   string
	}{
		"a margin": {due.Policy{Margin: 7 * 24 * time.Hour}, "2026-12-24 12:00"},
		"and windows": {due.Policy{Margin: 7 * 24 * time.Hour, Windows: windows},
			"2026-12-22 08:00"},
		"and a signer": {due.Policy{Margin: 7 * 24 * time.Hour, Windows: windows, WorkingDays: 5},
			"2026-12-15 08:00"},
		"and holidays": {due.Policy{Margin: 7 * 24 * time.Hour, Windows: windows, WorkingDays: 5,
			Holidays: off}, "2026-12-11 08:00"},
		"windows that all come too late": {due.Policy{Margin: 230 * 24 * time.Hour, Windows: windows},
			"2026-05-15 12:00"},
		"a calendar with nothing but off": {due.Policy{WorkingDays: 2, Holidays: every(ends)}, "2024-03-16 12:00"},
	} {
		if got := due.ActBy(ends, c.policy).Format("2006-01-02 15:04"); got != c.want {
			t.Errorf("%s: %s, want %s", about, got, c.want)
		}
	}
	// Where the act-by date comes before the renewal period, there is a notice all the same.
	s := due.StateOf(due.Facts{Read: true, NotAfter: ends},
		due.Policy{Renewal: 24 * time.Hour, Margin: 7 * 24 * time.Hour, Windows: windows, Chosen: true})
	if s.At(ends, s.Overdue.AddDate(0, 0, -1)) != due.Due || s.At(ends, s.Overdue.AddDate(0, 0, -20)) != due.Fresh {
		t.Errorf("%+v", s)
	}
}

// every is a calendar in which nobody ever works.
func every(until time.Time) due.Days {
	out := due.Days{}
	for i := range 5000 {
		out[until.AddDate(0, 0, -i).Format(time.DateOnly)] = true
	}
	return out
}
