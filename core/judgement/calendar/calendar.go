// Package calendar writes what must be done by when as a calendar (RFC 5545), for any program
// that reads feeds.
//
//	entries  →  Write  →  text/calendar
package calendar

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"freshseal/core/terminal/visible"

	ics "github.com/arran4/golang-ical"
)

// Entry is one slot.
type Entry struct {
	Slot     string    // DEVICE/SLOT
	Site     string    // where it is
	Subject  string    // of what it serves
	ActBy    time.Time // a replacement must have begun by then; zero: not known
	Expires  time.Time // zero: not known
	LocksOut bool      // nobody can sign in once it has expired
}

// Write writes the all-day events of the entries within a period, in UTC: one for the act-by
// date and one for the expiry of each. An event keeps its UID while the certificate is the same, so
// that programs do not show it twice. name is what the calendar is called; now is the moment
// at which it was made.
func Write(name string, entries []Entry, from, until, now time.Time) string {
	c := ics.NewCalendarFor("Fresh Seal")
	c.SetMethod(ics.MethodPublish)
	c.SetName(name)
	c.SetRefreshInterval("PT6H")
	for _, e := range entries {
		e.Subject, e.Site = visible.Line(e.Subject), visible.Line(e.Site) // the library leaves a bare CR as it is
		for kind, at := range map[string]time.Time{"act-by": e.ActBy, "expiry": e.Expires} {
			if at.IsZero() || at.Before(from) || at.After(until) {
				continue
			}
			sum := sha256.Sum256([]byte(kind + "\x00" + e.Slot + "\x00" + at.UTC().Format(time.DateOnly)))
			event := c.AddEvent(hex.EncodeToString(sum[:16]) + "@fresh-seal")
			event.SetDtStampTime(now)
			event.SetAllDayStartAt(at.UTC())
			event.SetAllDayEndAt(at.UTC().AddDate(0, 0, 1))
			event.SetTimeTransparency(ics.TransparencyTransparent)
			if event.SetLocation(e.Site); kind == "expiry" {
				event.SetSummary("Certificate expires: " + e.Slot)
				event.SetDescription(fmt.Sprintf("“%s” expires at %s UTC.", e.Subject, at.UTC().Format("15:04")))
				continue
			}
			event.SetSummary("Replace certificate: " + e.Slot)
			text := fmt.Sprintf("Begin the replacement of “%s” today at the latest. It expires on %s.", e.Subject,
				e.Expires.UTC().Format(time.DateOnly))
			if e.LocksOut {
				text += " Once it has expired, nobody can sign in to the device."
			}
			event.SetDescription(text)
		}
	}
	return c.Serialize(ics.WithNewLineWindows)
}
