package roster

import (
	"cmp"
	"math"
	"strings"
)

// key is where a row stands in an order; no two rows have the same.
type key [3]int64

func (k key) before(other key) bool {
	if k[0] != other[0] {
		return k[0] < other[0]
	}
	if k[1] != other[1] {
		return k[1] < other[1]
	}
	return k[2] < other[2]
}

// order is one way to sort a table. Texts of a row stand as their places.
type order[R any] struct {
	key    func(row *R) key
	values func(at int32) []any                      // those that a page gives of its last row
	after  func(values []any, desc bool) (key, bool) // the key behind which the page begins
}

func (r *Roster) slotOrders() map[string]order[slot] {
	row, texts := r.slots.rows, r.slots.texts
	return map[string]order[slot]{
		"condition": {
			key:    func(s *slot) key { return key{int64(s.rank), s.notAfter, s.id} },
			values: func(at int32) []any { return []any{row[at].rank, row[at].notAfter, row[at].id} },
			after:  numbers(3),
		},
		"expires_at": {
			key:    func(s *slot) key { return key{s.notAfter, s.id} },
			values: func(at int32) []any { return []any{row[at].notAfter, row[at].id} },
			after:  numbers(2),
		},
		"device": {
			key:    func(s *slot) key { return key{int64(s.byName)} },
			values: func(at int32) []any { return []any{r.deviceOf(at), texts[at].name} },
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 2)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.slotNamed(names[0], names[1])), true
			},
		},
		"site": {
			key:    func(s *slot) key { return key{r.values.places[s.site], int64(s.byName)} },
			values: func(at int32) []any { return []any{r.values.texts[row[at].site], r.deviceOf(at), texts[at].name} },
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 3)
				if !ok {
					return key{}, false
				}
				return r.within(names[0], desc, behind(desc)(r.slotNamed(names[1], names[2]))), true
			},
		},
		"address": {
			key:    func(s *slot) key { return key{int64(s.byAddress)} },
			values: func(at int32) []any { return []any{texts[at].address, row[at].port, row[at].id} },
			after: func(values []any, desc bool) (key, bool) {
				if len(values) != 3 {
					return key{}, false
				}
				address, ok1 := values[0].(string)
				more, ok2 := numbers(2)(values[1:], desc)
				if !ok1 || !ok2 {
					return key{}, false
				}
				return behind(desc)(r.byAddress.bound(func(at int32) int {
					return cmp.Or(strings.Compare(texts[at].address, address),
						cmp.Compare(int64(row[at].port), more[0]), cmp.Compare(row[at].id, more[1]))
				})), true
			},
		},
	}
}

func (r *Roster) slotNamed(device, name string) (place int64, exact bool) {
	return r.byName.bound(func(at int32) int {
		return cmp.Or(strings.Compare(r.deviceOf(at), device), strings.Compare(r.slots.texts[at].name, name))
	})
}

func (r *Roster) deviceOrders() map[string]order[device] {
	row, texts := r.devices.rows, r.devices.texts
	byNumber := func(number func(*device) int64) order[device] {
		return order[device]{
			key:    func(d *device) key { return key{number(d), int64(d.byName)} },
			values: func(at int32) []any { return []any{number(&row[at]), texts[at].name} },
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
			values: func(at int32) []any { return []any{r.values.texts[of(&row[at])], texts[at].name} },
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 2)
				if !ok {
					return key{}, false
				}
				return r.within(names[0], desc, behind(desc)(r.deviceNamed(names[1]))), true
			},
		}
	}
	return map[string]order[device]{
		"name": {
			key:    func(d *device) key { return key{int64(d.byName)} },
			values: func(at int32) []any { return []any{texts[at].name} },
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 1)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.deviceNamed(names[0])), true
			},
		},
		"condition":  byNumber(func(d *device) int64 { return int64(d.worst) }),
		"expires_at": byNumber(func(d *device) int64 { return d.soonest }),
		"site":       byValue(func(d *device) value { return d.site }),
		"family":     byValue(func(d *device) value { return d.family }),
		"address": {
			key:    func(d *device) key { return key{int64(d.byAddress)} },
			values: func(at int32) []any { return []any{texts[at].address, texts[at].name} },
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 2)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.devicesByAddress.bound(func(at int32) int {
					return cmp.Or(strings.Compare(texts[at].address, names[0]),
						strings.Compare(texts[at].name, names[1]))
				})), true
			},
		},
	}
}

func (r *Roster) deviceNamed(name string) (place int64, exact bool) {
	return r.devicesByName.bound(func(at int32) int { return strings.Compare(r.devices.texts[at].name, name) })
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

// within is the key of a place among the rows that have a value. Where no row has it, all rows with a later one are
// behind.
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

func wordsOf(values []any, n int) (out []string, ok bool) {
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
