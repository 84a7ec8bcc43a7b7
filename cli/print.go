package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
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

// Table is a list for people or for csv.
type Table struct {
	Head []string
	Rows [][]any
}

// TableOf returns an empty table with these columns.
func TableOf(head ...string) Table { return Table{Head: head} }

// Add adds a row. A cell is a text, a number, a time or a condition: people and
// programs read the latter differently.
func (t *Table) Add(cells ...any) { t.Rows = append(t.Rows, cells) }

// seen returns a cell for people: conditions with their mark, times to the minute, those of other years to the day.
func seen(cell any) string {
	switch c := cell.(type) {
	case due.Condition:
		return Marked(string(c))
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
	case Day:
		return Date(c.Time)
	case Digest:
		return string(c[:16])
	case Fingerprint:
		return string(c)
	case Word:
		return Dash(string(c))
	case string:
		return Dash(c)
	}
	return fmt.Sprint(cell)
}

// plain returns a cell for programs: words, numbers and times in ISO 8601; what is not
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
	case Day:
		return plain(c.Time)
	case Digest:
		return string(c)
	}
	return fmt.Sprint(cell)
}

// Word is one of a few, such as a state.
type Word string

// Digest is a SHA-256 in hex of which people need to see the beginning alone.
type Digest string

// Fingerprint is a digest that people compare, to its last digit: where it does not fit, it stands below its row.
type Fingerprint string

// Day is a time of which people want to see the day alone.
type Day struct{ *time.Time }

// OnDay returns the day of a time; nil: there is none.
func OnDay(t *time.Time) Day { return Day{t} }

// Print writes a value in the form that was asked for: JSON is the API's, the
// table is for the eyes.
func (a *App) Print(value any, t Table) error {
	switch a.As {
	case "json":
		e := json.NewEncoder(Escaped{a.Out})
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(value)
	case "csv":
		w := csv.NewWriter(a.Out)
		w.Write(t.Head)
		for _, row := range t.Rows {
			w.Write(each(row, func(c any) string { return visible.Cell(plain(c)) }))
		}
		w.Flush()
		return w.Error()
	}
	t.write(a.Out, width(a.Out))
	return nil
}

// width returns how many columns there are: 80 where the output is no terminal.
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

// names are the columns by which people find a thing: they are never cut; kin are what it belongs to, cut last.
var (
	names = []string{"name", "device", "slot", "user", "id"}
	kin   = []string{"site", "signer", "credential", "trust-group"}
)

// write lays the table out in so many columns.
func (t Table) write(w io.Writer, columns int) {
	rows := [][]string{make([]string, len(t.Head))}
	for i, title := range t.Head {
		rows[0][i] = strings.ToUpper(strings.ReplaceAll(title, "_", " "))
	}
	for _, row := range t.Rows {
		rows = append(rows, each(row, func(c any) string { return visible.Line(seen(c)) }))
	}
	sizes := make([]int, len(t.Head))
	for _, row := range rows {
		for i, cell := range row {
			sizes[i] = max(sizes[i], utf8.RuneCountInString(cell))
		}
	}
	below := t.below(sizes, columns)
	if below >= 0 {
		sizes[below] = 0
	}
	t.fit(sizes, columns)
	if len(t.Head) == 2 && t.Head[1] == "value" {
		rows = wrapped(rows, sizes[1])
	}
	for at, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			switch {
			case i == below:
				continue
			case slices.Contains(kin, t.Head[i]):
				cell = Shorten(cell, sizes[i])
			default:
				cell = clip(cell, sizes[i])
			}
			line.WriteString(cell)
			line.WriteString(strings.Repeat(" ", sizes[i]-utf8.RuneCountInString(cell)+2))
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
		if below >= 0 && at > 0 {
			fmt.Fprintf(w, "  %s %s\n", strings.ToUpper(t.Head[below]), row[below])
		}
	}
}

// below returns the column of fingerprints that does not fit beside the others; -1: there is none.
func (t Table) below(sizes []int, columns int) int {
	wide := 2 * (len(sizes) - 1)
	for _, size := range sizes {
		wide += size
	}
	if wide <= columns || len(t.Rows) == 0 {
		return -1
	}
	return slices.IndexFunc(t.Rows[0], func(cell any) bool {
		_, is := cell.(Fingerprint)
		return is
	})
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

// least is what is left of a column that is cut.
const least = 10

// whole reports whether a column holds times, digests or words, of which a part says
// nothing.
func (t Table) whole(column int) bool {
	for _, row := range t.Rows {
		switch row[column].(type) {
		case time.Time, *time.Time, Day, Digest, Fingerprint, due.Condition, Word:
			return true
		}
	}
	return false
}

// fit makes columns narrower until the table fits, the broadest first: texts, then what a thing belongs to. What cannot
// be cut makes the table wider than the window.
func (t Table) fit(sizes []int, columns int) {
	over := 2*(len(sizes)-1) - columns
	for _, s := range sizes {
		over += s
	}
	texts := func(i int) bool {
		return !slices.Contains(names, t.Head[i]) && !slices.Contains(kin, t.Head[i]) && !t.whole(i)
	}
	for _, may := range []func(column int) bool{texts, func(i int) bool { return slices.Contains(kin, t.Head[i]) }} {
		for ; over > 0; over-- {
			broadest := -1
			for i := range t.Head {
				if may(i) && sizes[i] > least && (broadest < 0 || sizes[i] > sizes[broadest]) {
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

// Shorten leaves the beginning and the end of a text, which tell most.
func Shorten(text string, most int) string {
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
	"fresh": "●", string(NotReadYet): "○",
}

func Marked(condition string) string { return marks[condition] + " " + condition }

func Date(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return t.UTC().Format("2006-01-02")
}

func Moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") }

func PrintFindings(w io.Writer, indent string, found []finding.Finding) {
	for _, f := range found {
		Put(w, "%s%s: %s (%s)\n", indent, f.Severity, f.What, f.Code)
		Put(w, "%s  why:    %s\n", indent, f.Why)
		Put(w, "%s  remedy: %s\n", indent, Advice(f.Remedy, f.Actions))
	}
}

// Count writes a number with its noun.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "s") {
		noun += "e"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// When returns a moment, or nothing if it is unknown.
func When(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}

// Lasted returns a duration in its two largest units: 2.15 s, 12 min 4 s, 3 d 4 h.
func Lasted(seconds float64) string {
	if seconds < 60 {
		return fmt.Sprintf("%.2f s", seconds)
	}
	units := []struct {
		of   int
		name string
	}{{86400, "d"}, {3600, "h"}, {60, "min"}, {1, "s"}}
	left := int(math.Round(seconds))
	for i, u := range units[:3] {
		if left < u.of {
			continue
		}
		out := fmt.Sprintf("%d %s", left/u.of, u.name)
		if rest := left % u.of / units[i+1].of; rest > 0 {
			out += fmt.Sprintf(" %d %s", rest, units[i+1].name)
		}
		return out
	}
	return fmt.Sprintf("%d s", left)
}

func Yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func Dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

const NotReadYet due.Condition = "not read yet"
