package roster

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/judgement/due"
)

// SlotFilter narrows a list of slots; empty fields do not.
type SlotFilter struct {
	Condition due.Condition
	Device    string
	Site      string
	Family    string // "-": those of devices that have none
	Tag       string
	Owner     string
	Signer    string // who signed what the last replacement installed
	Issuer    string // of the leaf, by its short name
	KeyType   string // of the leaf: ECDSA P-256
	Signature string // algorithm by which the leaf is signed
	Ends      string // when the leaf ends, see Period
	Serves    string // SHA-256 of a certificate of the path: the leaf, an intermediate or the root
	Text      string // somewhere in the names, addresses, owner, tags, notes, subject, serial number or fingerprints
}

// DeviceFilter narrows a list of devices; empty fields do not.
type DeviceFilter struct {
	Condition due.Condition // the worst of its slots
	Site      string
	Family    string // "-": those that have none
	Cluster   string
	Tag       string
	Owner     string
	Text      string // somewhere in the name, site, address, owner, tags, notes or cluster
}

// Period returns the moments between which a text says that certificates end, in milliseconds since 1970: a month
// (2027-03), a day (2027-03-14), "ended", or some days from now on with all that have ended (7d).
func Period(text string, now int64) (from, until int64, ok bool) {
	if month, err := time.Parse("2006-01", text); err == nil {
		return month.UnixMilli(), month.AddDate(0, 1, 0).UnixMilli(), true
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.UnixMilli(), day.AddDate(0, 0, 1).UnixMilli(), true
	}
	if text == "ended" {
		return 1, now, true
	}
	number, isDays := strings.CutSuffix(text, "d")
	n, err := strconv.Atoi(number)
	if !isDays || err != nil || n < 0 || n > 36_500 {
		return 0, 0, false
	}
	return 1, now + int64(n)*day, true
}

// all combines tests of a row into one, which reports whether every one holds.
func all(tests []func(at int32) bool) func(at int32) bool {
	switch len(tests) {
	case 0:
		return func(int32) bool { return true }
	case 1:
		return tests[0]
	}
	return func(at int32) bool {
		for _, holds := range tests {
			if !holds(at) {
				return false
			}
		}
		return true
	}
}

// column is a column of values, and the text that a filter wants in it.
type column[R any] struct {
	wanted string
	of     func(*R) value
	dash   bool // "-" wants the empty text
}

// having makes the tests of columns; !ok: no row can fit.
func having[R, T any](r *Roster, t *table[R, T], columns []column[R]) (tests []func(at int32) bool, ok bool) {
	for _, c := range columns {
		if c.wanted == "" {
			continue
		}
		wanted, known := r.values.number[c.wanted]
		if c.dash && c.wanted == "-" {
			wanted, known = 0, true
		}
		if !known {
			return nil, false
		}
		tests = append(tests, func(at int32) bool { return c.of(&t.rows[at]) == wanted })
	}
	return tests, true
}

// slotsThat makes the test of a filter, cheap conditions first; nil: no slot can fit.
func (r *Roster) slotsThat(f SlotFilter, now int64) func(at int32) bool {
	tests, ok := having(r, &r.slots, []column[slot]{
		{wanted: f.Site, of: func(s *slot) value { return s.site }},
		{wanted: f.Owner, of: func(s *slot) value { return s.owner }},
		{wanted: f.Signer, of: func(s *slot) value { return s.signer }},
		{wanted: f.Issuer, of: func(s *slot) value { return s.issuer }},
		{wanted: f.KeyType, of: func(s *slot) value { return s.keyType }},
		{wanted: f.Signature, of: func(s *slot) value { return s.signature }},
		{wanted: f.Family, of: func(s *slot) value { return s.family }, dash: true},
	})
	if !ok {
		return nil
	}
	row, texts := r.slots.rows, r.slots.texts
	if f.Condition != "" {
		rank := uint8(f.Condition.Rank())
		tests = append(tests, func(at int32) bool { return row[at].rank == rank })
	}
	if from, until, ok := Period(f.Ends, now); ok {
		tests = append(tests, func(at int32) bool { return row[at].notAfter >= from && row[at].notAfter < until })
	}
	if f.Device != "" {
		place, known := r.deviceNamed(f.Device)
		if !known {
			return nil
		}
		of := r.devicesByName.rows[place]
		tests = append(tests, func(at int32) bool { return row[at].device == of })
	}
	if f.Tag != "" {
		tag, known := r.values.number[f.Tag]
		if !known {
			return nil
		}
		tests = append(tests, r.onDevice(func(d *deviceTexts) bool { return slices.Contains(d.tags, tag) }))
	}
	if f.Serves != "" {
		print := newFinder(strings.ToLower(f.Serves))
		above := print.again()
		tests = append(tests, func(at int32) bool { return print.in(texts[at].searchText) || above(texts[at].above) })
	}
	if text := needle(f.Text); text != "" {
		text := newFinder(text)
		above, device := text.again(), r.onDevice(func(d *deviceTexts) bool { return text.in(d.words) })
		tests = append(tests, func(at int32) bool {
			return text.in(texts[at].words) || text.in(texts[at].searchText) || above(texts[at].above) || device(at)
		})
	}
	return all(tests)
}

// onDevice tests slots by their devices, each device once.
func (r *Roster) onDevice(holds func(*deviceTexts) bool) func(at int32) bool {
	known := make([]uint8, len(r.devices.rows)) // 1: it does not, 2: it does
	return func(at int32) bool {
		of := r.slots.rows[at].device
		if known[of] == 0 {
			known[of] = 1
			if holds(&r.devices.texts[of]) {
				known[of] = 2
			}
		}
		return known[of] == 2
	}
}

// finder looks for a text in very many others. It goes from one occurrence of the text's rarest byte to the next:
// names and fingerprints are full of hexadecimal digits.
type finder struct {
	text string
	rare int // where that byte stands in the text
}

// common are the bytes of words, the most frequent first.
const common = "0123456789abcdef.- eitnrsolw/="

func newFinder(text string) finder {
	f := finder{text: text}
	rarity := func(at int) int {
		if i := strings.IndexByte(common, text[at]); i >= 0 {
			return i
		}
		return len(common)
	}
	for at := range len(text) {
		if rarity(at) > rarity(f.rare) {
			f.rare = at
		}
	}
	return f
}

// in reports whether the text is in another. The text must not be empty.
func (f finder) in(other string) bool {
	for from := f.rare; from < len(other); {
		next := strings.IndexByte(other[from:], f.text[f.rare])
		if next < 0 {
			return false
		}
		from += next
		begin := from - f.rare
		if begin+len(f.text) > len(other) {
			return false
		}
		if other[begin:begin+len(f.text)] == f.text {
			return true
		}
		from++
	}
	return false
}

// again is in for texts of which the same come again and again.
func (f finder) again() func(other string) bool {
	known := map[string]bool{}
	return func(other string) bool {
		if other == "" {
			return false
		}
		has, looked := known[other]
		if !looked {
			has = f.in(other)
			known[other] = has
		}
		return has
	}
}

// needle returns a text as it is looked for: a fingerprint or a serial number with colons or
// blanks is written without.
func needle(text string) string {
	text = strings.ToLower(strings.TrimSpace(text))
	bare := strings.NewReplacer(":", "", " ", "").Replace(text)
	if len(bare) >= 8 && strings.Trim(bare, "0123456789abcdef") == "" && strings.ContainsAny(text, ": ") {
		return bare
	}
	return text
}

// devicesThat makes the test of a filter; nil: no device can fit.
func (r *Roster) devicesThat(f DeviceFilter) func(at int32) bool {
	tests, ok := having(r, &r.devices, []column[device]{
		{wanted: f.Site, of: func(d *device) value { return d.site }},
		{wanted: f.Owner, of: func(d *device) value { return d.owner }},
		{wanted: f.Cluster, of: func(d *device) value { return d.cluster }},
		{wanted: f.Family, of: func(d *device) value { return d.family }, dash: true},
	})
	if !ok {
		return nil
	}
	if f.Condition != "" {
		rank := uint8(f.Condition.Rank())
		tests = append(tests, func(at int32) bool { return r.devices.rows[at].worst == rank })
	}
	if f.Tag != "" {
		tag, known := r.values.number[f.Tag]
		if !known {
			return nil
		}
		tests = append(tests, func(at int32) bool { return slices.Contains(r.devices.texts[at].tags, tag) })
	}
	if text := strings.ToLower(f.Text); text != "" {
		text := newFinder(text)
		tests = append(tests, func(at int32) bool { return text.in(r.devices.texts[at].words) })
	}
	return all(tests)
}
