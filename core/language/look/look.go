// Package look decides what a device has in use, from what its addresses serve and from what the
// device itself says, and whether an undo may be sent.
//
//	what stood (read before the first change) ─┐
//	what is served or shown now ───────────────┼─→ before, new, other, unknown ─→ Guard: send, pass over, hold
//	the new leaf ──────────────────────────────┘
//
// "The one before" is not a state: a box that only has "previous" goes one certificate too far
// whenever nothing was changed. So nothing here asks what was done, only what is seen.
package look

import (
	"slices"
)

// Word is what a look answers.
type Word string

// The words.
const (
	Before  Word = "before"  // what stood before the first change
	New     Word = "new"     // the new certificate
	Other   Word = "other"   // a third one
	Unknown Word = "unknown" // it cannot be read, or what stood is not known
)

// The names of looks. Wire is always there; the others are what a step of the section look captures.
const (
	Wire     = "wire"     // what the addresses serve
	Now      = "now"      // in use, as the device says
	Next     = "next"     // served after its next restart; empty: the same as now
	Previous = "previous" // what one step back would restore
	Pending  = "pending"  // the request or public key whose key the device still holds
)

// Captured are the looks that a procedure can capture.
var Captured = []string{Now, Next, Previous, Pending}

// Nothing stands for a leaf where an address serves no TLS at all: it refuses connections, or speaks something else.
// That can be what stood, and then it is what the way back must end with.
const Nothing = "nothing"

// Place is what one address serves.
type Place struct {
	Stood  string // SHA-256 of the leaf that it served before the first change, or Nothing; empty: not known
	Serves string // SHA-256 of the leaf that it serves now, or Nothing; empty: it cannot be read
}

// Word returns what one address answers.
func (p Place) Word(new string) Word {
	switch {
	case p.Serves == "", p.Serves == Nothing && p.Stood != Nothing: // one that served a leaf may be restarting
		return Unknown
	case p.Serves == new:
		return New
	case p.Stood == "":
		return Unknown
	case p.Serves == p.Stood:
		return Before
	}
	return Other
}

// OnWire returns what several addresses answer together: other if one serves a third certificate, else
// new if one serves the new one, else unknown if one cannot be read, else before.
func OnWire(places []Place, new string) Word {
	words := make([]Word, len(places))
	for i, p := range places {
		words[i] = p.Word(new)
	}
	for _, word := range []Word{Other, New, Unknown} {
		if slices.Contains(words, word) {
			return word
		}
	}
	if len(words) == 0 {
		return Unknown
	}
	return Before
}

// Guard says which word each look must answer for an undo to be sent.
type Guard map[string]Word

// Verdict is what becomes of a guarded undo.
type Verdict int

// The verdicts.
const (
	Hold Verdict = iota // what is seen does not say; nothing is sent
	Send
	Pass // there is nothing to undo
)

// Decide compares a guard with what is seen: the undo is sent if every look reads the word given, and passed
// over if one reads the opposite (before, new). Anything else holds.
func (g Guard) Decide(seen map[string]Word) Verdict {
	verdict := Send
	for name, want := range g {
		switch got := seen[name]; {
		case got == want:
		case got == Before && want == New, got == New && want == Before:
			return Pass
		default:
			verdict = Hold
		}
	}
	return verdict
}

// Names returns the looks of a guard, wire first.
func (g Guard) Names() []string {
	var out []string
	for _, name := range append([]string{Wire}, Captured...) {
		if _, has := g[name]; has {
			out = append(out, name)
		}
	}
	return out
}

// String returns the guard as it is written.
func (g Guard) String() string { return written(g.Names(), func(name string) Word { return g[name] }) }

// Said returns what was seen of some looks, as it is written.
func Said(seen map[string]Word) string { return Guard(seen).String() }

func written(names []string, of func(string) Word) string {
	out := ""
	for i, name := range names {
		if i > 0 {
			out += ", "
		}
		out += name + ": " + string(of(name))
	}
	return out
}
