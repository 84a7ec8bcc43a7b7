package visible

import "strings"

// Cell returns the text as a cell of a table that a spreadsheet may open: a Line
// that is not taken for a formula.
func Cell(text string) string { return Guard(Line(text)) }

// Guard puts an apostrophe before a text that a spreadsheet would take for a
// formula. Numbers stay as they are. Unguard(Guard(text)) is text.
func Guard(text string) string {
	if formula(text) {
		return "'" + text
	}
	return text
}

// Unguard takes away the apostrophe that Guard puts.
func Unguard(text string) string {
	if rest, ok := strings.CutPrefix(text, "'"); ok && formula(rest) {
		return rest
	}
	return text
}

// formula says that a text could be one, also behind blanks or apostrophes.
func formula(text string) bool {
	start := strings.TrimLeft(text, " \t\r\n'")
	return start != "" && strings.ContainsRune("=+-@", rune(start[0])) && !number(text)
}

func number(text string) bool {
	digits := strings.TrimLeft(text, "+-")
	return len(text)-len(digits) <= 1 && digits != "" && strings.Trim(digits, "0123456789.") == ""
}
