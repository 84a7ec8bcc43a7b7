package work

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/due"
	"freshseal/store"
)

const (
	expiryMonths = 24
	expiryWeeks  = 26
)

// Expiries is when certificates end: by month and condition, and by week and site.
type Expiries struct {
	Months []ExpiryMonth `json:"months" required:"true" description:"this one and the 23 after it; what has ended counts into the month in which it did, or into the first one"`
	Weeks  []time.Time   `json:"weeks" required:"true" description:"the first days of the next 26 weeks"`
	Sites  []ExpirySite  `json:"sites" required:"true" description:"those where a certificate ends in these weeks, or has, the fullest first"`
}

// ExpiryMonth is a month.
type ExpiryMonth struct {
	Month      string                `json:"month" required:"true" description:"2027-03"`
	Ended      bool                  `json:"ended" required:"true" description:"it stands for all that ended before this month"`
	Conditions map[due.Condition]int `json:"conditions" required:"true"`
}

// ExpirySite is a site.
type ExpirySite struct {
	Site  string `json:"site" required:"true"`
	Ended int    `json:"ended" required:"true"`
	Weeks []int  `json:"weeks" required:"true"`
}

// Expiries counts when certificates end.
func (s *Service) Expiries(ctx context.Context) (Expiries, error) {
	now := s.now()
	first := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)
	out := Expiries{Months: []ExpiryMonth{{Month: first.AddDate(0, -1, 0).Format("2006-01"), Ended: true, Conditions: map[due.Condition]int{}}}, Weeks: []time.Time{}, Sites: []ExpirySite{}}
	at := map[string]int{}
	for i := range expiryMonths {
		name := first.AddDate(0, i, 0).Format("2006-01")
		at[name] = len(out.Months)
		out.Months = append(out.Months, ExpiryMonth{Month: name, Conditions: map[due.Condition]int{}})
	}
	months, err := s.store.EndsByMonth(ctx, s.moment(), store.At(first.AddDate(0, expiryMonths, 0)))
	if err != nil {
		return out, err
	}
	for _, m := range months {
		if m.Rank < len(due.Conditions) {
			out.Months[at[m.Month]].Conditions[due.Conditions[m.Rank]] += m.Count
		}
	}
	today := now.Truncate(24 * time.Hour)
	for i := range expiryWeeks {
		out.Weeks = append(out.Weeks, today.AddDate(0, 0, 7*i))
	}
	rows := s.store.EndsByWeek(store.At(today), expiryWeeks)
	sites := map[string]*ExpirySite{}
	for _, r := range rows {
		site := sites[r.Site]
		if site == nil {
			site = &ExpirySite{Site: r.Site, Weeks: make([]int, expiryWeeks)}
			sites[r.Site] = site
		}
		if r.Week < 0 {
			site.Ended += r.Count
		} else {
			site.Weeks[r.Week] += r.Count
		}
	}
	for _, site := range sites {
		out.Sites = append(out.Sites, *site)
	}
	slices.SortFunc(out.Sites, func(a, b ExpirySite) int { return cmp.Or(b.all()-a.all(), strings.Compare(a.Site, b.Site)) })
	return out, nil
}

func (e ExpirySite) all() int {
	n := e.Ended
	for _, w := range e.Weeks {
		n += w
	}
	return n
}
