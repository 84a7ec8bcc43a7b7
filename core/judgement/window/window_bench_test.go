package window_test

import (
	"testing"
	"time"

	"freshseal/core/judgement/window"
)

// BenchmarkOpening finds when work fits into a weekly window, outside of freezes and the times of a site, and
// compares it with asking the rule of the window alone for its next beginning.
func BenchmarkOpening(b *testing.B) {
	weekly, err := window.ParseAll([]string{"DTSTART;TZID=Europe/Oslo:20260106T220000 " +
		"RRULE:FREQ=WEEKLY;BYDAY=TU,TH DURATION:PT4H"})
	if err != nil {
		b.Fatal(err)
	}
	daily, err := window.ParseAll([]string{"DTSTART:20260101T060000Z RRULE:FREQ=DAILY DURATION:PT20H"})
	if err != nil {
		b.Fatal(err)
	}
	freezes, err := window.ParseFreezes([]string{"2026-12-20/2027-01-03 end of the year"})
	if err != nil {
		b.Fatal(err)
	}
	times := window.Times{Sets: []window.Windows{weekly, daily}, Freezes: freezes}
	from := time.Date(2026, 12, 16, 12, 0, 0, 0, time.UTC)
	begun := time.Now()
	const bare = 200
	for range bare {
		weekly.Next(from)
	}
	limit := time.Since(begun) / bare
	for b.Loop() {
		if opens, _ := times.Opening(from, time.Hour); opens.IsZero() {
			b.Fatal("it never opens")
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(limit), "x-next")
}
