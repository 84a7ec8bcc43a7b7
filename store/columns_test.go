package store

import "testing"

// What the roster takes of JSON without reading all of it is there, or nothing is: never a piece of something else.
func TestAColumnIsQuotedOrEmpty(t *testing.T) {
	for _, c := range [][3]string{
		{`[{"code":"expired","what":"x"}]`, `[{"code":"`, "expired"}, {`[]`, `[{"code":"`, ""}, {`null`, `[{"code":"`, ""},
		{`["aa","bb"]`, `["`, "aa"}, {`[]`, `["`, ""}, {`null`, `["`, ""}, {``, `["`, ""},
	} {
		if got := quoted(c[0], c[1]); got != c[2] {
			t.Errorf("%s: %q", c[0], got)
		}
	}
}
