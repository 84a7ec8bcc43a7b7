package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"freshseal/core/finding"

	"golang.org/x/term"
)

// table is a list for people or for csv. The column that may give way when the
// screen is narrow is called wide.
type table struct {
	head []string
	wide int
	rows [][]string
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

// print writes a value in the form that was asked for: JSON is the API's, the
// table is for the eyes.
func (a *app) print(value any, t table) error {
	switch a.as {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(value)
	case "csv":
		w := csv.NewWriter(a.out)
		w.Write(t.head)
		w.WriteAll(t.rows)
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

// write lays the table out; the wide column is cut in its middle to fit.
func (t table) write(w io.Writer, columns int) {
	sizes := make([]int, len(t.head))
	for _, row := range append([][]string{t.head}, t.rows...) {
		for i, cell := range row {
			sizes[i] = max(sizes[i], utf8.RuneCountInString(cell))
		}
	}
	total := 2 * (len(sizes) - 1)
	for _, s := range sizes {
		total += s
	}
	if total > columns {
		sizes[t.wide] = max(12, sizes[t.wide]-(total-columns))
	}
	for n, row := range append([][]string{t.head}, t.rows...) {
		var line strings.Builder
		for i, cell := range row {
			if n == 0 {
				cell = strings.ToUpper(strings.ReplaceAll(cell, "_", " "))
			}
			cell = shorten(cell, sizes[i])
			line.WriteString(cell)
			if i < len(row)-1 {
				line.WriteString(strings.Repeat(" ", sizes[i]-utf8.RuneCountInString(cell)+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
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

// marks give each condition a shape of its own, so that colour is never needed.
var marks = map[string]string{
	"dark": "○", "lapsed": "✕", "stray": "?", "factory": "▣", "flawed": "▲", "overdue": "◆", "due": "◇", "fresh": "●",
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
		fmt.Fprintf(w, "%s%s: %s (%s)\n", indent, f.Severity, f.What, f.Code)
		fmt.Fprintf(w, "%s  why:    %s\n", indent, f.Why)
		fmt.Fprintf(w, "%s  remedy: %s\n", indent, f.Remedy)
	}
}

// count writes a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
