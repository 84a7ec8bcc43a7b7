// Package notice says who is told what and when: rules, the stage in which a slot is, and the
// messages that are made of notices. It sends nothing.
//
//	Rule + Slot → Stage → (was that told already?) → Item → Message
//
// One notice is made per slot and stage. What gets better and worse again begins again.
package notice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/naming"
)

// Rule says about which slots somebody is told, when and where.
type Rule struct {
	Conditions []due.Condition `json:"conditions,omitempty"`
	Days       []int           `json:"days,omitempty"`
	Expiring   bool            `json:"expiring,omitempty"`
	Site       string          `json:"site,omitempty"`
	Family     string          `json:"family,omitempty"`
	Owner      string          `json:"owner,omitempty"`
	Tag        string          `json:"tag,omitempty"`
	To         []string        `json:"to" required:"true"`
	Digest     string          `json:"digest,omitempty"`
	Quiet      string          `json:"quiet,omitempty"`
	Zone       string          `json:"zone,omitempty"`
	RepeatDays int             `json:"repeat_days,omitempty"`
	Escalate   []string        `json:"escalate,omitempty"`
	Recovery   bool            `json:"recovery,omitempty"`
	Paused     bool            `json:"paused,omitempty"`
}

// Check returns what is wrong with a rule.
func (r Rule) Check() error {
	if err := r.checkFor(); err != nil {
		return err
	}
	switch {
	case len(r.Conditions)+len(r.Days) == 0:
		return fmt.Errorf("it has neither a condition nor a number of days")
	case r.Expiring && (len(r.Days) == 0 || len(r.Conditions) > 0):
		return fmt.Errorf("a rule with expiring needs days, and takes no conditions")
	case r.Expiring && r.Site+r.Family+r.Owner+r.Tag != "":
		return fmt.Errorf("a rule with expiring takes no site, family, owner or tag")
	case len(r.Days) > 20:
		return fmt.Errorf("it has more than 20 numbers of days")
	case len(r.To) == 0:
		return fmt.Errorf("it has no channel")
	case len(r.To)+len(r.Escalate) > 20:
		return fmt.Errorf("it has more than 20 channels")
	case r.RepeatDays < 0 || r.RepeatDays > 365:
		return fmt.Errorf("%d days between reminders are out of bounds", r.RepeatDays)
	case len(r.Escalate) > 0 && r.RepeatDays == 0:
		return fmt.Errorf("nothing escalates without reminders")
	}
	for _, name := range append(slices.Clone(r.To), r.Escalate...) {
		if !naming.Label(name) {
			return fmt.Errorf("%q is not a channel", name)
		}
	}
	return r.checkTimes()
}

// checkFor returns what is wrong with the conditions and days for which somebody is told.
func (r Rule) checkFor() error {
	for _, c := range r.Conditions {
		if !slices.Contains(due.Conditions, c) || c == due.Fresh {
			return fmt.Errorf("%q is not a condition that somebody is told of", c)
		}
	}
	for _, d := range r.Days {
		if d < 0 || d > 3650 {
			return fmt.Errorf("%d days are out of bounds", d)
		}
	}
	return nil
}

// checkTimes returns what is wrong with its zone, its digest and its quiet hours.
func (r Rule) checkTimes() error {
	if _, err := time.LoadLocation(r.Zone); err != nil || r.Zone == "Local" {
		return fmt.Errorf("no time zone is called %q", r.Zone)
	}
	if r.Digest != "" {
		if _, err := clock(r.Digest); err != nil {
			return err
		}
	}
	if r.Quiet != "" {
		from, until, ok := strings.Cut(r.Quiet, "-")
		a, err := clock(from)
		b, err2 := clock(until)
		if !ok || err != nil || err2 != nil || a == b {
			return fmt.Errorf("%q are not hours such as 22:00-06:00", r.Quiet)
		}
	}
	return nil
}

// clock reads a time of day, in minutes.
func clock(text string) (int, error) {
	h, m, ok := strings.Cut(text, ":")
	hours, err := strconv.Atoi(h)
	minutes, err2 := strconv.Atoi(m)
	if !ok || err != nil || err2 != nil || len(m) != 2 || hours < 0 || hours > 23 || minutes < 0 || minutes > 59 {
		return 0, fmt.Errorf("%q is not a time of day such as 07:30", text)
	}
	return hours*60 + minutes, nil
}

// Slot is what a rule must know of a slot.
type Slot struct {
	Device, Name string
	Site         string
	Family       string
	Owner        string
	Tags         []string
	Condition    due.Condition
	Expires      time.Time // zero: nothing is served
	ActBy        time.Time
	Subject      string
	Why          string // its worst finding, in words
	Remedy       string

	Replacement string // the sealed replacement after which it changed for the worse; empty: none
}

// Stage is how bad it is with a slot by a rule: the rank of a condition, or above all of those the days
// that are left. The lower, the worse.
type Stage struct {
	Rank int
	Name string // "expired", "14 days"
}

// None is the stage of a slot about which nobody is told.
var None = Stage{Rank: 1 << 30}

// daysRank is the rank of no days left; that of n days is so much more.
const daysRank = 100

// StageOf returns in which stage a slot is. Slots that the rule does not mean have none. After the last of the days
// comes a stage of its own: expired.
func (r Rule) StageOf(s Slot, at time.Time) Stage {
	if r.Paused || r.Expiring || r.Site != "" && r.Site != s.Site || r.Family != "" && r.Family != s.Family ||
		r.Owner != "" && r.Owner != s.Owner || r.Tag != "" && !slices.Contains(s.Tags, r.Tag) {
		return None
	}
	if s.Replacement != "" && slices.Contains(due.Broken, s.Condition) &&
		slices.ContainsFunc(r.Conditions, func(c due.Condition) bool { return slices.Contains(due.Broken, c) }) {
		return afterSeal
	}
	if slices.Contains(r.Conditions, s.Condition) {
		return Stage{s.Condition.Rank(), string(s.Condition)}
	}
	if s.Expires.IsZero() {
		return None
	}
	return r.left(s.Expires, at)
}

// afterSeal is the stage of a slot that changed for the worse shortly after a replacement was sealed. Whoever is told
// of any broken slot is notified, whatever the slot became.
var afterSeal = Stage{-1, "changed after the seal"}

// left returns the stage of something that expires, by the days that are left.
func (r Rule) left(expires, at time.Time) Stage {
	if len(r.Days) > 0 && !at.Before(expires) {
		return Stage{daysRank - 1, "expired"}
	}
	best := None
	for _, d := range r.Days {
		if stage := (Stage{daysRank + d, days(d)}); !at.Before(expires.AddDate(0, 0, -d)) && stage.Rank < best.Rank {
			best = stage
		}
	}
	return best
}

func days(n int) string {
	if n == 1 {
		return "1 day"
	}
	return strconv.Itoa(n) + " days"
}

// Due returns when a notice that is made at a moment is sent: with the next digest, and not in quiet
// hours.
func (r Rule) Due(at time.Time) time.Time {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		zone = time.UTC
	}
	at = at.In(zone)
	if r.Digest != "" {
		if minutes, err := clock(r.Digest); err == nil {
			at = next(at, minutes)
		}
	}
	if from, until, ok := strings.Cut(r.Quiet, "-"); ok {
		a, _ := clock(from)
		b, _ := clock(until)
		now := at.Hour()*60 + at.Minute()
		if a < b && now >= a && now < b || a > b && (now >= a || now < b) {
			at = next(at, b)
		}
	}
	return at.UTC()
}

// next returns the next moment at a time of day, that at the moment itself included.
func next(at time.Time, minutes int) time.Time {
	day := time.Date(at.Year(), at.Month(), at.Day(), minutes/60, minutes%60, 0, 0, at.Location())
	if day.Before(at) {
		day = time.Date(at.Year(), at.Month(), at.Day()+1, minutes/60, minutes%60, 0, 0, at.Location())
	}
	return day
}
