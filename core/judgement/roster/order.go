package roster

import (
	"cmp"
	"math"
	"net/netip"
	"strings"
)

// key is where a row is in an order; no two rows have the same.
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
	byTime := func(of func(*slot) int64) order[slot] {
		return order[slot]{
			key:    func(s *slot) key { return key{of(s), s.id} },
			values: func(at int32) []any { return []any{of(&row[at]), row[at].id} },
			after:  numbers(2),
		}
	}
	byValue := func(of func(*slot) value) order[slot] {
		return order[slot]{
			key: func(s *slot) key { return key{r.values.places[of(s)], int64(s.byName)} },
			values: func(at int32) []any {
				return []any{r.values.texts[of(&row[at])], r.deviceOf(at), texts[at].name}
			},
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 3)
				if !ok {
					return key{}, false
				}
				return r.within(names[0], desc, behind(desc)(r.slotNamed(names[1], names[2]))), true
			},
		}
	}
	return map[string]order[slot]{
		"expires_at": byTime(func(s *slot) int64 { return s.notAfter }),
		"act_by":     byTime(func(s *slot) int64 { return s.overdue }),
		"site":       byValue(func(s *slot) value { return s.site }),
		"finding":    byValue(func(s *slot) value { return s.finding }),
		"issuer":     byValue(func(s *slot) value { return s.issuer }),
		"key_type":   byValue(func(s *slot) value { return s.keyType }),
		"signature":  byValue(func(s *slot) value { return s.signature }),
		"condition": {
			key:    func(s *slot) key { return key{int64(s.rank), s.notAfter, s.id} },
			values: func(at int32) []any { return []any{row[at].rank, row[at].notAfter, row[at].id} },
			after:  numbers(3),
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
					return cmp.Or(compareAddresses(texts[at].address, address),
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
		"owner":      byValue(func(d *device) value { return d.owner }),
		"tags":       byValue(func(d *device) value { return d.tag }),
		"address": {
			key:    func(d *device) key { return key{int64(d.byAddress)} },
			values: func(at int32) []any { return []any{texts[at].address, texts[at].name} },
			after: func(values []any, desc bool) (key, bool) {
				names, ok := wordsOf(values, 2)
				if !ok {
					return key{}, false
				}
				return behind(desc)(r.devicesByAddress.bound(func(at int32) int {
					return cmp.Or(compareAddresses(texts[at].address, names[0]),
						strings.Compare(texts[at].name, names[1]))
				})), true
			},
		},
	}
}

func (r *Roster) deviceNamed(name string) (place int64, exact bool) {
	return r.devicesByName.bound(func(at int32) int { return strings.Compare(r.devices.texts[at].name, name) })
}

// compareAddresses orders IP addresses by number, IPv4 first, and host names by name behind them.
func compareAddresses(x, y string) int {
	if x == y {
		return 0
	}
	a, xIs := ipOf(x)
	b, yIs := ipOf(y)
	switch {
	case xIs && yIs:
		return cmp.Or(a.Compare(b), strings.Compare(x, y))
	case xIs:
		return -1
	case yIs:
		return 1
	}
	return strings.Compare(x, y)
}

// ipOf reads an IP address. A name that begins with no digit and has no colon is told at once: most addresses of a
// fleet are names.
func ipOf(address string) (ip netip.Addr, ok bool) {
	if address == "" || (address[0] < '0' || address[0] > '9') && !strings.Contains(address, ":") {
		return ip, false
	}
	ip, err := netip.ParseAddr(address)
	return ip, err == nil
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

// within returns the key of a place among the rows that have a value. Where no row has it, all rows with a later one
// are behind.
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
