// Package window reads when something may happen, or when somebody is there: a start, a
// rule by which it recurs and a duration, as calendars write them (RFC 5545, 3.8).
//
//	DTSTART;TZID=Europe/Oslo:20261201T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H
package window

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // a minimal system has no time zones of its own

	"github.com/teambition/rrule-go"
)

// Window is a time that recurs. Its text is what it was parsed from.
type Window struct {
	text   string
	rule   *rrule.RRule // nil: once
	start  time.Time
	length time.Duration
}

// Bounds of a window.
const (
	longest  = 31 * 24 * time.Hour
	mostText = 500
)

var lengthText = regexp.MustCompile(`^P(?:(\d{1,3})W)?(?:(\d{1,3})D)?(?:T(?:(\d{1,4})H)?(?:(\d{1,5})M)?)?$`)

// Parse reads a window: DTSTART, DURATION and, where it recurs, RRULE, separated by blanks or
// line ends. A start without a zone is in UTC. Rules that recur more often than daily are refused.
func Parse(text string) (Window, error) {
	w := Window{text: strings.Join(strings.Fields(text), " ")}
	if len(text) > mostText {
		return w, fmt.Errorf("it has more than %d characters", mostText)
	}
	rule := ""
	for _, property := range strings.Fields(text) {
		name, value, ok := strings.Cut(property, ":")
		if !ok {
			return w, fmt.Errorf("%q is not a property with a value", property)
		}
		name, parameters, _ := strings.Cut(strings.ToUpper(name), ";")
		var err error
		switch name {
		case "DTSTART":
			w.start, err = start(property[len("DTSTART"):strings.LastIndex(property, ":")], value)
		case "DURATION":
			w.length, err = length(value)
		case "RRULE":
			rule = value
		default:
			err = fmt.Errorf("it has no property %s", name)
		}
		if err == nil && parameters != "" && name != "DTSTART" {
			err = fmt.Errorf("%s takes no parameters", name)
		}
		if err != nil {
			return w, err
		}
	}
	switch {
	case w.start.IsZero():
		return w, errors.New("it has no DTSTART")
	case w.length <= 0 || w.length > longest:
		return w, errors.New("its DURATION must be from a minute to 31 days")
	case rule == "":
		return w, nil
	}
	var err error
	w.rule, err = recurrence(rule, w.start)
	return w, err
}

// recurrence reads an RRULE. The time of day is that of its start.
func recurrence(rule string, start time.Time) (*rrule.RRule, error) {
	options, err := rrule.StrToROption(rule)
	if err != nil {
		return nil, fmt.Errorf("its RRULE cannot be read: %w", err)
	}
	if options.Freq > rrule.DAILY || len(options.Byhour) > 0 || len(options.Byminute) > 0 || len(options.Bysecond) > 0 {
		return nil, errors.New("its RRULE must recur daily, weekly, monthly or yearly; the time of day is that " +
			"of DTSTART")
	}
	options.Dtstart = start
	out, err := rrule.NewRRule(*options)
	if err != nil {
		return nil, fmt.Errorf("its RRULE cannot be read: %w", err)
	}
	return out, nil
}

func start(parameters, value string) (time.Time, error) {
	zone := time.UTC
	if name, ok := strings.CutPrefix(strings.TrimPrefix(parameters, ";"), "TZID="); ok {
		var err error
		if zone, err = time.LoadLocation(name); err != nil || name == "" || name == "Local" {
			return time.Time{}, fmt.Errorf("no time zone is called %q", name)
		}
	} else if parameters != "" {
		return time.Time{}, errors.New("DTSTART takes no parameter but TZID")
	}
	t, err := time.ParseInLocation("20060102T150405", strings.TrimSuffix(value, "Z"), zone)
	if err != nil || t.Year() < 1970 || t.Year() > 2200 {
		return time.Time{}, fmt.Errorf("%q is not a start such as 20261201T080000", value)
	}
	return t, nil
}

func length(value string) (time.Duration, error) {
	found := lengthText.FindStringSubmatch(value)
	if found == nil {
		return 0, fmt.Errorf("%q is not a duration such as PT10H", value)
	}
	var out time.Duration
	for i, unit := range []time.Duration{7 * 24 * time.Hour, 24 * time.Hour, time.Hour, time.Minute} {
		n, _ := strconv.Atoi("0" + found[i+1])
		out += time.Duration(n) * unit
	}
	return out, nil
}

func (w Window) String() string { return w.text }

// Holds reports whether a moment is within the window, its end excluded.
func (w Window) Holds(at time.Time) bool {
	begun := w.before(at)
	return !begun.IsZero() && at.Before(begun.Add(w.length))
}

// before returns the last beginning that is not after a moment; zero: there is none.
func (w Window) before(at time.Time) time.Time {
	if w.rule == nil {
		if w.start.After(at) {
			return time.Time{}
		}
		return w.start
	}
	return w.rule.Before(at.In(w.start.Location()), true)
}

// Next returns the first beginning after a moment; zero: there is none.
func (w Window) Next(at time.Time) time.Time {
	if w.rule == nil {
		if w.start.After(at) {
			return w.start
		}
		return time.Time{}
	}
	return w.rule.After(at.In(w.start.Location()), false)
}

// Windows are several; a moment is within them when it is within one.
type Windows []Window

// ParseAll reads several windows.
func ParseAll(texts []string) (Windows, error) {
	var out Windows
	for _, text := range texts {
		w, err := Parse(text)
		if err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		out = append(out, w)
	}
	return out, nil
}

// Holds reports whether a moment is within one of them.
func (w Windows) Holds(at time.Time) bool {
	for _, each := range w {
		if each.Holds(at) {
			return true
		}
	}
	return false
}

// Next returns the first beginning after a moment; zero: there is none.
func (w Windows) Next(at time.Time) time.Time {
	var first time.Time
	for _, each := range w {
		if next := each.Next(at); !next.IsZero() && (first.IsZero() || next.Before(first)) {
			first = next
		}
	}
	return first
}

// Last returns the last beginning that is not after a moment; zero: there is none.
func (w Windows) Last(at time.Time) time.Time {
	var last time.Time
	for _, each := range w {
		if begun := each.before(at); begun.After(last) {
			last = begun
		}
	}
	return last
}
