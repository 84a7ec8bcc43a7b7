package fleet

import (
	"cmp"
	"context"

	"freshseal/contract"
	"freshseal/core/judgement/calendar"
	"freshseal/core/next"
	"freshseal/service/problem"
	"freshseal/store"
)

const (
	mostDue  = 1000
	farthest = 3650 // days
)

// Due lists what must be done within some days, at a site or everywhere, most urgent first. Slots that cannot be read
// are not among them: there is nothing to replace before they are. It lists so many of them at most.
func (s *Service) Due(ctx context.Context, within int, site string, most int) (contract.Due, error) {
	if within < 0 || within > farthest {
		return contract.Due{}, problem.Reject("this cannot be listed", "the number of days must be from 0 to 3650",
			"give another one")
	}
	if most < 1 || most > mostDue {
		return contract.Due{}, problem.Reject("this cannot be listed", "the limit must be from 1 to 1000",
			"give another one")
	}
	var locking []string
	for name, p := range s.families.all() {
		if p.Traits.LocksOut {
			locking = append(locking, name)
		}
	}
	rows, total, err := s.store.Slots.Due(ctx, s.moment(), store.At(s.now().AddDate(0, 0, within)), site, locking, most)
	out := contract.Due{Items: make([]contract.DueSlot, 0, len(rows)), Total: total}
	for _, row := range rows {
		slot := s.summary(row.Slot)
		slot.Replaceable = row.Family != ""
		out.Items = append(out.Items, contract.DueSlot{Slot: slot, LocksOut: row.LocksOut})
	}
	return out, err
}

// Calendar is what must be done at a site, or everywhere, as a calendar of the last month and the next
// year: act-by dates and expiries.
func (s *Service) Calendar(ctx context.Context, site string) (string, error) {
	const ahead = 365
	due, err := s.Due(ctx, ahead, site, mostDue)
	if err != nil {
		return "", err
	}
	var entries []calendar.Entry
	for _, slot := range due.Items {
		e := calendar.Entry{Slot: slot.Device + "/" + slot.Name, Site: slot.Site, Subject: slot.Subject,
			LocksOut: slot.LocksOut}
		if slot.ActBy != nil && slot.ExpiresAt != nil {
			e.ActBy, e.Expires = *slot.ActBy, *slot.ExpiresAt
		}
		entries = append(entries, e)
	}
	now := s.now()
	return calendar.Write("Certificates: "+cmp.Or(site, "the whole fleet"), entries, now.AddDate(0, -1, 0),
		now.AddDate(0, 0, ahead), now), nil
}

// KnowsSite refuses a site at which nothing is.
func (s *Service) KnowsSite(ctx context.Context, site string) error {
	n, err := s.store.Slots.CountAt(ctx, site)
	if err == nil && n == 0 {
		err = problem.New(problem.NotFound, "no slot is at "+site, "", "write the site as the devices have it",
			next.ListDevices.On(""))
	}
	return err
}
