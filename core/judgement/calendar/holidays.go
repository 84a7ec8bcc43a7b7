package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/terminal/visible"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

// Holiday is a day on which nobody works.
type Holiday struct {
	Date string `json:"date" required:"true"`
	Name string `json:"name" required:"true"`
}

// Limits of a file of holidays.
const (
	MaxHolidays = 256 << 10 // bytes
	mostEvents  = 2000
	mostDays    = 20_000
	longestStay = 62 // days of one event
)

// Holidays reads the days off in a calendar (RFC 5545) that fall into a period: its all-day events, also those that
// recur. What has a time of day is no day off and is passed over. The days come in their order.
func Holidays(text string, from, until time.Time) (days []Holiday, err error) {
	if len(text) > MaxHolidays {
		return nil, fmt.Errorf("it has more than %d kB", MaxHolidays>>10)
	}
	defer func() { // the library is not ours
		if r := recover(); r != nil {
			days, err = nil, fmt.Errorf("it cannot be read: %v", r)
		}
	}()
	c, err := ics.ParseCalendar(strings.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("it is not an iCalendar file: %s", visible.Line(err.Error()))
	}
	events := c.Events()
	if len(events) > mostEvents {
		return nil, fmt.Errorf("it has more than %d events", mostEvents)
	}
	seen := map[string]bool{}
	whole := 0
	for _, e := range events {
		starts, length, ok, err := occurrences(e, from, until)
		if err != nil {
			return nil, err
		}
		if ok {
			whole++
		}
		name := ""
		if p := e.GetProperty(ics.ComponentPropertySummary); p != nil {
			name = visible.Line(p.Value)
		}
		for _, start := range starts {
			for i := range length {
				date := start.AddDate(0, 0, i)
				if key := date.Format(time.DateOnly); !seen[key] && !date.Before(from) && date.Before(until) {
					seen[key] = true
					days = append(days, Holiday{key, name})
				}
			}
			if len(days) > mostDays {
				return nil, fmt.Errorf("it has more than %d days off", mostDays)
			}
		}
	}
	if whole == 0 {
		return nil, fmt.Errorf("it has no all-day event")
	}
	slices.SortFunc(days, func(a, b Holiday) int { return strings.Compare(a.Date, b.Date) })
	return days, nil
}

// occurrences returns the beginnings of an event around a period, and how many days it lasts; ok says whether it is
// one of whole days.
func occurrences(e *ics.VEvent, from, until time.Time) (starts []time.Time, length int, ok bool, err error) {
	begin, ok := wholeDay(e.GetProperty(ics.ComponentPropertyDtStart))
	if !ok {
		return nil, 0, false, nil
	}
	length = 1
	if end, has := wholeDay(e.GetProperty(ics.ComponentPropertyDtEnd)); has {
		length = max(1, min(longestStay, int(end.Sub(begin).Hours()/24)))
	}
	rule := e.GetProperty(ics.ComponentPropertyRrule)
	if rule == nil {
		return []time.Time{begin}, length, true, nil
	}
	options, err := rrule.StrToROption(rule.Value)
	if err != nil {
		return nil, 0, true, fmt.Errorf("its rule %s cannot be read: %w", visible.Line(rule.Value), err)
	}
	if options.Freq > rrule.DAILY || len(options.Byhour)+len(options.Byminute)+len(options.Bysecond) > 0 {
		return nil, 0, true, fmt.Errorf("its rule %s recurs more often than daily", visible.Line(rule.Value))
	}
	options.Dtstart = begin
	if begin.Year() < from.Year()-100 {
		// a birthday of 1700 need not be counted from then
		options.Dtstart = begin.AddDate(from.Year()-100-begin.Year(), 0, 0)
	}
	r, err := rrule.NewRRule(*options)
	if err != nil {
		return nil, 0, true, fmt.Errorf("its rule %s cannot be read: %w", visible.Line(rule.Value), err)
	}
	return r.Between(from.AddDate(0, 0, -longestStay), until, true), length, true, nil
}

// wholeDay reads a date without a time of day.
func wholeDay(p *ics.IANAProperty) (time.Time, bool) {
	if p == nil {
		return time.Time{}, false
	}
	t, err := time.Parse("20060102", p.Value)
	return t, err == nil && t.Year() >= 1583
}
