package window

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Freeze is a time in which nothing is touched, such as the days around the end of a year.
type Freeze struct {
	From, Until time.Time // Until is excluded
	Why         string
}

// ParseFreeze reads a freeze: two dates, both included, and a reason.
//
//	2026-12-20/2027-01-03 end of the year
//
// A date begins and ends at midnight UTC. Two times as in RFC 3339 may stand in their place; the second is then
// excluded.
func ParseFreeze(text string) (Freeze, error) {
	times, why, _ := strings.Cut(strings.TrimSpace(text), " ")
	from, until, ok := strings.Cut(times, "/")
	if !ok || len(text) > mostText {
		return Freeze{}, fmt.Errorf("%.60q is not FROM/UNTIL with a reason", text)
	}
	f := Freeze{Why: strings.TrimSpace(why)}
	var err error
	if f.From, err = time.Parse(time.DateOnly, from); err == nil {
		if f.Until, err = time.Parse(time.DateOnly, until); err == nil {
			f.Until = f.Until.AddDate(0, 0, 1)
		}
	} else if f.From, err = time.Parse(time.RFC3339, from); err == nil {
		f.Until, err = time.Parse(time.RFC3339, until)
	}
	if err != nil {
		return Freeze{}, fmt.Errorf("%q is not two dates such as 2026-12-20/2027-01-03", times)
	}
	if !f.Until.After(f.From) {
		return Freeze{}, errors.New("it ends before it begins")
	}
	return f, nil
}

// ParseFreezes reads several freezes.
func ParseFreezes(texts []string) ([]Freeze, error) {
	var out []Freeze
	for _, text := range texts {
		f, err := ParseFreeze(text)
		if err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		out = append(out, f)
	}
	return out, nil
}

// Times say when a device may be touched: within a window of each of the sets, in no freeze, and on no day off.
type Times struct {
	Sets    []Windows // a set without windows holds always
	Freezes []Freeze
	Off     func(day string) bool // reports whether nobody works on a date such as 2027-05-17, in UTC; nil: never
}

// ahead is how far Opening looks.
const ahead = 400 * 24 * time.Hour

// mostSteps bounds the search: windows that never meet would be looked at for ever.
const mostSteps = 5000

// Opening returns the first moment from at on at which work of that length fits. It is zero where none is found within
// 400 days. closed says what is in the way at the given moment; it is empty where work may begin at once.
func (t Times) Opening(at time.Time, need time.Duration) (opens time.Time, closed string) {
	for now, n := at, 0; n < mostSteps && now.Sub(at) < ahead; n++ {
		next, why := t.after(now, need)
		if n == 0 {
			closed = why
		}
		if why == "" {
			return now, closed
		}
		if next.IsZero() {
			return time.Time{}, closed
		}
		now = next
	}
	return time.Time{}, closed
}

// after returns what is in the way of work of that length at a moment, and when that has ended; zero: never.
func (t Times) after(now time.Time, need time.Duration) (next time.Time, why string) {
	end := now.Add(need)
	for _, f := range t.Freezes {
		if now.Before(f.Until) && end.After(f.From) {
			return f.Until, strings.TrimSuffix("a freeze until "+f.Until.UTC().Format("2006-01-02 15:04 MST")+": "+
				f.Why, ": ")
		}
	}
	for day := midnight(now); t.Off != nil && day.Before(end); day = day.AddDate(0, 0, 1) {
		if t.Off(day.Format(time.DateOnly)) {
			return day.AddDate(0, 0, 1), "a holiday, " + day.Format(time.DateOnly)
		}
	}
	for _, set := range t.Sets {
		switch {
		case len(set) == 0 || set.Fits(now, need):
		case set.Holds(now):
			return set.Next(now), fmt.Sprintf("the window ends before %s have passed", need.Round(time.Second))
		default:
			return set.Next(now), "no window is open"
		}
	}
	return time.Time{}, ""
}

func midnight(t time.Time) time.Time {
	y, m, d := t.UTC().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

// Fits reports whether work of that length that begins at a moment ends within the same window.
func (w Windows) Fits(at time.Time, need time.Duration) bool {
	for _, each := range w {
		if begun := each.before(at); !begun.IsZero() && !at.Add(need).After(begun.Add(each.length)) {
			return true
		}
	}
	return false
}

// OpenedSince reports whether a window in which a moment lies opened after another moment.
func (t Times) OpenedSince(since, at time.Time) bool {
	for _, set := range t.Sets {
		if len(set) > 0 && set.Holds(at) && set.Last(at).After(since) {
			return true
		}
	}
	return false
}

// OpensAfter returns when work of that length fits next, after the windows that are open at a moment; zero: not
// within 400 days.
func (t Times) OpensAfter(at time.Time, need time.Duration) time.Time {
	var next time.Time
	for _, set := range t.Sets {
		if each := set.Next(at); len(set) > 0 && (next.IsZero() || each.Before(next)) {
			next = each
		}
	}
	if next.IsZero() {
		return next
	}
	opens, _ := t.Opening(next, need)
	return opens
}
