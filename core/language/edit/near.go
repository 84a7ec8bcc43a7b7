package edit

import (
	"fmt"
	"regexp"
	"strings"
)

// mostNear is how many lines are shown where none matches.
const mostNear = 3

// words are those of a pattern or a directive by which similar lines are found.
var words = regexp.MustCompile(`[A-Za-z][A-Za-z_]{2,}`)

// near tells what is there if nothing matches: the lines that share a word, or how many lines there are.
func (d *document) near(pattern string, from, until int) string {
	var out []string
	for _, word := range words.FindAllString(pattern, -1) {
		for i := from; i < until && len(out) < mostNear; i++ {
			line := strings.TrimSpace(plain(d.lines[i]))
			shown := fmt.Sprintf("%d: %.80s", i+1, line)
			if strings.Contains(strings.ToLower(line), strings.ToLower(word)) &&
				!strings.Contains(strings.Join(out, "\n")+"\n", shown+"\n") {
				out = append(out, shown)
			}
		}
	}
	if len(out) == 0 {
		return fmt.Sprintf("; none of its %d lines is like it", until-from)
	}
	return "; like it are “" + strings.Join(out, "”, “") + "”"
}
