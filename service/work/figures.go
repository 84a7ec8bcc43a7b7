package work

import (
	"context"
	"time"

	"freshseal/core/due"
	"freshseal/core/replacement"
	"freshseal/service/watch"
)

// Figures are what a monitoring system is told.
type Figures struct {
	Slots        map[SiteCondition]int
	FirstEnd     map[string]time.Time // by site
	Replacements map[replacement.State]int
	WaitingFor   map[replacement.WaitingFor]int
	Tasks        int // open
	ToTell       int
	LateParcels  int
	DueReadings  int // slots whose reading is due
	Readings     watch.Tally
	At           time.Time
}

// SiteCondition is a site with one of the conditions.
type SiteCondition struct {
	Site      string
	Condition due.Condition
}

// Figures counts what there is now.
func (s *Service) Figures(ctx context.Context) (Figures, error) {
	now := s.moment()
	out := Figures{Slots: map[SiteCondition]int{}, FirstEnd: map[string]time.Time{}, Readings: s.watch.Tally(), At: now.Time}
	slots, err := s.store.CountBySite(ctx, now)
	if err != nil {
		return out, err
	}
	for _, row := range slots {
		for _, condition := range due.Conditions { // those that nobody has are 0, and do not vanish
			out.Slots[SiteCondition{row.Site, condition}] += 0
		}
		if row.Rank < len(due.Conditions) {
			out.Slots[SiteCondition{row.Site, due.Conditions[row.Rank]}] += row.Count
		}
	}
	for site, end := range s.store.FirstEnds() {
		out.FirstEnd[site] = end.Time
	}
	if out.Replacements, out.WaitingFor, err = s.store.CountReplacements(ctx); err != nil {
		return out, err
	}
	tasks, err := s.store.OpenTasks(ctx)
	if err != nil {
		return out, err
	}
	late, err := s.desk.LateParcels(ctx)
	if err != nil {
		return out, err
	}
	out.Tasks, out.LateParcels = len(tasks), len(late)
	if out.ToTell, err = s.store.CountTellings(ctx); err != nil {
		return out, err
	}
	out.DueReadings, err = s.store.CountDue(ctx, now)
	return out, err
}
