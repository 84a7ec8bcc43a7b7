package visible_test

import (
	"strings"
	"testing"
	"unicode/utf8"

	"freshseal/core/terminal/visible"
)

func TestWhatActsIsWrittenOut(t *testing.T) {
	for in, want := range map[string]string{
		"gate-1.mainquay.tidewrack.example": "gate-1.mainquay.tidewrack.example",
		"Hafenamt Nördlich, 港":              "Hafenamt Nördlich, 港",
		"a\r\nIs that the right one? [y/N]": `a\r\nIs that the right one? [y/N]`,
		"\x1b]0;title\x07\x1b[2J":           `\x1b]0;title\x07\x1b[2J`,
		"\u009b31m":                         `\u009b31m`,
		"\x9b31m":                           `\x9b31m`, // not UTF-8: some terminals take it for C1
		"gate\u202excod.exe":                `gate\u202excod.exe`,
		"\u2066x\u2069\u200f\u061c":         `\u2066x\u2069\u200f\u061c`,
		"a\u2028b\u200bc\ufeffd":            `a\u2028b\u200bc\ufeffd`,
		"a\U000e0041b\x7f":                  `a\U000e0041b\x7f`,
		"a\tb":                              `a\tb`,
		"\ufffd is itself":                  "\ufffd is itself",
	} {
		if got := visible.Line(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
	if got := visible.Text("one\n\ttwo\r\x1b[A"); got != "one\n    two\\r\\x1b[A" {
		t.Errorf("several lines: %q", got)
	}
}

// Whatever comes in, nothing that acts goes out.
func FuzzLine(f *testing.F) {
	f.Add("a\x1b[2J\u202e\xff")
	f.Fuzz(func(t *testing.T, text string) {
		for _, out := range []string{visible.Line(text), strings.ReplaceAll(visible.Text(text), "\n", "")} {
			if !utf8.ValidString(out) || strings.ContainsFunc(out, visible.Acts) {
				t.Errorf("%q becomes %q", text, out)
			}
			if len(out) > 10*len(text) {
				t.Errorf("%d bytes become %d", len(text), len(out))
			}
		}
	})
}

func TestACellIsNoFormulaAndComesBackAsItWas(t *testing.T) {
	for in, want := range map[string]string{
		"=HYPERLINK(\"http://x\")": "'=HYPERLINK(\"http://x\")", "@SUM(1)": "'@SUM(1)",
		"+1+cmd|' /C calc'!A0": "'+1+cmd|' /C calc'!A0", "-2+3": "'-2+3",
		" =1": "' =1", "\t=1": "\t'=1", "'=1": "''=1", "-12.5": "-12.5", "+49": "+49", "gate-1": "gate-1",
		"it's": "it's", "'quoted'": "'quoted'", "": "", "'": "'",
		// where a spreadsheet parts cells elsewhere, none of the parts is one
		"a;=1+1": "a;'=1+1", "a;b\t@x\n+y z;'=1": "a;b\t'@x\n'+y z;''=1", ";;": ";;", "a;-3": "a;-3",
	} {
		if got := visible.Guard(in); got != want || visible.Unguard(got) != in {
			t.Errorf("%q becomes %q and %q", in, got, visible.Unguard(got))
		}
	}
}

func FuzzGuard(f *testing.F) {
	f.Add("a;=1\t'=2\r\n'';@")
	f.Fuzz(func(t *testing.T, text string) {
		guarded := visible.Guard(text)
		if got := visible.Unguard(guarded); got != text {
			t.Errorf("%q becomes %q and comes back as %q", text, guarded, got)
		}
		for part := range strings.FieldsFuncSeq(guarded, func(r rune) bool {
			return strings.ContainsRune(";\t\r\n", r)
		}) {
			if part != "" && strings.ContainsRune("=@", rune(part[0])) {
				t.Errorf("%q has the part %q", guarded, part)
			}
		}
	})
}

func TestAFileKeepsItsLinesAndTabs(t *testing.T) {
	if got := visible.Kept("a\tb\n\x1b[2Jc\r\n"); got != "a\tb\n\\x1b[2Jc\\r\n" {
		t.Errorf("%q", got)
	}
}
