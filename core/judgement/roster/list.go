package roster

import (
	"errors"
	"math/rand/v2"
	"slices"
)

// Order asks for a part of a list. After are the values of the row before that part, as [Page] gives them.
type Order struct {
	Sort  string
	Desc  bool
	After []any // texts and numbers; nil: from the start
	Skip  int   // how many rows are passed over from there on
	Most  int
}

// Page is a part of a list: the numbers of its rows, and the values of the last one.
type Page struct {
	IDs  []int64
	Last []any
}

// What an order may be refused for.
var (
	ErrSort  = errors.New("the list has no such order")
	ErrAfter = errors.New("these are no values of the list's order")
)

// found is a row that fits, with its place in the order.
type found struct {
	key key
	at  int32
}

// pick finds rows in an order that fit, among those behind a key: it passes some over and gives the first of the
// rest. It goes through the table once and keeps what may still be on the page.
func pick[R, T any](t *table[R, T], o order[R], desc bool, after *key, skip, most int,
	fits func(at int32) bool) []int32 {
	before := key.before
	if desc {
		before = func(x, y key) bool { return y.before(x) }
	}
	random := rand.New(rand.NewPCG(uint64(len(t.rows)), uint64(most)))
	first := func(all []found, n int) []found {
		divide(all, n, before, random)
		return all[:min(n, len(all))]
	}
	var all []found
	var last *key // nothing behind it is on the page
	for i := range t.rows {
		at := i
		if desc { // what came late is mostly at that end
			at = len(t.rows) - 1 - i
		}
		if t.ids[at] == 0 || !fits(int32(at)) {
			continue
		}
		k := o.key(&t.rows[at])
		if after != nil && !before(*after, k) || last != nil && !before(k, *last) {
			continue
		}
		if all = append(all, found{k, int32(at)}); skip == 0 && len(all) >= 2*most+1000 {
			all = first(all, most)
			end := all[0].key
			for _, f := range all[1:] {
				if before(end, f.key) {
					end = f.key
				}
			}
			last = &end
		}
	}
	all = all[len(first(all, skip)):]
	all = first(all, most)
	slices.SortFunc(all, func(x, y found) int {
		if before(x.key, y.key) {
			return -1
		}
		return 1
	})
	rows := make([]int32, len(all))
	for i, f := range all {
		rows[i] = f.at
	}
	return rows
}

// divide puts the first n rows of an order before the others, without sorting either. Where it divides is left to
// chance, so that no arrangement of a fleet makes it slow.
func divide(all []found, n int, before func(x, y key) bool, random *rand.Rand) {
	for from, to := 0, len(all)-1; from < to && n <= to; {
		pivot := all[from+random.IntN(to-from+1)].key
		i, j := from, to
		for i <= j {
			for before(all[i].key, pivot) {
				i++
			}
			for before(pivot, all[j].key) {
				j--
			}
			if i <= j {
				all[i], all[j] = all[j], all[i]
				i, j = i+1, j-1
			}
		}
		switch {
		case n <= j:
			to = j
		case n >= i:
			from = i
		default:
			return
		}
	}
}

// page reads a page of a table.
func page[R, T any](t *table[R, T], orders map[string]order[R], by Order, fits func(at int32) bool) (Page, error) {
	o, known := orders[by.Sort]
	if !known {
		return Page{}, ErrSort
	}
	var after *key
	if by.After != nil {
		k, ok := o.after(by.After, by.Desc)
		if !ok {
			return Page{}, ErrAfter
		}
		after = &k
	}
	if fits == nil || by.Most <= 0 {
		return Page{}, nil
	}
	rows := pick(t, o, by.Desc, after, by.Skip, by.Most, fits)
	out := Page{IDs: make([]int64, len(rows))}
	for i, at := range rows {
		out.IDs[i] = t.ids[at]
	}
	if len(rows) > 0 {
		out.Last = o.values(rows[len(rows)-1])
	}
	return out, nil
}

// Slots returns a page of the slots that fit a filter, as of a moment (milliseconds since 1970). The orders are
// condition (the worst first, then the soonest end), expires_at, act_by, device, site, address, issuer, key_type,
// signature and finding (by its code).
func (r *Roster) Slots(f SlotFilter, now int64, by Order) (Page, error) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return page(&r.slots, r.slotOrders(), by, r.slotsThat(f, now))
}

// CountSlots returns how many slots fit a filter, as of a moment.
func (r *Roster) CountSlots(f SlotFilter, now int64) int {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return count(&r.slots, r.slotsThat(f, now))
}

// Devices returns a page of the devices that fit a filter. The orders are name, condition (the worst of the slots),
// expires_at, site, family, address, owner and tags (by the first one).
func (r *Roster) Devices(f DeviceFilter, by Order) (Page, error) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return page(&r.devices, r.deviceOrders(), by, r.devicesThat(f))
}

// CountDevices returns how many devices fit a filter.
func (r *Roster) CountDevices(f DeviceFilter) int {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return count(&r.devices, r.devicesThat(f))
}

func count[R, T any](t *table[R, T], fits func(at int32) bool) (n int) {
	if fits == nil {
		return 0
	}
	for at := range t.rows {
		if t.ids[at] != 0 && fits(int32(at)) {
			n++
		}
	}
	return n
}
