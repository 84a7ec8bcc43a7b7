package calendar_test

import (
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"

	"freshseal/core/calendar"
)

// A feed has an event for each date in its period, and a subject that somebody made up to
// break it stays a text: it adds no line and no event.
func TestAFeedHasWhatMustBeDone(t *testing.T) {
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	entries := []calendar.Entry{
		{Slot: "lines.northholm.tidewrack.example/web", Site: "Northholm", Subject: "lines", ActBy: now.AddDate(0, 0, 11), Expires: now.AddDate(0, 0, 20), LocksOut: true},
		{Slot: "odd.tidewrack.example/web", Site: "Quay; 7, \"north\"", Subject: "a\r\nEND:VEVENT\r\nBEGIN:VEVENT\r\nSUMMARY:taken\\n" + strings.Repeat("long ", 60), ActBy: now.AddDate(0, 0, -400), Expires: now.AddDate(0, 0, 3)},
		{Slot: "far.tidewrack.example/web", ActBy: now.AddDate(3, 0, 0), Expires: now.AddDate(3, 0, 9)},
		{Slot: "dark.tidewrack.example/web"},
	}
	text := calendar.Write("Fresh Seal", entries, now.AddDate(0, -1, 0), now.AddDate(1, 0, 0), now)
	for i, line := range strings.Split(text, "\r\n") {
		if len(line) > 75 || strings.ContainsAny(line, "\r\n") {
			t.Errorf("line %d has %d bytes, more than RFC 5545 allows: %q", i+1, len(line), line)
		}
	}
	read, err := ics.ParseCalendar(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, e := range read.Events() {
		got[e.GetProperty(ics.ComponentPropertySummary).Value] = e.GetProperty(ics.ComponentPropertyDtStart).Value
	}
	want := map[string]string{"Replace certificate: lines.northholm.tidewrack.example/web": "20261208", "Certificate expires: lines.northholm.tidewrack.example/web": "20261217", "Certificate expires: odd.tidewrack.example/web": "20261130"}
	if len(got) != len(want) {
		t.Errorf("the events are %v", got)
	}
	for summary, start := range want {
		if got[summary] != start {
			t.Errorf("%s is on %q", summary, got[summary])
		}
	}
	if again := calendar.Write("Fresh Seal", entries, now.AddDate(0, -1, 0), now.AddDate(1, 0, 0), now.Add(time.Hour)); strings.Count(again, "UID:") != 3 || uids(again) != uids(text) {
		t.Error("an hour later the events have other UIDs")
	}
	if !strings.Contains(strings.ReplaceAll(text, "\r\n ", ""), "nobody can sign in") {
		t.Error("it is not said who is locked out")
	}
}

// uids are the UIDs of a feed, in no order.
func uids(text string) (sum int) {
	for line := range strings.Lines(text) {
		if id, ok := strings.CutPrefix(line, "UID:"); ok {
			for _, b := range []byte(id) {
				sum += int(b)
			}
		}
	}
	return sum
}
