package report

import (
	"context"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
)

// Figures counts what there is now.
func (s *Service) Figures(ctx context.Context) (contract.Figures, error) {
	now := s.moment()
	out := contract.Figures{Slots: map[contract.SiteCondition]int{}, FirstEnd: map[string]time.Time{},
		Readings: s.monitor.Tally(), At: now.Time}
	for _, row := range s.store.Slots.CountBySite() {
		for _, condition := range due.Conditions { // those that nobody has are 0, and do not vanish
			out.Slots[contract.SiteCondition{Site: row.Site, Condition: condition}] += 0
		}
		out.Slots[contract.SiteCondition{Site: row.Site, Condition: row.Condition}] += row.Count
	}
	for site, end := range s.store.Slots.FirstEnds() {
		out.FirstEnd[site] = end.Time
	}
	var err error
	if out.Replacements, out.WaitingFor, err = s.store.Replacements.Count(ctx); err != nil {
		return out, err
	}
	tasks, err := s.store.Tasks.Open(ctx)
	if err != nil {
		return out, err
	}
	late, err := s.signing.LateParcels(ctx)
	if err != nil {
		return out, err
	}
	out.Tasks, out.LateParcels = len(tasks), len(late)
	if out.PendingPins, err = s.store.Pins.CountUpdates(ctx); err != nil {
		return out, err
	}
	out.DueReadings, err = s.store.Readings.CountDue(ctx, now)
	return out, err
}
