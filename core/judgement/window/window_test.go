package window_test

import (
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/window"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	out, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// A ship is in port on Tuesdays from eight to six, by the clock of the port: also after the clocks
// went back.
func TestAWindowFollowsTheClockOfItsZone(t *testing.T) {
	w, err := window.Parse("DTSTART;TZID=Europe/Oslo:20261006T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H")
	if err != nil {
		t.Fatal(err)
	}
	for moment, want := range map[string]bool{
		// CEST
		"2026-10-06T05:59:59Z": false, "2026-10-06T06:00:00Z": true, "2026-10-06T15:59:59Z": true,
		"2026-10-06T16:00:00Z": false,
		"2026-10-27T06:30:00Z": false, "2026-10-27T07:00:00Z": true, "2026-10-27T16:30:00Z": true, // CET
		"2026-10-07T10:00:00Z": false, "2026-09-29T10:00:00Z": false,
	} {
		if got := w.Holds(at(t, moment)); got != want {
			t.Errorf("%s: %v", moment, got)
		}
	}
	if next := w.Next(at(t, "2026-10-06T06:00:00Z")); !next.Equal(at(t, "2026-10-13T06:00:00Z")) {
		t.Errorf("next is %s", next)
	}
}

func TestAWindowThatIsThereOnce(t *testing.T) {
	w, err := window.Parse("DTSTART:20261201T220000Z\nDURATION:P1DT2H")
	if err != nil {
		t.Fatal(err)
	}
	if !w.Holds(at(t, "2026-12-02T23:59:00Z")) || w.Holds(at(t, "2026-12-03T00:00:00Z")) ||
		w.Holds(at(t, "2026-12-01T21:59:00Z")) {
		t.Error("it does not last a day and two hours")
	}
	if !w.Next(at(t, "2026-12-02T00:00:00Z")).IsZero() {
		t.Error("it comes again")
	}
	all, err := window.ParseAll([]string{w.String(), "DTSTART:20270101T000000Z RRULE:FREQ=YEARLY DURATION:PT1H"})
	if err != nil || !all.Next(at(t, "2026-11-01T00:00:00Z")).Equal(at(t, "2026-12-01T22:00:00Z")) ||
		!all.Next(at(t, "2026-12-05T00:00:00Z")).Equal(at(t, "2027-01-01T00:00:00Z")) ||
		all.Holds(at(t, "2026-12-05T00:00:00Z")) {
		t.Errorf("several: %v", err)
	}
}

func TestWhatIsNoWindow(t *testing.T) {
	for text, says := range map[string]string{
		"":                        "no DTSTART",
		"DTSTART:20261201T080000": "DURATION",
		"DTSTART:tomorrow":        "not a start",
		"DTSTART;TZID=Atlantis/Quay:20261201T080000 DURATION:PT1H":          "time zone",
		"DTSTART;TZID=Local:20261201T080000 DURATION:PT1H":                  "time zone",
		"DTSTART;VALUE=DATE:20261201 DURATION:PT1H":                         "TZID",
		"DTSTART:20261201T080000 DURATION:PT1H RRULE:FREQ=MINUTELY":         "daily, weekly",
		"DTSTART:20261201T080000 DURATION:PT1H RRULE:FREQ=DAILY;BYHOUR=1,2": "daily, weekly",
		"DTSTART:20261201T080000 DURATION:PT1H RRULE:FREQ=SOMETIMES":        "cannot be read",
		"DTSTART:20261201T080000 DURATION:P400D":                            "31 days",
		"DTSTART:20261201T080000 DURATION:PT0H":                             "a minute",
		"SUMMARY:x":                                                         "no property SUMMARY",
		"harbour":                                                           "not a property",
		strings.Repeat("RRULE:FREQ=DAILY ", 100):                            "characters",
	} {
		if _, err := window.Parse(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// Whoever sets a site may write anything: reading it ends.
func FuzzParse(f *testing.F) {
	f.Add("DTSTART;TZID=Europe/Oslo:20261006T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H")
	f.Add("DTSTART:20260229T080000 RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30;INTERVAL=999 DURATION:PT10H")
	f.Fuzz(func(t *testing.T, text string) {
		if w, err := window.Parse(text); err == nil {
			moment := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
			w.Holds(moment)
			if next := w.Next(moment); !next.IsZero() && !next.After(moment) {
				t.Errorf("next is %s", next)
			}
		}
	})
}
