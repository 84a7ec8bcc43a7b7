package procedure

import (
	"slices"
	"time"

	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Verb is what a step does. Each verb is a type with a file of its own, which
// registers it; its part of the runner is in the package device under the
// same word.
type Verb interface {
	Word() string      // its key in a step
	Title() string     // the name of a step that has none
	Link() string      // the link that it needs, or ""
	Safe() bool        // done twice is as good as done once
	Changes() Way      // what it does to the device, and who knows the way back
	Gives() value.Kind // of what it captures; "": it captures nothing
	Expects() bool     // expect means something
	Writes() string    // the path of the file that it changes, unexpanded, or ""
	Folder() bool      // where its link is SSH: it may need the work folder
	Limits() (usual, most time.Duration)
	Expand(*Scope) (Act, error)

	Read(r *Reader, n ast.Node)                    // the value behind its word
	Keys(r *Reader) Keys                           // the keys of its own
	Finish(r *Reader, n ast.Node, s *Step)         // what belongs together
	Uses() []Use                                   // the values that it names, and where
	Check(c *Checker, section Section, step *Step) // what only it can check
}

// Way says what a verb does to a device.
type Way int

// The ways.
const (
	Looks    Way = iota // it changes nothing
	KnowsWay            // it changes something and can undo it
	AsksWay             // it may change something; the step must say how it is undone
)

// verbs are all verbs by their word; each file adds its own.
var verbs = map[string]func() Verb{}

// about says in a line what each verb does.
var about = map[string]string{}

func Register(what string, start func() Verb) bool {
	word := start().Word()
	verbs[word], about[word] = start, what
	return true
}

// Verbs returns the words of all verbs with a line about each, in alphabetical order.
func Verbs() (words []string, abouts map[string]string) {
	for word := range verbs {
		words = append(words, word)
	}
	slices.Sort(words)
	return words, about
}

// Place is where a value stands, and so what may stand there.
type Place string

const (
	InCommand Place = "a command"
	InPath    Place = "a path"
	InContent Place = "a file's content"
	InRule    Place = "an edit"
	InWords   Place = "a text for people"
	InAnswer  Place = "a line of a dialog"
	InURL     Place = "an address"
	InHeader  Place = "a header"
	InBody    Place = "what is sent"
	InWhole   Place = "a place that takes a file" // exactly one value of the kind content
)

// Use is a text with values, and the place it is in.
type Use struct {
	Text  string
	Place Place
}

// PlainVerb has the usual answers of a verb.
type PlainVerb struct{}

func (PlainVerb) Link() string                    { return SSH }
func (PlainVerb) Folder() bool                    { return true }
func (PlainVerb) Safe() bool                      { return true }
func (PlainVerb) Changes() Way                    { return Looks }
func (PlainVerb) Gives() value.Kind               { return "" }
func (PlainVerb) Expects() bool                   { return false }
func (PlainVerb) Writes() string                  { return "" }
func (PlainVerb) Keys(*Reader) Keys               { return nil }
func (PlainVerb) Limits() (_, _ time.Duration)    { return DefaultLimit, 2 * time.Hour }
func (PlainVerb) Finish(*Reader, ast.Node, *Step) {}
func (PlainVerb) Check(*Checker, Section, *Step)  {}
