package window_test

import (
	"testing"
	"time"

	"freshseal/core/judgement/window"
)

// Work begins within a window that is long enough for it, in no freeze and on no holiday; over the change to summer
// time as well.
func TestWorkBeginsWhereItFits(t *testing.T) {
	nightly := "DTSTART;TZID=Europe/Oslo:20260105T220000 RRULE:FREQ=WEEKLY;BYDAY=TU,TH DURATION:PT4H"
	port := "DTSTART:20260106T200000Z RRULE:FREQ=WEEKLY;INTERVAL=2 DURATION:PT24H"
	for _, c := range []struct {
		name, now   string
		need        time.Duration
		sets        [][]string
		freezes     []string
		off         []string
		want, means string
	}{
		{"no rules", "2026-12-01T12:00:00Z", time.Hour, nil, nil, nil, "2026-12-01T12:00:00Z", ""},
		{"within", "2026-12-01T21:30:00Z", time.Hour, [][]string{{nightly}}, nil, nil, "2026-12-01T21:30:00Z", ""},
		{"to the very end", "2026-12-02T00:00:00Z", time.Hour, [][]string{{nightly}}, nil, nil,
			"2026-12-02T00:00:00Z", ""},
		{"too late in the night", "2026-12-02T00:00:01Z", time.Hour, [][]string{{nightly}}, nil, nil,
			"2026-12-03T21:00:00Z", "the window ends before 1h0m0s have passed"},
		{"winter", "2026-12-01T12:00:00Z", time.Hour, [][]string{{nightly}}, nil, nil, "2026-12-01T21:00:00Z",
			"no window is open"},
		{"summer", "2026-07-01T12:00:00Z", time.Hour, [][]string{{nightly}}, nil, nil, "2026-07-02T20:00:00Z",
			"no window is open"},
		{"the week of the change", "2026-03-27T12:00:00Z", time.Hour, [][]string{{nightly}}, nil, nil,
			"2026-03-31T20:00:00Z", "no window is open"},
		{"longer than every window", "2026-12-01T12:00:00Z", 5 * time.Hour, [][]string{{nightly}}, nil, nil, "",
			"no window is open"},
		{"both of two sets", "2026-12-01T12:00:00Z", time.Hour, [][]string{{nightly}, {port}}, nil, nil,
			"2026-12-08T21:00:00Z", "no window is open"},
		{"sets that never meet", "2026-12-01T12:00:00Z", time.Hour,
			[][]string{{nightly}, {"DTSTART:20260104T080000Z RRULE:FREQ=WEEKLY DURATION:PT2H"}}, nil, nil, "",
			"no window is open"},
		{"a freeze", "2026-12-21T12:00:00Z", time.Hour, [][]string{{nightly}},
			[]string{"2026-12-20/2027-01-03 end of the year"}, nil, "2027-01-05T21:00:00Z",
			"a freeze until 2027-01-04 00:00 UTC: end of the year"},
		{"a freeze that begins meanwhile", "2026-12-19T23:30:00Z", time.Hour, nil, []string{"2026-12-20/2026-12-20"},
			nil, "2026-12-21T00:00:00Z", "a freeze until 2026-12-21 00:00 UTC"},
		{"a holiday", "2027-05-17T08:00:00Z", time.Hour, nil, nil, []string{"2027-05-17", "2027-05-18"},
			"2027-05-19T00:00:00Z", "a holiday, 2027-05-17"},
		{"over midnight into a holiday", "2027-05-16T23:30:00Z", time.Hour, nil, nil, []string{"2027-05-17"},
			"2027-05-18T00:00:00Z", "a holiday, 2027-05-17"},
		{"a window of the past", "2026-12-01T12:00:00Z", time.Hour,
			[][]string{{"DTSTART:20250101T000000Z DURATION:PT2H"}}, nil, nil, "", "no window is open"},
	} {
		times := window.Times{Off: func(day string) bool {
			for _, each := range c.off {
				if each == day {
					return true
				}
			}
			return false
		}}
		for _, texts := range c.sets {
			set, err := window.ParseAll(texts)
			if err != nil {
				t.Fatal(err)
			}
			times.Sets = append(times.Sets, set)
		}
		var err error
		if times.Freezes, err = window.ParseFreezes(c.freezes); err != nil {
			t.Fatal(err)
		}
		opens, closed := times.Opening(at(t, c.now), c.need)
		got := ""
		if !opens.IsZero() {
			got = opens.UTC().Format(time.RFC3339)
		}
		if got != c.want || closed != c.means {
			t.Errorf("%s: opens %s (%q), want %s (%q)", c.name, got, closed, c.want, c.means)
		}
	}
}

// Each night of a year, a night shift in Oslo is open for four hours, also when the clocks change.
func TestANightlyWindowHoldsForAYear(t *testing.T) {
	set, err := window.ParseAll([]string{"DTSTART;TZID=Europe/Oslo:20260101T000000 RRULE:FREQ=DAILY DURATION:PT4H"})
	if err != nil {
		t.Fatal(err)
	}
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	times := window.Times{Sets: []window.Windows{set}}
	for day := range 365 {
		noon := time.Date(2026, 1, 1+day, 12, 0, 0, 0, oslo)
		opens, _ := times.Opening(noon, 4*time.Hour)
		if want := time.Date(2026, 1, 2+day, 0, 0, 0, 0, oslo); !opens.Equal(want) {
			t.Fatalf("after %s it opens %s", noon, opens)
		}
		if later, _ := times.Opening(opens.Add(time.Second), 4*time.Hour); !later.After(opens.Add(20 * time.Hour)) {
			t.Fatalf("four hours do not fit at %s", later)
		}
	}
}

func TestAFreezeThatCannotBeReadIsRefused(t *testing.T) {
	for _, text := range []string{"", "2026-12-20", "2026-12-20/", "2026-12-20/2026-12-19 backwards",
		"2026-12-20/2026-12-21T00:00:00Z mixed", "20261220/20261221"} {
		if f, err := window.ParseFreeze(text); err == nil {
			t.Errorf("%q is %v", text, f)
		}
	}
}
