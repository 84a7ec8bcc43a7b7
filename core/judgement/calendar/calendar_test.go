package calendar_test

import (
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/calendar"

	ics "github.com/arran4/golang-ical"
)

// A feed has an event for each date in its period, and a subject that somebody made up to
// break it stays a text: it adds no line and no event.
func TestAFeedHasWhatMustBeDone(t *testing.T) {
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	entries := []calendar.Entry{
		{Slot: "lines.northholm.tidewrack.example/web", Site: "Northholm", Subject: "lines",
			ActBy: now.AddDate(0, 0, 11), Expires: now.AddDate(0, 0, 20), LocksOut: true},
		{Slot: "odd.tidewrack.example/web", Site: "Quay; 7, \"north\"",
			Subject: "a\r\nEND:VEVENT\r\nBEGIN:VEVENT\r\nSUMMARY:taken\\n" + strings.Repeat("long ", 60),
			ActBy:   now.AddDate(0, 0, -400), Expires: now.AddDate(0, 0, 3)},
		{Slot: "far.tidewrack.example/web", ActBy: now.AddDate(3, 0, 0), Expires: now.AddDate(3, 0, 9)},
		{Slot: "unreachable.tidewrack.example/web"},
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
	want := map[string]string{"Replace certificate: lines.northholm.tidewrack.example/web": "20261208",
		"Certificate expires: lines.northholm.tidewrack.example/web": "20261217", "Certificate expires: " +
			"odd.tidewrack.example/web": "20261130"}
	if len(got) != len(want) {
		t.Errorf("the events are %v", got)
	}
	for summary, start := range want {
		if got[summary] != start {
			t.Errorf("%s is on %q", summary, got[summary])
		}
	}
	if again := calendar.Write("Fresh Seal", entries, now.AddDate(0, -1, 0), now.AddDate(1, 0, 0),
		now.Add(time.Hour)); strings.Count(again, "UID:") != 3 || uids(again) != uids(text) {
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

func holidays(events ...string) string {
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Tidewrack//Quay//EN\r\n" + strings.Join(events, "") +
		"END:VCALENDAR\r\n"
}

func event(lines ...string) string {
	return "BEGIN:VEVENT\r\nUID:a@tidewrack.example\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VEVENT\r\n"
}

func TestHolidaysAreTheAllDayEventsOfACalendar(t *testing.T) {
	from := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	many := event("DTSTART;VALUE=DATE:20200101", "RRULE:FREQ=DAILY", "SUMMARY:never")
	for about, c := range map[string]struct {
		text, want string // days, or a part of the error
	}{
		"one day": {holidays(event("DTSTART;VALUE=DATE:20261225", "DTEND;VALUE=DATE:20261226",
			"SUMMARY:Christmas\\, and more")), "2026-12-25 Christmas, and more"},
		"several days": {holidays(event("DTSTART;VALUE=DATE:20261231", "DTEND;VALUE=DATE:20270103",
			"SUMMARY:quiet")), "2026-12-31 quiet;2027-01-01 quiet;2027-01-02 quiet"},
		"every year": {holidays(event("DTSTART;VALUE=DATE:19700517", "RRULE:FREQ=YEARLY",
			"SUMMARY:Quay Day")), "2027-05-17 Quay Day"},
		"since 1583": {holidays(event("DTSTART;VALUE=DATE:15830517", "RRULE:FREQ=YEARLY", "SUMMARY:Old")),
			"2027-05-17 Old"},
		"an hour, and a day": {holidays(event("DTSTART:20261224T120000Z", "SUMMARY:early"),
			event("DTSTART;VALUE=DATE:20261225", "SUMMARY:late")), "2026-12-25 late"},
		"no name, twice": {holidays(event("DTSTART;VALUE=DATE:20261225"),
			event("DTSTART;VALUE=DATE:20261225", "SUMMARY:again")), "2026-12-25 "},
		"long ago": {holidays(event("DTSTART;VALUE=DATE:20101225", "SUMMARY:x")), ""},
		"begun before": {holidays(event("DTSTART;VALUE=DATE:20261120", "DTEND;VALUE=DATE:20261129",
			"SUMMARY:x")), "2026-11-27 x;2026-11-28 x"},
		"only hours": {holidays(event("DTSTART:20261224T120000Z")), "no all-day event"},
		"each second": {holidays(event("DTSTART;VALUE=DATE:20261224", "RRULE:FREQ=SECONDLY")),
			"more often than daily"},
		"each hour of a day": {holidays(event("DTSTART;VALUE=DATE:20261224", "RRULE:FREQ=DAILY;BYHOUR=1,2")),
			"more often than daily"},
		"a broken rule": {holidays(event("DTSTART;VALUE=DATE:20261224", "RRULE:FREQ=NEVER")),
			"cannot be read"},
		"no calendar": {"<html>", "not an iCalendar file"},
		"too long":    {strings.Repeat("x", calendar.MaxHolidays+1), "more than"},
		"an end before its day": {holidays(event("DTSTART;VALUE=DATE:20261225", "DTEND;VALUE=DATE:20260101",
			"SUMMARY:x")), "2026-12-25 x"},
		"thousands of them": {holidays(strings.Repeat("BEGIN:VEVENT\r\nEND:VEVENT\r\n", 3000)),
			"more than 2000 events"},
		"one that lasts forever": {holidays(event("DTSTART;VALUE=DATE:20261101", "DTEND;VALUE=DATE:99991231",
			"SUMMARY:x")), "x"},
		"every day, many times": {holidays(strings.Repeat(many, 3)), "never"},
	} {
		days, err := calendar.Holidays(c.text, from, from.AddDate(1, 0, 0))
		var got []string
		for _, d := range days {
			got = append(got, d.Date+" "+d.Name)
		}
		switch {
		case err != nil && !strings.Contains(err.Error(), c.want), err == nil && len(got) > 4 &&
			!strings.HasSuffix(got[0], c.want), err == nil && len(got) <= 4 && strings.Join(got, ";") != c.want:
			t.Errorf("%s: %v %v, want %q", about, got, err, c.want)
		}
	}
}

func FuzzHolidays(f *testing.F) {
	f.Add(holidays(event("DTSTART;VALUE=DATE:20261225", "RRULE:FREQ=YEARLY;BYMONTH=12;BYDAY=-1FR", "SUMMARY:x")))
	f.Fuzz(func(t *testing.T, text string) {
		calendar.Holidays(text, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC),
			time.Date(2037, 1, 1, 0, 0, 0, 0, time.UTC))
	})
}
