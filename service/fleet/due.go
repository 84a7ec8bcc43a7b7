package fleet

import (
	"context"

	"freshseal/service/problem"
	"freshseal/store"
)

// Due is what must be done, in the order in which it bites.
type Due struct {
	Items []DueSlot `json:"items" required:"true" nullable:"false" description:"the first of them"`
	Total int       `json:"total" required:"true"`
}

// DueSlot is a slot on which somebody must act.
type DueSlot struct {
	Slot
	LocksOut bool `json:"locks_out" required:"true" description:"once its certificate has expired, nobody can sign in to replace it"`
}

const (
	mostDue  = 1000
	farthest = 3650 // days
)

// Due lists what must be done within some days, at a site or everywhere: what is wrong now, worst first,
// then by act-by date. Slots that cannot be read are not among them: there is nothing to replace
// before they are.
func (s *Service) Due(ctx context.Context, within int, site string) (Due, error) {
	if within < 0 || within > farthest {
		return Due{}, problem.Reject("this cannot be listed", "the number of days must be from 0 to 3650", "give another one")
	}
	var locking []string
	for name, p := range s.families.all() {
		if p.Traits.LocksOut {
			locking = append(locking, name)
		}
	}
	rows, total, err := s.store.DueSlots(ctx, s.moment(), store.At(s.now().AddDate(0, 0, within)), site, locking, mostDue)
	out := Due{Items: make([]DueSlot, 0, len(rows)), Total: total}
	for _, row := range rows {
		slot := s.summary(row.Slot)
		slot.Replaceable = row.Family != ""
		out.Items = append(out.Items, DueSlot{slot, row.LocksOut})
	}
	return out, err
}
