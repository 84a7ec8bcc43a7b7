package glob_test

import (
	"testing"

	"freshseal/core/glob"
)

func TestAPatternFitsTheWholeText(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		fits          bool
	}{
		{"gate", "gate", true}, {"gate", "gates", false}, {"GATE*", "gates", true}, {"*gate", "the Gate", true},
		{"*", "", true}, {"", "", true}, {"", "x", false},
		{"a*b*c", "abc", true}, {"a*b*c", "a-bb-c", true}, {"a*b*c", "acb", false}, {"ab*ba", "aba", false},
		{"*a*a*", "a", false}, {"*O=Brinewell*", "CN=x,O=Brinewell", true},
	} {
		if glob.Match(c.pattern, c.text) != c.fits {
			t.Errorf("%q and %q: want %t", c.pattern, c.text, c.fits)
		}
	}
}
