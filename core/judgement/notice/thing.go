package notice

import (
	"fmt"
	"slices"
	"time"
)

// Thing is something besides the certificate of a slot that expires by itself: a certificate above a leaf, the
// validation of a domain, a token.
type Thing struct {
	Kind   string // intermediate, root, domain, token, calendar
	Name   string
	Of     string // the signer of a validation, the user of a token
	SHA256 string // of a certificate
	Ends   time.Time
	Slots  int // whose path it is on
	Remedy string
}

// Key tells a thing from all others, and from what it was before it was renewed.
func (t Thing) Key() string {
	return fmt.Sprintf("%s/%s/%s/%s/%d", t.Kind, t.SHA256, t.Name, t.Of, t.Ends.Unix())
}

// StageOfThing returns the notice stage of an expiring item under the rule.
func (r Rule) StageOfThing(t Thing, at time.Time) Stage {
	if r.Paused || !r.Expiring {
		return None
	}
	return r.left(t.Ends, at)
}

// Gone returns the notices that close an item which no longer exists, given those already sent. The notice of
// an item that had expired before it vanished is about the expiry, not that all is well.
func (r Rule) Gone(m Matter, t Thing, at time.Time) (Kind, Stage) {
	if expired := r.StageOfThing(t, at); !at.Before(t.Ends) && !slices.Contains(m.Told, expired.Name) {
		kind, _ := r.Next(m, expired, nil, at)
		return kind, expired
	}
	kind, _ := r.Next(m, None, nil, at)
	return kind, None
}

// ItemOfThing returns a notice about a thing.
func ItemOfThing(id, rule string, k Kind, stage Stage, t Thing, reminders int, at time.Time) Item {
	ends := t.Ends.UTC()
	i := Item{ID: id, Kind: k, Rule: rule, What: t.Kind + " " + t.Name, Stage: stage.Name, Condition: "expires",
		Subject: t.SHA256, ExpiresAt: &ends, Next: t.Remedy, Reminders: reminders, At: at.UTC()}
	if t.Of != "" {
		i.What += " of " + t.Of
	}
	i.Why = "it expires on " + ends.Format(time.DateOnly)
	switch {
	case t.Slots == 1:
		i.Why += "; it is on the path of 1 slot"
	case t.Slots > 1:
		i.Why += fmt.Sprintf("; it is on the path of %d slots", t.Slots)
	}
	return i
}
