package cli

import (
	"io"
	"time"

	"freshseal/core/next"

	"github.com/spf13/cobra"
)

// Host is what commands need that run the service beside the client: where output goes, and the clock.
type Host struct {
	Out, Err io.Writer
	Now      func() time.Time
	app      *app
}

// Commands are commands that are added to those of the client.
type Commands func(Host) []*cobra.Command

// Print prints a value as --as says: as a table, JSON or CSV.
func (h Host) Print(value any, t *Table) error { return h.app.print(value, t.table) }

// Table is a table for people and spreadsheets.
type Table struct{ table }

// TableOf returns an empty table with these columns.
func TableOf(head ...string) *Table { return &Table{table{head: head}} }

// Add adds a row.
func (t *Table) Add(cells ...any) { t.add(cells...) }

// Rows are its rows, to be sorted.
func (t *Table) Rows() [][]any { return t.rows }

// ClientFile says where a service is and how the client signs in to it.
type ClientFile = clientFile

// WriteClientFile writes a client's file that its owner alone can read.
func WriteClientFile(path string, f ClientFile) error { return writeClientFile(path, f) }

// Failed is an error for people: what failed, why, and what to do next. Misuse is one of the command line.
func Failed(what, why, say string) error { return failed(what, why, say) }

// Misuse is an error of the command line.
func Misuse(what, why, say string) error { return misuse(what, why, say) }

// Problem is an error for people with what to do next as data.
func Problem(what, why, say string, actions []next.Action) error {
	return failed(what, why, advice(say, actions))
}

// Put writes a text for people; what acts on a terminal in its arguments is made visible.
func Put(w io.Writer, format string, args ...any) { put(w, format, args...) }

// Putln writes a line for people.
func Putln(w io.Writer, parts ...any) { putln(w, parts...) }

// Noun is a command that only holds verbs.
func Noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	return noun(name, short, verbs...)
}

// Count writes a number with its noun.
func Count(n int, noun string) string { return count(n, noun) }
