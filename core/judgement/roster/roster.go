// Package roster holds in memory what the lists of a large fleet are filtered, sorted, searched and counted by.
//
// Whoever keeps the fleet puts every change into a [Roster] and asks it for pages:
//
//	r := roster.New()
//	r.Put(roster.Change{Devices: devices, Slots: slots})
//	page, err := r.Slots(roster.SlotFilter{Site: "Northholm"}, roster.Order{Sort: "expires_at", Most: 50})
//
// A page of 100,000 slots takes a few milliseconds, whatever the filter and the order, because nothing but numbers
// is compared: texts are exchanged for numbers (values.go), and each row knows its place by name and by address
// (places.go). A search reads all words and takes about ten. A roster may be used by several goroutines at once.
//
// It is kept because SQLite alone does not do it. Measured at 100,000 slots on two cores (go test ./store -run '^$'
// -bench BenchmarkLists -benchtime 1x): of 379 kinds of page the slowest takes 13 ms from memory. A table of the listed
// columns with an index for each order behind each usual filter, and trigrams (FTS5) for texts, answers half of 270
// kinds of page with their count in 0.4 ms, but a text that is in many rows in up to 415 ms (390 ms p99; the goal
// is 50).
package roster

import (
	"cmp"
	"iter"
	"slices"
	"strings"
	"sync"
)

// NoRank is the rank of a device that has no slot: after every condition.
const NoRank = 9

// Device is what lists know of a device.
type Device struct {
	ID      int64
	Name    string
	Site    string
	Family  string
	Address string
	Owner   string
	Cluster string
	Tags    []string
	Words   string // by which it and its slots are found, in lower case
}

// Slot is what lists know of a slot.
type Slot struct {
	ID      int64
	Device  int64 // number of its device
	Name    string
	Address string
	Port    int
	Signer  string // who signed what the last replacement installed
	Words   string // by which it is found, in lower case, besides those of its device and its leaf
	Seen
}

// Seen is what a reading or a judgement says of a slot. Times are milliseconds since 1970; 0: none.
type Seen struct {
	Rank       int    // of the slot's condition; 0 is the worst
	NotAfter   int64  // end of the leaf
	Overdue    int64  // the slot's act-by date
	TurnsAt    int64  // when its condition changes by time alone
	Finding    string // code of the worst finding
	Issuer     string // of the leaf
	KeyType    string
	Signature  string
	SearchText string // the words of the leaf, in lower case
	Above      string // fingerprints of the certificates above the leaf, by which it is found as well
}

// Reading is what was seen of a slot, by its number.
type Reading struct {
	ID int64
	Seen
}

// Change is what became of some devices and slots.
type Change struct {
	Devices     []Device
	Slots       []Slot
	Readings    []Reading
	GoneDevices []int64
	GoneSlots   []int64
}

// Roster is the fleet as lists need it. The zero value is not usable; see [New].
type Roster struct {
	lock sync.RWMutex

	values  values
	devices table[device, deviceTexts]
	slots   table[slot, slotTexts]

	byName, byAddress               places // of slots
	devicesByName, devicesByAddress places
	turns                           int64 // no slot's condition changes by time alone before; 0: none ever
}

// device is a row of the table of devices. Texts by which rows are filtered are numbers of values.
type device struct {
	soonest                      int64
	site, family, owner, cluster value
	tag                          value // the first one
	byName, byAddress            int32 // its places
	worst                        uint8
	first                        int32 // row of its first slot, the others follow; -1: it has none
}

// deviceTexts are what a scan of the devices mostly does not look at.
type deviceTexts struct {
	name, address, words string
	tags                 []value
}

// slot is a row of the table of slots. It repeats what its device has, so that a scan reads one table.
type slot struct {
	notAfter, overdue, turnsAt  int64
	id                          int64
	device                      int32 // its row
	site, family, owner, signer value
	finding, issuer             value
	keyType, signature          value
	byName, byAddress           int32
	next                        int32 // row of its device's next slot; -1: it is the last
	port                        uint16
	rank                        uint8
}

// slotTexts are what a scan of the slots mostly does not look at.
type slotTexts struct {
	name, address            string
	words, searchText, above string
}

// New returns an empty roster.
func New() *Roster {
	r := &Roster{values: newValues(), devices: newTable[device, deviceTexts](), slots: newTable[slot, slotTexts]()}
	r.byName = places{compare: func(x, y int32) int {
		a, b := r.slots.rows[x].device, r.slots.rows[y].device
		return cmp.Or(cmp.Compare(r.devices.rows[a].byName, r.devices.rows[b].byName),
			strings.Compare(r.slots.texts[x].name, r.slots.texts[y].name))
	}, put: func(row, place int32) { r.slots.rows[row].byName = place }}
	r.byAddress = places{compare: func(x, y int32) int {
		a, b := &r.slots.rows[x], &r.slots.rows[y]
		return cmp.Or(compareAddresses(r.slots.texts[x].address, r.slots.texts[y].address),
			cmp.Compare(a.port, b.port), cmp.Compare(a.id, b.id))
	}, put: func(row, place int32) { r.slots.rows[row].byAddress = place }}
	r.devicesByName = places{compare: func(x, y int32) int {
		return strings.Compare(r.devices.texts[x].name, r.devices.texts[y].name)
	}, put: func(row, place int32) { r.devices.rows[row].byName = place }}
	r.devicesByAddress = places{compare: func(x, y int32) int {
		a, b := &r.devices.texts[x], &r.devices.texts[y]
		return cmp.Or(compareAddresses(a.address, b.address), strings.Compare(a.name, b.name))
	}, put: func(row, place int32) { r.devices.rows[row].byAddress = place }}
	return r
}

// deviceOf is the name of the device of a slot's row.
func (r *Roster) deviceOf(slot int32) string { return r.devices.texts[r.slots.rows[slot].device].name }

// Put brings the roster up to date. A slot whose device is not known is passed over.
func (r *Roster) Put(c Change) {
	r.lock.Lock()
	defer r.lock.Unlock()
	for _, id := range c.GoneSlots {
		r.dropSlot(id)
	}
	for _, id := range c.GoneDevices {
		r.dropDevice(id)
	}
	if len(r.devices.ids) == 0 {
		r.devices.grow(len(c.Devices))
		r.slots.grow(len(c.Slots))
	}
	for _, d := range c.Devices {
		r.putDevice(d)
	}
	for _, s := range c.Slots {
		r.putSlot(s)
	}
	for _, each := range c.Readings {
		if at, known := r.slots.at[each.ID]; known {
			r.read(at, each.Seen)
		}
	}
	r.values.settle()
	if r.devicesByName.stale() {
		r.devicesByName.settle() // byName compares these places
	}
	var settling sync.WaitGroup
	for _, order := range []*places{&r.devicesByAddress, &r.byName, &r.byAddress} {
		if order.stale() {
			settling.Go(order.settle) // each writes a column of its own
		}
	}
	settling.Wait()
}

func (r *Roster) putDevice(d Device) {
	at, known := r.devices.place(d.ID)
	row, texts := &r.devices.rows[at], &r.devices.texts[at]
	if !known {
		*row = device{worst: NoRank, first: -1}
	}
	if !known || texts.name != d.Name {
		r.devicesByName.moved(at, known)
		r.devicesByAddress.moved(at, known)
		for s := range r.slotsOf(row) {
			r.byName.moved(s, true)
		}
	} else if texts.address != d.Address {
		r.devicesByAddress.moved(at, true)
	}
	texts.words, texts.tags = d.Words, r.values.set(d.Tags)
	texts.name, texts.address = partOf(d.Words, d.Name), partOf(d.Words, d.Address)
	row.site, row.family, row.owner, row.cluster = r.values.of(d.Site), r.values.of(d.Family), r.values.of(d.Owner),
		r.values.of(d.Cluster)
	row.tag = 0
	if len(texts.tags) > 0 {
		row.tag = texts.tags[0]
	}
	for s := range r.slotsOf(row) {
		r.slots.rows[s].follow(row)
	}
}

// slotsOf goes through the rows of a device's slots.
func (r *Roster) slotsOf(d *device) iter.Seq[int32] {
	return func(yield func(int32) bool) {
		for at := d.first; at >= 0; at = r.slots.rows[at].next {
			if !yield(at) {
				return
			}
		}
	}
}

// partOf returns a text as a part of a longer one, where it is one: then it takes no room of its own.
func partOf(longer, text string) string {
	if at := strings.Index(longer, text); at >= 0 {
		return longer[at : at+len(text)]
	}
	return strings.Clone(text)
}

// follow takes over what a slot has of its device.
func (s *slot) follow(d *device) { s.site, s.family, s.owner = d.site, d.family, d.owner }

func (r *Roster) putSlot(s Slot) {
	of, known := r.devices.at[s.Device]
	if !known {
		return
	}
	at, known := r.slots.place(s.ID)
	row, texts := &r.slots.rows[at], &r.slots.texts[at]
	if !known {
		*row = slot{id: s.ID, device: of, next: r.devices.rows[of].first}
		r.devices.rows[of].first = at
		r.byName.moved(at, false)
	} else if texts.name != s.Name {
		r.byName.moved(at, true)
	}
	if !known || texts.address != s.Address || row.port != uint16(s.Port) {
		r.byAddress.moved(at, known)
	}
	row.signer, row.port = r.values.of(s.Signer), uint16(s.Port)
	texts.words, texts.name, texts.address = s.Words, r.values.text(s.Name), partOf(s.Words, s.Address)
	row.follow(&r.devices.rows[of])
	r.read(at, s.Seen)
}

// read takes over what a reading says.
func (r *Roster) read(at int32, s Seen) {
	row := &r.slots.rows[at]
	row.rank, row.notAfter, row.overdue, row.turnsAt = uint8(s.Rank), s.NotAfter, s.Overdue, s.TurnsAt
	row.finding, row.issuer = r.values.of(s.Finding), r.values.of(s.Issuer)
	row.keyType, row.signature = r.values.of(s.KeyType), r.values.of(s.Signature)
	texts := &r.slots.texts[at]
	texts.searchText, texts.above = s.SearchText, r.values.text(s.Above)
	if s.TurnsAt > 0 && (r.turns == 0 || s.TurnsAt < r.turns) {
		r.turns = s.TurnsAt
	}
	r.sum(row.device)
}

// sum finds the worst condition and the first end of a device's slots.
func (r *Roster) sum(at int32) {
	d := &r.devices.rows[at]
	d.worst, d.soonest = NoRank, 0
	for s := range r.slotsOf(d) {
		row := &r.slots.rows[s]
		d.worst = min(d.worst, row.rank)
		if row.notAfter > 0 && (d.soonest == 0 || row.notAfter < d.soonest) {
			d.soonest = row.notAfter
		}
	}
}

func (r *Roster) dropSlot(id int64) {
	at, known := r.slots.at[id]
	if !known {
		return
	}
	of := r.slots.rows[at].device
	for link := &r.devices.rows[of].first; *link >= 0; link = &r.slots.rows[*link].next {
		if *link == at {
			*link = r.slots.rows[at].next
			break
		}
	}
	r.byName.gone(at)
	r.byAddress.gone(at)
	r.slots.drop(id)
	r.sum(of)
}

func (r *Roster) dropDevice(id int64) {
	at, known := r.devices.at[id]
	if !known {
		return
	}
	for r.devices.rows[at].first >= 0 {
		r.dropSlot(r.slots.rows[r.devices.rows[at].first].id)
	}
	r.devicesByName.gone(at)
	r.devicesByAddress.gone(at)
	r.devices.drop(id)
}

// table is rows that keep their places while they live; those of rows that are gone are used again.
type table[R, T any] struct {
	rows  []R
	texts []T     // of each row, apart: so that a scan moves little memory
	ids   []int64 // 0: nothing stands there
	at    map[int64]int32
	free  []int32
}

func newTable[R, T any]() table[R, T] { return table[R, T]{at: map[int64]int32{}} }

// grow makes room for so many rows more.
func (t *table[R, T]) grow(by int) {
	t.rows, t.texts, t.ids = slices.Grow(t.rows, by), slices.Grow(t.texts, by), slices.Grow(t.ids, by)
	if len(t.at) == 0 {
		t.at = make(map[int64]int32, by)
	}
}

// place returns where the row of a number stands, or is to stand.
func (t *table[R, T]) place(id int64) (at int32, known bool) {
	if at, known = t.at[id]; known {
		return at, true
	}
	if n := len(t.free); n > 0 {
		at, t.free = t.free[n-1], t.free[:n-1]
		t.ids[at] = id
	} else {
		var none R
		var silent T
		at = int32(len(t.rows))
		t.rows, t.texts, t.ids = append(t.rows, none), append(t.texts, silent), append(t.ids, id)
	}
	t.at[id] = at
	return at, false
}

func (t *table[R, T]) drop(id int64) {
	var none R
	var silent T
	at := t.at[id]
	t.rows[at], t.texts[at], t.ids[at] = none, silent, 0
	delete(t.at, id)
	t.free = append(t.free, at)
}
