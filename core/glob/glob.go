// Package glob compares texts with patterns in which * stands for any text.
package glob

import "strings"

// Match reports whether a whole text fits a pattern; upper and lower case are the same.
func Match(pattern, text string) bool {
	parts := strings.Split(strings.ToLower(pattern), "*")
	text = strings.ToLower(text)
	last := len(parts) - 1
	if last == 0 {
		return text == parts[0]
	}
	if len(text) < len(parts[0])+len(parts[last]) || !strings.HasPrefix(text, parts[0]) ||
		!strings.HasSuffix(text, parts[last]) {
		return false
	}
	text = text[len(parts[0]) : len(text)-len(parts[last])]
	for _, part := range parts[1:last] {
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return true
}
