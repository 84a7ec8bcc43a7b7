package roster

import (
	"cmp"
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
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

// key is where a row stands in an order; no two rows have the same.
type key [3]int64

func (k key) compare(other key) int {
	return cmp.Or(cmp.Compare(k[0], other[0]), cmp.Compare(k[1], other[1]), cmp.Compare(k[2], other[2]))
}

// order is one way to sort a table. Texts of a row stand as their places.
type order[R any] struct {
	key    func(row *R) key
	values func(row *R) []any                        // those that a page gives of its last row
	after  func(values []any, desc bool) (key, bool) // the key behind which the page begins
}

// found is a row that fits, with its place in the order.
type found struct {
	key key
	at  int32
}

// pick finds rows in an order that fit, among those behind a key: it passes some over and gives the first of the rest. It goes
// through the table once and keeps what may still be on the page.
func pick[R any](t *table[R], o order[R], desc bool, after *key, skip, most int, fits func(row *R) bool) []int32 {
	before := func(x, y key) bool { return x.compare(y) < 0 }
	if desc {
		before = func(x, y key) bool { return y.compare(x) < 0 }
	}
	first := func(all []found, most int) []found {
		slices.SortFunc(all, func(x, y found) int {
			if before(x.key, y.key) {
				return -1
			}
			return 1
		})
		return all[:min(most, len(all))]
	}
	var all []found
	var last *key // nothing behind it is on the page
	for at := range t.rows {
		row := &t.rows[at]
		if t.ids[at] == 0 || !fits(row) {
			continue
		}
		k := o.key(row)
		if after != nil && !before(*after, k) || last != nil && !before(k, *last) {
			continue
		}
		if all = append(all, found{k, int32(at)}); skip == 0 && len(all) >= 2*most+1000 {
			all = first(all, most)
			end := all[len(all)-1].key
			last = &end
		}
	}
	if skip > 0 {
		divide(all, skip, before)
		all = all[min(skip, len(all)):]
		divide(all, most, before)
		all = all[:min(most, len(all))]
	}
	all = first(all, most)
	rows := make([]int32, len(all))
	for i, f := range all {
		rows[i] = f.at
	}
	return rows
}

// divide puts the first n rows of an order before the others, without sorting either.
func divide(all []found, n int, before func(x, y key) bool) {
	random := rand.New(rand.NewPCG(uint64(len(all)), uint64(n))) // no arrangement of a fleet is slow each time
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
func page[R any](t *table[R], orders map[string]order[R], by Order, fits func(row *R) bool) (Page, error) {
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
		out.Last = o.values(&t.rows[rows[len(rows)-1]])
	}
	return out, nil
}

// Slots returns a page of the slots that fit a filter, as of a moment (milliseconds since 1970). The orders are condition (the worst
// first, then the soonest end), expires_at, device, site and address.
func (r *Roster) Slots(f SlotFilter, now int64, by Order) (Page, error) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return page(&r.slots, r.slotOrders(), by, r.slotsThat(f, now))
}

// CountSlots says how many slots fit a filter, as of a moment.
func (r *Roster) CountSlots(f SlotFilter, now int64) int {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return count(&r.slots, r.slotsThat(f, now))
}

// Devices returns a page of the devices that fit a filter. The orders are name, condition (the worst of the slots), expires_at,
// site, family and address.
func (r *Roster) Devices(f DeviceFilter, by Order) (Page, error) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return page(&r.devices, r.deviceOrders(), by, r.devicesThat(f))
}

// CountDevices says how many devices fit a filter.
func (r *Roster) CountDevices(f DeviceFilter) int {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return count(&r.devices, r.devicesThat(f))
}

func count[R any](t *table[R], fits func(row *R) bool) (n int) {
	if fits == nil {
		return 0
	}
	for at := range t.rows {
		if t.ids[at] != 0 && fits(&t.rows[at]) {
			n++
		}
	}
	return n
}

func (r *Roster) slotOrders() map[string]order[slot] {
	nameOf := func(s *slot) string { return r.devices.rows[s.device].name }
	return map[string]order[slot]{
		"condition": {
			key:    func(s *slot) key { return key{int64(s.rank), s.notAfter, s.id} },
			values: func(s *slot) []any { return []any{s.rank, s.notAfter, s.id} },
			after:  numbers(3),
		},
		"expires_at": {
			key:    func(s *slot) key { return key{s.notAfter, s.id} },
			values: func(s *slot) []any { return []any{s.notAfter, s.id} },
			after:  numbers(2),
		},
		"device": {
			key:    func(s *slot) key { return key{int64(s.byName)} },
			values: func(s *slot) []any { return []any{nameOf(s), s.name} },
			after: func(values []any, desc bool) (key, bool) {
				texts, ok := texts(values, 2)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.slotNamed(texts[0], texts[1])), true
			},
		},
		"site": {
			key:    func(s *slot) key { return key{r.values.places[s.site], int64(s.byName)} },
			values: func(s *slot) []any { return []any{r.values.texts[s.site], nameOf(s), s.name} },
			after: func(values []any, desc bool) (key, bool) {
				texts, ok := texts(values, 3)
				if !ok {
					return key{}, false
				}
				return r.within(texts[0], desc, behind(desc)(r.slotNamed(texts[1], texts[2]))), true
			},
		},
		"address": {
			key:    func(s *slot) key { return key{int64(s.byAddress)} },
			values: func(s *slot) []any { return []any{s.address, s.port, s.id} },
			after: func(values []any, desc bool) (key, bool) {
				if len(values) != 3 {
					return key{}, false
				}
				address, ok1 := values[0].(string)
				more, ok2 := numbers(2)(values[1:], desc)
				if !ok1 || !ok2 {
					return key{}, false
				}
				return behind(desc)(r.byAddress.bound(func(row int32) int {
					s := &r.slots.rows[row]
					return cmp.Or(strings.Compare(s.address, address), cmp.Compare(int64(s.port), more[0]), cmp.Compare(s.id, more[1]))
				})), true
			},
		},
	}
}

func (r *Roster) slotNamed(device, name string) (place int64, exact bool) {
	return r.byName.bound(func(row int32) int {
		s := &r.slots.rows[row]
		return cmp.Or(strings.Compare(r.devices.rows[s.device].name, device), strings.Compare(s.name, name))
	})
}

func (r *Roster) deviceOrders() map[string]order[device] {
	byNumber := func(number func(*device) int64) order[device] {
		return order[device]{
			key:    func(d *device) key { return key{number(d), int64(d.byName)} },
			values: func(d *device) []any { return []any{number(d), d.name} },
			after: func(values []any, desc bool) (key, bool) {
				if len(values) != 2 {
					return key{}, false
				}
				first, ok1 := numbers(1)(values[:1], desc)
				name, ok2 := values[1].(string)
				if !ok1 || !ok2 {
					return key{}, false
				}
				return key{first[0], behind(desc)(r.deviceNamed(name))[0]}, true
			},
		}
	}
	byValue := func(of func(*device) value) order[device] {
		return order[device]{
			key:    func(d *device) key { return key{r.values.places[of(d)], int64(d.byName)} },
			values: func(d *device) []any { return []any{r.values.texts[of(d)], d.name} },
			after: func(values []any, desc bool) (key, bool) {
				texts, ok := texts(values, 2)
				if !ok {
					return key{}, false
				}
				return r.within(texts[0], desc, behind(desc)(r.deviceNamed(texts[1]))), true
			},
		}
	}
	return map[string]order[device]{
		"name": {
			key:    func(d *device) key { return key{int64(d.byName)} },
			values: func(d *device) []any { return []any{d.name} },
			after: func(values []any, desc bool) (key, bool) {
				texts, ok := texts(values, 1)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.deviceNamed(texts[0])), true
			},
		},
		"condition":  byNumber(func(d *device) int64 { return int64(d.worst) }),
		"expires_at": byNumber(func(d *device) int64 { return d.soonest }),
		"site":       byValue(func(d *device) value { return d.site }),
		"family":     byValue(func(d *device) value { return d.family }),
		"address": {
			key:    func(d *device) key { return key{int64(d.byAddress)} },
			values: func(d *device) []any { return []any{d.address, d.name} },
			after: func(values []any, desc bool) (key, bool) {
				texts, ok := texts(values, 2)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.devicesByAddress.bound(func(row int32) int {
					d := &r.devices.rows[row]
					return cmp.Or(strings.Compare(d.address, texts[0]), strings.Compare(d.name, texts[1]))
				})), true
			},
		},
	}
}

func (r *Roster) deviceNamed(name string) (place int64, exact bool) {
	return r.devicesByName.bound(func(row int32) int { return strings.Compare(r.devices.rows[row].name, name) })
}

// behind makes a key of a place, so that the rows behind the key are those behind the place: the row at a place that is
// not exact is one of them, unless the order goes down.
func behind(desc bool) func(place int64, exact bool) key {
	return func(place int64, exact bool) key {
		if !exact && !desc {
			return key{place - 1}
		}
		return key{place}
	}
}

// within is the key of a place among the rows that have a value. Where no row has it, all rows with a later one are behind.
func (r *Roster) within(text string, desc bool, place key) key {
	at, known := r.values.bound(text)
	switch {
	case known:
		return key{at, place[0]}
	case desc:
		return key{at, math.MinInt64}
	}
	return key{at - 1, math.MaxInt64}
}

// numbers makes a key of so many numbers.
func numbers(n int) func(values []any, desc bool) (key, bool) {
	return func(values []any, _ bool) (out key, ok bool) {
		if len(values) != n {
			return key{}, false
		}
		for i, v := range values {
			number, ok := v.(float64)
			if !ok || math.Abs(number) > 1<<53 {
				return key{}, false
			}
			out[i] = int64(number)
		}
		return out, true
	}
}

func texts(values []any, n int) (out []string, ok bool) {
	if len(values) != n {
		return nil, false
	}
	for _, v := range values {
		text, ok := v.(string)
		if !ok {
			return nil, false
		}
		out = append(out, text)
	}
	return out, true
}
