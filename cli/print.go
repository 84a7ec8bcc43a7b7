package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/terminal/visible"

	"golang.org/x/term"
)

// table is a list for people or for csv.
type table struct {
	head []string
	rows [][]any
}

// add adds a row. A cell is a text, a number, a time or a condition: people and
// programs read the latter differently.
func (t *table) add(cells ...any) { t.rows = append(t.rows, cells) }

// seen is a cell for people: conditions with their mark, times to the minute, those of other years to the day.
func seen(cell any) string {
	switch c := cell.(type) {
	case due.Condition:
		return marked(string(c))
	case time.Time:
		if far := time.Since(c).Abs(); far > 300*24*time.Hour {
			return c.UTC().Format("2006-01-02")
		}
		return c.UTC().Format("01-02 15:04")
	case *time.Time:
		if c == nil {
			return "-"
		}
		return seen(*c)
	case day:
		return date(c.Time)
	case digest:
		return string(c[:16])
	case word:
		return dash(string(c))
	case string:
		return dash(c)
	}
	return fmt.Sprint(cell)
}

// plain is a cell for programs: words, numbers and times in ISO 8601; what is not
// there is empty.
func plain(cell any) string {
	switch c := cell.(type) {
	case time.Time:
		return c.UTC().Format(time.RFC3339)
	case *time.Time:
		if c == nil {
			return ""
		}
		return plain(*c)
	case day:
		return plain(c.Time)
	case digest:
		return string(c)
	}
	return fmt.Sprint(cell)
}

// word is one of a few, such as a state.
type word string

// digest is a SHA-256 in hex of which people need to see the beginning alone.
type digest string

// day is a time of which people want to see the day alone.
type day struct{ *time.Time }

// print writes a value in the form that was asked for: JSON is the API's, the
// table is for the eyes.
func (a *app) print(value any, t table) error {
	switch a.as {
	case "json":
		e := json.NewEncoder(escaped{a.out})
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(value)
	case "csv":
		w := csv.NewWriter(a.out)
		w.Write(t.head)
		for _, row := range t.rows {
			w.Write(each(row, func(c any) string { return visible.Cell(plain(c)) }))
		}
		w.Flush()
		return w.Error()
	}
	t.write(a.out, width(a.out))
	return nil
}

// width is how many columns there are: 80 where the output is no terminal.
func width(w io.Writer) int {
	if f, ok := w.(*os.File); ok {
		if columns, _, err := term.GetSize(int(f.Fd())); err == nil && columns > 40 {
			return columns
		}
	}
	return 80
}

func each(row []any, form func(any) string) []string {
	out := make([]string, len(row))
	for i, cell := range row {
		out[i] = form(cell)
	}
	return out
}

// names are the columns by which people find a thing: they are cut last.
var names = []string{"name", "device", "slot", "user", "site", "signer", "credential", "trust-group", "id"}

// write lays the table out in so many columns.
func (t table) write(w io.Writer, columns int) {
	rows := [][]string{make([]string, len(t.head))}
	for i, title := range t.head {
		rows[0][i] = strings.ToUpper(strings.ReplaceAll(title, "_", " "))
	}
	for _, row := range t.rows {
		rows = append(rows, each(row, func(c any) string { return visible.Line(seen(c)) }))
	}
	sizes := make([]int, len(t.head))
	for _, row := range rows {
		for i, cell := range row {
			sizes[i] = max(sizes[i], utf8.RuneCountInString(cell))
		}
	}
	t.fit(sizes, columns)
	if len(t.head) == 2 && t.head[1] == "value" {
		rows = wrapped(rows, sizes[1])
	}
	for _, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			if slices.Contains(names, t.head[i]) {
				cell = shorten(cell, sizes[i])
			} else {
				cell = clip(cell, sizes[i])
			}
			line.WriteString(cell)
			if i < len(row)-1 {
				line.WriteString(strings.Repeat(" ", sizes[i]-utf8.RuneCountInString(cell)+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

// wrapped goes on with long values on lines of their own: a value that is cut is of
// no use.
func wrapped(rows [][]string, width int) [][]string {
	var out [][]string
	for _, row := range rows {
		what, rest := row[0], []rune(row[1])
		for len(rest) > width {
			at := strings.LastIndexByte(string(rest[:width]), ' ')
			if at = utf8.RuneCountInString(string(rest[:width])[:max(at, 0)]); at < width/2 {
				at = width
			}
			out = append(out, []string{what, string(rest[:at])})
			what, rest = "", []rune(strings.TrimLeft(string(rest[at:]), " "))
		}
		out = append(out, []string{what, string(rest)})
	}
	return out
}

// The least that is left of a column: of a name, what tells it from others.
const leastText, leastName = 12, 20

// whole says that a column holds times, digests or words, of which a part says
// nothing.
func (t table) whole(column int) bool {
	for _, row := range t.rows {
		switch row[column].(type) {
		case time.Time, *time.Time, day, digest, due.Condition, word:
			return true
		}
	}
	return false
}

// fit makes columns narrower until the table fits, the broadest first: texts, and
// names last.
func (t table) fit(sizes []int, columns int) {
	over := 2*(len(sizes)-1) - columns
	for _, s := range sizes {
		over += s
	}
	texts := func(i int) bool { return !slices.Contains(names, t.head[i]) && !t.whole(i) }
	for _, step := range []struct {
		may   func(column int) bool
		least int
	}{{texts, leastText}, {func(i int) bool { return slices.Contains(names, t.head[i]) }, leastName}} {
		for ; over > 0; over-- {
			broadest := -1
			for i := range t.head {
				if step.may(i) && sizes[i] > step.least && (broadest < 0 || sizes[i] > sizes[broadest]) {
					broadest = i
				}
			}
			if broadest < 0 {
				break
			}
			sizes[broadest]--
		}
	}
}

// shorten leaves the beginning and the end of a text, which tell most.
func shorten(text string, most int) string {
	runes := []rune(text)
	if len(runes) <= most {
		return text
	}
	head := (most - 1) / 2
	return string(runes[:head]) + "…" + string(runes[len(runes)-(most-1-head):])
}

// clip leaves the beginning of a text.
func clip(text string, most int) string {
	runes := []rune(text)
	if len(runes) <= most {
		return text
	}
	return string(runes[:most-1]) + "…"
}

// marks give each condition a shape of its own, so that colour is never needed.
var marks = map[string]string{
	"unreachable": "○", "expired": "✕", "unexpected": "?", "factory": "▣", "flawed": "▲", "overdue": "◆", "due": "◇",
	"fresh": "●", string(notReadYet): "○",
}

func marked(condition string) string { return marks[condition] + " " + condition }

func date(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return t.UTC().Format("2006-01-02")
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") }

func printFindings(w io.Writer, indent string, found []finding.Finding) {
	for _, f := range found {
		put(w, "%s%s: %s (%s)\n", indent, f.Severity, f.What, f.Code)
		put(w, "%s  why:    %s\n", indent, f.Why)
		put(w, "%s  remedy: %s\n", indent, advice(f.Remedy, f.Actions))
	}
}

// count writes a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "s") {
		noun += "e"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
