package notice

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/terminal/visible"
)

// Matter is what was told of a slot by a rule, since it needs somebody.
type Matter struct {
	Told      []string  `json:"told"` // names of the stages
	Worst     int       `json:"worst"`
	Last      time.Time `json:"last"` // when something was told
	Reminders int       `json:"reminders"`
}

// Kind is what a notice is.
type Kind string

// The kinds.
const (
	Begins   Kind = "notice"
	Reminder Kind = "reminder"
	Over     Kind = "recovery"
	Trial    Kind = "trial"  // only tries a channel
	Head     Kind = "record" // the newest entry of the audit log, to be kept elsewhere
)

// Acknowledged is that somebody knows of a slot, until a day.
type Acknowledged struct {
	Until time.Time
	Worst int // the stage in which it was; what is worse is told all the same
}

// Next returns what is to be told of a slot that is in a stage, and what the matter is after it; empty: nothing, and a
// matter without a stage that was told is over. known is nil if nobody knows of it.
func (r Rule) Next(m Matter, stage Stage, known *Acknowledged, at time.Time) (Kind, Matter) {
	if stage == None {
		if len(m.Told) == 0 {
			return "", Matter{}
		}
		if r.Recovery && !r.Paused {
			return Over, Matter{}
		}
		return "", Matter{}
	}
	quiet := known != nil && at.Before(known.Until) && stage.Rank >= known.Worst
	switch {
	case quiet:
		return "", m
	case !slices.Contains(m.Told, stage.Name):
		m.Told = append(slices.Clone(m.Told), stage.Name)
		m.Last, m.Reminders = at, 0
		if len(m.Told) == 1 || stage.Rank < m.Worst {
			m.Worst = stage.Rank
			return Begins, m
		}
		return "", m // it got better: no news that somebody must act on
	case r.RepeatDays > 0 && !at.Before(m.Last.AddDate(0, 0, r.RepeatDays)):
		m.Last = at
		m.Reminders++
		return Reminder, m
	}
	return "", m
}

// Channels returns those that a notice goes to.
func (r Rule) Channels(k Kind) []string {
	out := slices.Clone(r.To)
	if k == Reminder {
		for _, name := range r.Escalate {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// Item is a notice as it is told.
type Item struct {
	ID        string     `json:"id" required:"true"`
	Kind      Kind       `json:"kind" required:"true" enum:"notice,reminder,recovery,trial,record"`
	Rule      string     `json:"rule" required:"true"`
	Slot      string     `json:"slot" required:"true"`
	What      string     `json:"what,omitempty"`
	Site      string     `json:"site" required:"true"`
	Owner     string     `json:"owner" required:"true"`
	Stage     string     `json:"stage" required:"true"`
	Condition string     `json:"condition" required:"true"`
	Subject   string     `json:"subject" required:"true"`
	ExpiresAt *time.Time `json:"expires_at"`
	ActBy     *time.Time `json:"act_by"`
	Why       string     `json:"why" required:"true"`
	Next      string     `json:"next" required:"true"`
	Reminders int        `json:"reminders" required:"true"`

	Replacement string    `json:"replacement,omitempty"`
	At          time.Time `json:"at" required:"true"`
}

// ItemOf returns a notice about a slot.
func ItemOf(id, rule string, k Kind, stage Stage, s Slot, reminders int, at time.Time) Item {
	i := Item{ID: id, Kind: k, Rule: rule, Slot: s.Device + "/" + s.Name, Site: s.Site, Owner: s.Owner,
		Stage: stage.Name, Condition: string(s.Condition), Subject: s.Subject, Why: s.Why, Next: s.Remedy,
		Reminders: reminders, At: at.UTC()}
	if stage == afterSeal {
		i.Replacement = s.Replacement
	}
	if !s.Expires.IsZero() {
		expires, actBy := s.Expires.UTC(), s.ActBy.UTC()
		i.ExpiresAt = &expires
		if !s.ActBy.IsZero() {
			i.ActBy = &actBy
		}
	}
	return i
}

// About returns the slot, or what else it is about.
func (i Item) About() string {
	if i.What != "" {
		return i.What
	}
	return i.Slot
}

// Headline returns a notice on one line.
func (i Item) Headline() string {
	what := i.Condition
	if (strings.Contains(i.Stage, "day") || i.Stage == "expired") && i.ExpiresAt != nil {
		what = "expires on " + i.ExpiresAt.Format(time.DateOnly)
	}
	if i.Replacement != "" {
		what = "changed after " + i.Replacement + " was sealed: " + i.Condition
	}
	switch i.Kind {
	case Trial:
		return "a message to try this channel"
	case Head:
		return "the newest entry of the audit log is " + visible.Line(i.What)
	case Over:
		what = "no further action needed (" + i.Condition + ")"
	case Reminder:
		what = fmt.Sprintf("reminder %d: %s", i.Reminders, what)
	}
	return visible.Line(i.About() + ": " + what)
}

// Message is what a channel sends in one go.
type Message struct {
	ID      string    `json:"id" required:"true"`
	At      time.Time `json:"at" required:"true"`
	Service string    `json:"service" required:"true"`
	URL     string    `json:"url,omitempty"`
	Items   []Item    `json:"items" required:"true"`
	More    int       `json:"more,omitempty"`
}

// Subject returns a message on one line.
func (m Message) Subject() string {
	if len(m.Items) == 1 && m.More == 0 {
		return m.Items[0].Headline()
	}
	sites := map[string]bool{}
	for _, i := range m.Items {
		sites[i.Site] = true
	}
	out := fmt.Sprintf("%d certificates need attention", len(m.Items)+m.More)
	if len(sites) == 1 && m.Items[0].Site != "" {
		out += " at " + m.Items[0].Site
	}
	return visible.Line(out)
}

// Text returns a message in words.
func (m Message) Text() string {
	var b strings.Builder
	for n, i := range m.Items {
		if n > 0 {
			b.WriteString("\n")
		}
		fmt.Fprintf(&b, "%s\n", i.Headline())
		line := func(what, text string) {
			if text != "" {
				fmt.Fprintf(&b, "  %-9s %s\n", what, visible.Line(text))
			}
		}
		line("site", i.Site)
		line("owner", i.Owner)
		line("serves", i.Subject)
		if i.ExpiresAt != nil {
			line("expires", i.ExpiresAt.Format("2006-01-02 15:04 UTC"))
		}
		if i.ActBy != nil && i.Kind != Over {
			line("act by", i.ActBy.Format(time.DateOnly))
		}
		if i.Kind != Over {
			line("why", i.Why)
			line("next", i.Next)
		}
		if m.URL != "" && i.Kind != Trial && i.Kind != Head {
			page := "/slots/" + i.Slot
			if i.What != "" {
				page = "/ahead"
			}
			line("see", m.URL+page)
		}
	}
	if m.More > 0 {
		fmt.Fprintf(&b, "\nand %d more\n", m.More)
	}
	fmt.Fprintf(&b, "\n%s, %s\n", visible.Line(m.Service), m.At.UTC().Format("2006-01-02 15:04 UTC"))
	return b.String()
}
