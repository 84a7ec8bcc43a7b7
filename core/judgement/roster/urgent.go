package roster

import (
	"cmp"
	"slices"
	"time"

	"freshseal/core/judgement/due"
)

// Some are the first of some slots, and the count.
type Some struct {
	First []Due
	Total int
}

// Urgent are the slots that people must look at, each in one part.
type Urgent struct {
	Breaking    Some // expired, changed by somebody else, or expiring within a week
	Start       Some // whose replacement must start within a week
	Faulty      Some // with a factory certificate, or one with faults
	Unreachable Some // that do not answer, or were not read yet
}

// week is how far ahead Urgent looks, in milliseconds.
const week = int64(7 * 24 * time.Hour / time.Millisecond)

// Urgent returns the parts as of now, at most so many slots of each: those that let nobody in once they have expired
// come first in each, then by the date that matters there. A slot that cannot be read is in Unreachable and, where the
// certificate that it served last ends within a week, in Breaking as well.
func (r *Roster) Urgent(now int64, lockingOut []string, most int) Urgent {
	r.lock.RLock()
	defer r.lock.RUnlock()
	locks := r.locking(lockingOut)
	rank := func(c due.Condition) uint8 { return uint8(c.Rank()) }
	expired, unexpected, unreachable := rank(due.Expired), rank(due.Unexpected), rank(due.Unreachable)
	factory, flawed := rank(due.Factory), rank(due.Flawed)
	breaking := func(s *slot) bool {
		return s.rank == expired || s.rank == unexpected || s.notAfter > 0 && s.notAfter < now+week
	}
	some := func(of func(s *slot) bool, date func(s *slot) int64) Some {
		fits := func(at int32) bool { return of(&r.slots.rows[at]) }
		by := order[slot]{key: func(s *slot) key {
			first := int64(1)
			if locks[s.family] {
				first = 0
			}
			return key{first, date(s), s.id}
		}}
		return Some{r.dueOf(pick(&r.slots, by, false, nil, 0, most, fits), locks), count(&r.slots, fits)}
	}
	ends, starts := func(s *slot) int64 { return s.notAfter }, func(s *slot) int64 { return s.overdue }
	return Urgent{
		Breaking: some(breaking, ends),
		Start: some(func(s *slot) bool {
			return s.rank != unreachable && s.rank != factory && s.rank != flawed && s.overdue > 0 &&
				s.overdue < now+week && !breaking(s)
		}, starts),
		Faulty:      some(func(s *slot) bool { return (s.rank == factory || s.rank == flawed) && !breaking(s) }, ends),
		Unreachable: some(func(s *slot) bool { return s.rank == unreachable }, ends),
	}
}

func (r *Roster) locking(families []string) []bool {
	locks := make([]bool, len(r.values.texts))
	for _, family := range families {
		if n, known := r.values.number[family]; known && n != 0 {
			locks[n] = true
		}
	}
	return locks
}

func (r *Roster) dueOf(rows []int32, locks []bool) []Due {
	out := make([]Due, len(rows))
	for i, at := range rows {
		out[i] = Due{r.slots.ids[at], locks[r.slots.rows[at].family]}
	}
	return slices.Clip(out)
}

// Date is a day on which something is due on slots: act-by dates, and ends of certificates.
type Date struct {
	Day     int64 // its beginning in UTC, in milliseconds since 1970
	Total   int
	Entries []Entry // the first of them
}

// Entry is a date of one slot.
type Entry struct {
	Due
	Expires bool // its certificate ends; else it is the act-by date
	At      int64
}

const day = int64(24 * time.Hour / time.Millisecond)

// Dates returns the days from one moment to another on which something is due, in their order, with at most so many
// entries of each: those of devices that let nobody in come first, ends before act-by dates. Both moments are
// beginnings of days.
func (r *Roster) Dates(from, until int64, site string, lockingOut []string, most int) []Date {
	r.lock.RLock()
	defer r.lock.RUnlock()
	locks := r.locking(lockingOut)
	of, known := r.values.number[site]
	if !known || until <= from {
		return nil
	}
	days := make([]Date, (until-from+day-1)/day)
	before := func(a, b Entry) int {
		place := func(e Entry) int {
			n := 0
			if !e.LocksOut {
				n += 2
			}
			if !e.Expires {
				n++
			}
			return n
		}
		return cmp.Or(place(a)-place(b), cmp.Compare(a.At, b.At), cmp.Compare(a.ID, b.ID))
	}
	put := func(at int64, e Entry) {
		if at < from || at >= until {
			return
		}
		d := &days[(at-from)/day]
		d.Total++
		e.At = at
		i, _ := slices.BinarySearchFunc(d.Entries, e, before)
		if i == most {
			return
		}
		if len(d.Entries) == most {
			d.Entries = d.Entries[:most-1]
		}
		d.Entries = slices.Insert(d.Entries, i, e)
	}
	unreachable := uint8(due.Unreachable.Rank())
	for at, id := range r.slots.ids {
		s := &r.slots.rows[at]
		if id == 0 || of != 0 && s.site != of {
			continue
		}
		one := Entry{Due: Due{ID: id, LocksOut: locks[s.family]}}
		if s.rank != unreachable && s.overdue > 0 {
			put(s.overdue, one)
		}
		if one.Expires = true; s.notAfter > 0 {
			put(s.notAfter, one)
		}
	}
	for i := range days {
		days[i].Day = from + int64(i)*day
	}
	return slices.DeleteFunc(days, func(d Date) bool { return d.Total == 0 })
}
