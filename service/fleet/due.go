package fleet

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/calendar"
	"freshseal/core/next"
	"freshseal/service/problem"
	"freshseal/store"
)

const (
	mostDue = 1000
	// of a calendar: programs that take it in refuse larger ones
	mostEntries = 10_000
	farthest    = 3650 // days
)

// Due lists at most a given number of slots that must be acted on within some days, at a site or everywhere, most
// urgent first. Unreachable slots are left out: they cannot be replaced before they can be read.
func (s *Lists) Due(ctx context.Context, within int, site string, most int) (contract.Due, error) {
	if within < 0 || within > farthest {
		return contract.Due{}, problem.Reject("this cannot be listed", "the number of days must be from 0 to 3650",
			"give another one")
	}
	if most < 1 || most > mostDue {
		return contract.Due{}, problem.Reject("this cannot be listed", "the limit must be from 1 to 1000",
			"give another one")
	}
	rows, total, err := s.store.Slots.Due(ctx, store.At(s.now().AddDate(0, 0, within)), site, s.lockingOut(), most)
	return contract.Due{Items: s.dueSlots(rows), Total: total}, err
}

// lockingOut returns the families of devices that refuse every sign-in once their certificate has expired.
func (s *Lists) lockingOut() (names []string) {
	for name, p := range s.families.all() {
		if p.Traits.LocksOut {
			names = append(names, name)
		}
	}
	return names
}

func (s *Lists) dueSlots(rows []store.DueRow) []contract.DueSlot {
	out := make([]contract.DueSlot, 0, len(rows))
	for _, row := range rows {
		slot := s.summary(row.Slot)
		slot.Replaceable = row.Family != ""
		out = append(out, contract.DueSlot{Slot: slot, LocksOut: row.LocksOut})
	}
	return out
}

// mostUrgent is how many slots of each part are shown.
const mostUrgent = 8

// Urgent lists the slots that people must look at, part by part: the count, and the first of each.
func (s *Lists) Urgent(ctx context.Context) (contract.Urgent, error) {
	found, err := s.store.Slots.Urgent(ctx, s.moment(), s.lockingOut(), mostUrgent)
	part := func(p store.Part) contract.Part { return contract.Part{Items: s.dueSlots(p.First), Total: p.Total} }
	return contract.Urgent{Breaking: part(found.Breaking), Start: part(found.Start), Faulty: part(found.Faulty),
		Unreachable: part(found.Unreachable), NotRead: found.NotRead}, err
}

// mostOfDay is how many entries of a day are shown.
const mostOfDay = 4

// Days lists the days of a month, such as 2027-03, on which something is due.
func (s *Lists) Days(ctx context.Context, month string) ([]contract.DueDay, error) {
	first, err := time.Parse("2006-01", month)
	if err != nil {
		return nil, problem.Reject("this month cannot be shown", fmt.Sprintf("%q is not a month", month),
			"write it as 2027-03")
	}
	// the weeks that the month begins and ends in are shown whole
	from, until := first.AddDate(0, 0, -6), first.AddDate(0, 1, 6)
	dates, slots, err := s.store.Slots.Dates(ctx, store.At(from), store.At(until), "", s.lockingOut(), mostOfDay)
	out := make([]contract.DueDay, 0, len(dates))
	for _, d := range dates {
		day := contract.DueDay{Day: time.UnixMilli(d.Day).UTC().Format(time.DateOnly), Total: d.Total,
			Entries: []contract.DueDate{}}
		for _, e := range d.Entries {
			if slot, has := slots[e.ID]; has && slot.ID != 0 { // removed at this moment
				day.Entries = append(day.Entries, contract.DueDate{Device: slot.Device, Slot: slot.Name,
					Expires:  e.Expires,
					LocksOut: e.LocksOut})
			}
		}
		out = append(out, day)
	}
	return out, err
}

// Calendar returns what must be done at a site, or everywhere, as a calendar of the last month and the next
// year: act-by dates and expiries.
func (s *Lists) Calendar(ctx context.Context, site string) (string, error) {
	const ahead = 365
	now := s.now()
	from := now.UTC().Truncate(24*time.Hour).AddDate(0, -1, 0)
	dates, slots, err := s.store.Slots.Dates(ctx, store.At(from), store.At(from.AddDate(0, 1, ahead+1)), site,
		s.lockingOut(), mostDue)
	if err != nil {
		return "", err
	}
	var entries []calendar.Entry
	for _, d := range dates { // the soonest first
		for _, one := range d.Entries {
			row, has := slots[one.ID]
			if !has || row.ID == 0 || len(entries) == mostEntries {
				continue
			}
			delete(slots, one.ID) // an entry has both dates
			entries = append(entries, calendar.Entry{Slot: row.Device + "/" + row.Name, Site: row.Site,
				Subject: row.Subject, LocksOut: one.LocksOut, ActBy: row.OverdueFrom.Time, Expires: row.NotAfter.Time})
		}
	}
	return calendar.Write("Certificates: "+cmp.Or(site, "the whole fleet"), entries, now.AddDate(0, -1, 0),
		now.AddDate(0, 0, ahead), now), nil
}

// KnowsSite refuses a site at which nothing is.
func (s *Lists) KnowsSite(ctx context.Context, site string) error {
	n, err := s.store.Slots.CountAt(ctx, site)
	if err == nil && n == 0 {
		err = problem.New(problem.NotFound, "no slot is at "+site, "", "write the site as the devices have it",
			next.ListDevices.On(""))
	}
	return err
}
