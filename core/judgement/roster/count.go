package roster

import (
	"math"

	"freshseal/core/judgement/due"
)

// Named is how a slot is named, and where it is.
type Named struct {
	Device, Slot, Site, Family string
}

// Named returns the slots that fit a filter as of a moment, worst first as in the list.
func (r *Roster) Named(f SlotFilter, now int64) []Named {
	r.lock.RLock()
	defer r.lock.RUnlock()
	fits := r.slotsThat(f, now)
	if fits == nil {
		return nil
	}
	rows := pick(&r.slots, r.slotOrders()["condition"], false, nil, 0, len(r.slots.rows), fits)
	out := make([]Named, len(rows))
	for i, at := range rows {
		s := &r.slots.rows[at]
		out[i] = Named{r.deviceOf(at), r.slots.texts[at].name, r.values.texts[s.site], r.values.texts[s.family]}
	}
	return out
}

// NamedDevices returns the names of the devices that fit a filter, in their order.
func (r *Roster) NamedDevices(f DeviceFilter) []string {
	r.lock.RLock()
	defer r.lock.RUnlock()
	fits := r.devicesThat(f)
	if fits == nil {
		return nil
	}
	var out []string
	for _, at := range r.devicesByName.rows {
		if fits(at) {
			out = append(out, r.devices.texts[at].name)
		}
	}
	return out
}

// Facet is a value that slots have, and how many do.
type Facet struct {
	Value string
	Count int
}

// Facets are the values by which lists are filtered, each list by value. Devices without slots do not count.
type Facets struct {
	Sites, Families, Owners, Tags, Signers []Facet
	Issuers, KeyTypes, Signatures          []Facet
}

// mostTags bounds the tags and the issuers, of which a fleet may have any number.
const mostTags = 500

// Facets counts the slots of every value by which they are filtered.
func (r *Roster) Facets() Facets {
	r.lock.RLock()
	defer r.lock.RUnlock()
	counts := func() []int { return make([]int, len(r.values.texts)) }
	sites, families, owners, tags := counts(), counts(), counts(), counts()
	for at := range r.devices.rows {
		if r.devices.ids[at] == 0 {
			continue
		}
		d, slots := &r.devices.rows[at], 0
		for range r.slotsOf(d) {
			slots++
		}
		sites[d.site] += slots
		families[d.family] += slots
		owners[d.owner] += slots
		for _, tag := range r.devices.texts[at].tags {
			tags[tag] += slots
		}
	}
	signers, issuers, keyTypes, signatures := counts(), counts(), counts(), counts()
	for at := range r.slots.rows {
		if r.slots.ids[at] == 0 {
			continue
		}
		s := &r.slots.rows[at]
		signers[s.signer]++
		issuers[s.issuer]++
		keyTypes[s.keyType]++
		signatures[s.signature]++
	}
	of := func(counts []int) (out []Facet) {
		for _, n := range r.values.order {
			if n != 0 && counts[n] > 0 {
				out = append(out, Facet{r.values.texts[n], counts[n]})
			}
		}
		return out
	}
	out := Facets{Sites: of(sites), Families: of(families), Owners: of(owners), Tags: of(tags), Signers: of(signers),
		Issuers: of(issuers), KeyTypes: of(keyTypes), Signatures: of(signatures)}
	out.Tags, out.Issuers = out.Tags[:min(mostTags, len(out.Tags))], out.Issuers[:min(mostTags, len(out.Issuers))]
	return out
}

// Sites returns the sites that devices name, by name.
func (r *Roster) Sites() (names []string) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	named := make([]bool, len(r.values.texts))
	for at, id := range r.devices.ids {
		if id != 0 {
			named[r.devices.rows[at].site] = true
		}
	}
	for _, n := range r.values.order {
		if n != 0 && named[n] {
			names = append(names, r.values.texts[n])
		}
	}
	return names
}

// Families returns how many devices are of each family; the empty one is that of devices that can only be read.
func (r *Roster) Families() map[string]int {
	r.lock.RLock()
	defer r.lock.RUnlock()
	out := map[string]int{}
	for at, id := range r.devices.ids {
		if id != 0 {
			out[r.values.texts[r.devices.rows[at].family]]++
		}
	}
	return out
}

// Each calls f for every slot with its site, the rank of its condition and the end of its leaf, in no order.
func (r *Roster) Each(f func(site string, rank int, notAfter int64)) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	for at, id := range r.slots.ids {
		if s := &r.slots.rows[at]; id != 0 {
			f(r.values.texts[s.site], int(s.rank), s.notAfter)
		}
	}
}

// Above counts the slots by the fingerprints above their leaves.
func (r *Roster) Above() map[string]int {
	r.lock.RLock()
	defer r.lock.RUnlock()
	out := map[string]int{}
	for at, id := range r.slots.ids {
		if above := r.slots.texts[at].above; id != 0 && above != "" {
			out[above]++
		}
	}
	return out
}

// Turned returns some slots whose condition changed by time alone before a moment, at most so many.
func (r *Roster) Turned(now int64, most int) (ids []int64) {
	r.lock.RLock()
	none := r.turns == 0 || r.turns >= now
	r.lock.RUnlock()
	if none {
		return nil
	}
	r.lock.Lock()
	defer r.lock.Unlock()
	soonest := int64(math.MaxInt64)
	for at, id := range r.slots.ids {
		turns := r.slots.rows[at].turnsAt
		if id == 0 || turns <= 0 {
			continue
		}
		if turns < now && len(ids) < most {
			ids = append(ids, id)
		}
		soonest = min(soonest, turns)
	}
	if r.turns = soonest; soonest == math.MaxInt64 {
		r.turns = 0
	}
	return ids
}

// DueFilter says which slots somebody must act on.
type DueFilter struct {
	Before     int64 // fresh slots count when their act-by date comes before; milliseconds since 1970
	Site       string
	LockingOut []string // families of devices that nobody can sign in to once their certificate has expired
}

// Due is a slot on which somebody must act.
type Due struct {
	ID       int64
	LocksOut bool
}

// urgency is the order in which somebody must act: a certificate that nobody replaced yet is no surprise, and comes
// last.
var urgency = []due.Condition{due.Expired, due.Unexpected, due.Flawed, due.Overdue, due.Due, due.Fresh, due.Factory}

// Due returns the first of the slots on which somebody must act, most urgent first, and the count: those
// whose devices let nobody in once the certificate has expired, where that is near; then by urgency, and by act-by
// date within it. Unreachable slots are left out.
func (r *Roster) Due(f DueFilter, most int) ([]Due, int) {
	r.lock.RLock()
	defer r.lock.RUnlock()
	locks := r.locking(f.LockingOut)
	site, known := r.values.number[f.Site]
	if !known {
		return nil, 0
	}
	expired, fresh := uint8(due.Expired.Rank()), uint8(due.Fresh.Rank())
	fits := func(at int32) bool {
		s := &r.slots.rows[at]
		if s.rank < expired || s.rank > fresh || s.rank == fresh && (s.overdue == 0 || s.overdue >= f.Before) {
			return false
		}
		return site == 0 || s.site == site
	}
	var places [256]int64 // by rank
	for place, condition := range urgency {
		places[condition.Rank()] = int64(place) + 1
	}
	bites := order[slot]{key: func(s *slot) key {
		first := places[s.rank]
		if locks[s.family] && (s.rank == expired || s.overdue != 0 && s.overdue < f.Before) {
			first = 0
		}
		return key{first, s.overdue, s.id}
	}}
	rows := pick(&r.slots, bites, false, nil, 0, most, fits)
	return r.dueOf(rows, locks), count(&r.slots, fits)
}
