package roster

import (
	"cmp"
	"slices"
	"strings"
)

// value is the number of a text by which rows are filtered: a site, a family, an owner, a tag. 0 is the empty text.
type value uint32

// values exchanges texts for numbers, and knows the order of the texts.
type values struct {
	texts  []string
	number map[string]value
	order  []value // by text
	places []int64 // of each value in that order
	shared map[string]string
	sets   map[string][]value
}

func newValues() values {
	return values{texts: []string{""}, number: map[string]value{"": 0}, order: []value{0}, places: []int64{0},
		shared: map[string]string{}, sets: map[string][]value{}}
}

// of returns the number of a text; a new text gets one.
func (v *values) of(text string) value {
	n, known := v.number[text]
	if !known {
		n, text = value(len(v.texts)), strings.Clone(text) // it may be a piece of a longer one
		v.texts, v.number[text] = append(v.texts, text), n
	}
	return n
}

// text returns the text itself, kept once however many rows have it.
func (v *values) text(text string) string {
	kept, known := v.shared[text]
	if !known {
		kept = strings.Clone(text) // it may be a piece of a longer one
		v.shared[kept] = kept
	}
	return kept
}

// set returns the numbers of some texts, kept once however many rows have the same.
func (v *values) set(texts []string) []value {
	if len(texts) == 0 {
		return nil
	}
	key := strings.Join(texts, "\x00")
	kept, known := v.sets[key]
	if !known {
		for _, text := range texts {
			kept = append(kept, v.of(text))
		}
		v.sets[key] = kept
	}
	return kept
}

// settle sorts the texts that came.
func (v *values) settle() {
	if len(v.order) == len(v.texts) {
		return
	}
	for n := len(v.order); n < len(v.texts); n++ {
		v.order = append(v.order, value(n))
	}
	slices.SortFunc(v.order, v.compare)
	v.places = make([]int64, len(v.texts))
	for place, n := range v.order {
		v.places[n] = int64(place)
	}
}

func (v *values) compare(x, y value) int { return cmp.Compare(v.texts[x], v.texts[y]) }

// bound returns the place of a text among all, and whether it is one of them: where it is not, the place of the first
// behind it.
func (v *values) bound(text string) (place int64, known bool) {
	at, known := slices.BinarySearchFunc(v.order, text, func(n value, text string) int {
		return cmp.Compare(v.texts[n], text)
	})
	return int64(at), known
}
