package report

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/store"
)

const (
	expiryMonths = 24
	expiryWeeks  = 26
)

// Expiries counts when certificates end.
func (s *Service) Expiries(ctx context.Context) (contract.Expiries, error) {
	now := s.now()
	first := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)
	out := contract.Expiries{Months: []contract.ExpiryMonth{{Month: first.AddDate(0, -1, 0).Format("2006-01"),
		Ended: true, Conditions: map[due.Condition]int{}}}, Weeks: []time.Time{}, Sites: []contract.ExpirySite{}}
	at := map[string]int{}
	for i := range expiryMonths {
		name := first.AddDate(0, i, 0).Format("2006-01")
		at[name] = len(out.Months)
		out.Months = append(out.Months, contract.ExpiryMonth{Month: name, Conditions: map[due.Condition]int{}})
	}
	for _, m := range s.store.Reports.EndsByMonth(store.At(first.AddDate(0, expiryMonths, 0))) {
		out.Months[at[m.Month]].Conditions[m.Condition] += m.Count
	}
	today := now.Truncate(24 * time.Hour)
	for i := range expiryWeeks {
		out.Weeks = append(out.Weeks, today.AddDate(0, 0, 7*i))
	}
	rows := s.store.Reports.EndsByWeek(store.At(today), expiryWeeks)
	sites := map[string]*contract.ExpirySite{}
	for _, r := range rows {
		site := sites[r.Site]
		if site == nil {
			site = &contract.ExpirySite{Site: r.Site, Weeks: make([]int, expiryWeeks)}
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
	slices.SortFunc(out.Sites, func(a, b contract.ExpirySite) int {
		return cmp.Or(allOf(b)-allOf(a), strings.Compare(a.Site, b.Site))
	})
	return out, nil
}

func allOf(e contract.ExpirySite) int {
	n := e.Ended
	for _, w := range e.Weeks {
		n += w
	}
	return n
}
