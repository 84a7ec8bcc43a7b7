package visible

import "strings"

// Cell returns the text as a cell of a table that a spreadsheet may open: a Line
// that is not taken for a formula.
func Cell(text string) string { return Guard(Line(text)) }

// Guard puts an apostrophe before a text that a spreadsheet would take for a
// formula, and before each part of it that would become a cell of its own where
// the spreadsheet parts cells at a semicolon, a tab or the end of a line, as many
// do by their country. Numbers stay as they are. Unguard(Guard(text)) is text.
func Guard(text string) string {
	return eachPart(text, func(part string) string {
		if formula(part) {
			return "'" + part
		}
		return part
	})
}

// Unguard takes away the apostrophes that Guard puts.
func Unguard(text string) string {
	return eachPart(text, func(part string) string {
		if rest, ok := strings.CutPrefix(part, "'"); ok && formula(rest) {
			return rest
		}
		return part
	})
}

// eachPart changes what is between semicolons, tabs and line ends.
func eachPart(text string, change func(string) string) string {
	var b strings.Builder
	for {
		i := strings.IndexAny(text, ";\t\r\n")
		if i < 0 {
			b.WriteString(change(text))
			return b.String()
		}
		b.WriteString(change(text[:i]))
		b.WriteByte(text[i])
		text = text[i+1:]
	}
}

// formula reports whether a text could be one, also behind blanks or apostrophes.
func formula(text string) bool {
	start := strings.TrimLeft(text, " \t\r\n'")
	return start != "" && strings.ContainsRune("=+-@", rune(start[0])) && !number(text)
}

func number(text string) bool {
	digits := strings.TrimLeft(text, "+-")
	return len(text)-len(digits) <= 1 && digits != "" && strings.Trim(digits, "0123456789.") == ""
}
