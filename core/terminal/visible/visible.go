// Package visible makes the characters of foreign text visible that would act on a
// terminal or hide what is there: control characters (C0, DEL, C1), line and
// bidirectional controls (Unicode Standard Annex 9), and bytes that are not UTF-8.
//
//	Line("gate\r\n\x1b[2Jweb")  →  gate\r\n\x1b[2Jweb, on one line, all of it letters
package visible

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Line returns the text on one line, with every acting character written as an
// escape: \n, \x1b, \u202e.
func Line(text string) string { return escape(text, false) }

// Text is Line for text of several lines: line feeds stay, and tabs become blanks.
func Text(text string) string { return escape(text, true) }

// Kept is Line for a text that is read again, such as a cell of a file: line feeds and tabs stay.
func Kept(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		cells := strings.Split(line, "\t")
		for n, cell := range cells {
			cells[n] = Line(cell)
		}
		lines[i] = strings.Join(cells, "\t")
	}
	return strings.Join(lines, "\n")
}

// Acts reports whether a character acts on a terminal or on the order of what stands
// around it.
func Acts(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r <= 0x9f: // C0, DEL, C1
		return true
	// bidirectional controls
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	case r == 0x200b, r == 0x2028, r == 0x2029, r == 0xfeff, r >= 0xe0000 && r <= 0xe007f: // no width, line ends, tags
		return true
	}
	return false
}

func escape(text string, lines bool) string {
	if clean(text) {
		return text
	}
	var b strings.Builder
	for len(text) > 0 {
		r, size := utf8.DecodeRuneInString(text)
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[0])
		case lines && r == '\n':
			b.WriteByte('\n')
		case lines && r == '\t':
			b.WriteString("    ")
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case Acts(r) && r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case Acts(r) && r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		case Acts(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		text = text[size:]
	}
	return b.String()
}

func clean(text string) bool {
	for i, r := range text {
		if Acts(r) || r == utf8.RuneError && !strings.HasPrefix(text[i:], "\ufffd") {
			return false
		}
	}
	return true
}
