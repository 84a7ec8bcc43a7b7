// Package due says where a slot stands and by when somebody must act. It looks
// at facts alone; the clock is passed in.
//
//	reading + what was installed + findings + policy  →  condition, act-by date
package due

import (
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/window"
)

// Condition is where a slot stands.
type Condition string

// The conditions, worst first; a slot has the first that applies.
const (
	Unreachable Condition = "unreachable" // could not be read, or never was
	Expired     Condition = "expired"     // the leaf's notAfter has passed
	Unexpected  Condition = "unexpected"  // serves something else than was installed
	Factory     Condition = "factory"     // serves the delivered, self-signed default
	Flawed      Condition = "flawed"      // has a finding of severity error
	Overdue     Condition = "overdue"     // past its act-by date
	Due         Condition = "due"         // inside the renewal period
	Fresh       Condition = "fresh"       // none of these
)

// Conditions are all conditions, worst first.
var Conditions = []Condition{Unreachable, Expired, Unexpected, Factory, Flawed, Overdue, Due, Fresh}

// Broken are the conditions in which clients fail, or nobody knows whether they do.
var Broken = []Condition{Unreachable, Expired, Unexpected, Factory, Flawed}

// Rank returns the place of a condition, 0 being the worst.
func (c Condition) Rank() int {
	for i, each := range Conditions {
		if each == c {
			return i
		}
	}
	return len(Conditions)
}

// Policy holds the thresholds.
type Policy struct {
	Renewal    time.Duration // how long before notAfter renewal is wanted
	Margin     time.Duration // kept free before notAfter for what goes wrong
	Turnaround time.Duration // the signer's, if nobody knows who that will be

	WorkingDays int // that the signer takes, where it is known

	Holidays Days           // of the site, on which no signer and no colleague answers
	Windows  window.Windows // in which the site can be reached; none: always

	Chosen bool // somebody chose the renewal period: it counts, however short a life is
}

// Facts are what is known of a slot.
type Facts struct {
	Read       bool // the newest reading holds a certificate
	SHA256     string
	NotBefore  time.Time // zero: not known
	NotAfter   time.Time
	SelfSigned bool
	Installed  string // fingerprint of the last replacement's leaf, or empty
	Findings   []finding.Finding
}

// Days are dates, such as 2027-05-17, in UTC.
type Days map[string]bool

// ActBy returns the date by which a replacement must have begun: notAfter less the margin is when the device must have
// its certificate at the latest, or where it can be reached only in windows, the beginning of the last one before; less
// the signer's turnaround.
func ActBy(notAfter time.Time, p Policy) time.Time {
	install := notAfter.Add(-p.Margin)
	if last := p.Windows.Last(install); !last.IsZero() {
		install = last.UTC()
	}
	return WorkingDays(install.Add(-p.Turnaround), -p.WorkingDays, p.Holidays)
}

// WorkingDays counts that many days on, or back where they are fewer than none,
// Saturdays, Sundays and holidays aside.
func WorkingDays(from time.Time, days int, off Days) time.Time {
	step := 1
	if days < 0 {
		step, days = -1, -days
	}
	for most := 10 * (days + 100); days > 0 && most > 0; most-- { // a calendar may say that nobody ever works
		from = from.AddDate(0, 0, step)
		if d := from.Weekday(); d != time.Saturday && d != time.Sunday &&
			(len(off) == 0 || !off[from.UTC().Format(time.DateOnly)]) {
			days--
		}
	}
	return from
}

// State is what a condition follows from: the part that time does not
// change, and the moments at which it does.
type State struct {
	Base    Condition // Unreachable, Unexpected, Factory, Flawed or Fresh
	Overdue time.Time // from then on, see ActBy
	Due     time.Time // from then on
}

// notice is how long a slot is due before it is overdue, where its renewal period begins later.
const notice = 14 * 24 * time.Hour

// StateOf judges a slot as far as that can be done without a clock.
func StateOf(f Facts, p Policy) State {
	s := State{Base: Fresh, Overdue: ActBy(f.NotAfter, p), Due: f.NotAfter.Add(-p.Renewal)}
	if life := f.NotAfter.Sub(f.NotBefore); !p.Chosen && !f.NotBefore.IsZero() && p.Renewal > life/2 {
		// A certificate for a month, or for days, would be due most of its life: its last third counts.
		if s.Due = f.NotAfter.Add(-life / 3); s.Overdue.Before(s.Due) {
			s.Overdue = s.Due
		}
	}
	// a slow signer, or a ship that is seldom in port: there is a notice before it is too late
	if s.Overdue.Before(s.Due) {
		s.Due = s.Overdue.Add(-notice)
	}
	switch {
	case !f.Read:
		return State{Base: Unreachable}
	case f.Installed != "" && f.SHA256 != f.Installed:
		s.Base = Unexpected
	// one that was installed is no default, and flawed
	case f.SelfSigned && (f.Installed == "" || f.SHA256 != f.Installed):
		s.Base = Factory
	case len(finding.Errors(f.Findings)) > 0:
		s.Base = Flawed
	}
	return s
}

// At names the condition of a slot whose leaf ends at notAfter, at that time.
func (s State) At(notAfter, at time.Time) Condition {
	switch {
	case s.Base == Unreachable:
		return Unreachable
	case at.After(notAfter):
		return Expired
	case s.Base != Fresh:
		return s.Base
	case at.After(s.Overdue):
		return Overdue
	case at.After(s.Due):
		return Due
	}
	return Fresh
}

// Turns returns the next moment at which the condition may change by time alone;
// zero where it never will.
func (s State) Turns(notAfter, at time.Time) time.Time {
	var next time.Time
	if s.Base == Unreachable {
		return next
	}
	for _, moment := range []time.Time{notAfter, s.Overdue, s.Due} {
		if !moment.Before(at) && (next.IsZero() || moment.Before(next)) {
			next = moment
		}
	}
	return next
}

// Tells reports whether the step of a slot from one condition to another at a moment is an event: not before its first
// reading, and not where it was read after that moment.
func Tells(was, is Condition, readAt, at time.Time) bool {
	return is != was && !readAt.IsZero() && !readAt.After(at)
}
