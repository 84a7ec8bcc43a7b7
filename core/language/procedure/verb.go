package procedure

import (
	"slices"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// Verb is what a step does. Each verb is a type with a file of its own, which
// registers it; its part of the runner stands in the package device under the
// same word.
type Verb interface {
	Word() string   // its key in a step
	Title() string  // the name of a step that has none
	Link() string   // the link that it needs, or ""
	Safe() bool     // done twice is as good as done once
	Changes() Way   // what it does to the device, and who knows the way back
	Gives() Kind    // of what it captures; "": it captures nothing
	Expects() bool  // expect means something
	Writes() string // the path of the file that it changes, unexpanded, or ""
	Limits() (usual, most time.Duration)
	Expand(*Scope) (Act, error)

	read(r *reader, n ast.Node)                    // the value behind its word
	keys(r *reader) keys                           // the keys of its own
	finish(r *reader, n ast.Node, s *Step)         // what belongs together
	uses() []use                                   // the values that it names, and where
	check(c *checker, section Section, step *Step) // what only it can check
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

func register(what string, start func() Verb) bool {
	word := start().Word()
	verbs[word], about[word] = start, what
	return true
}

// Verbs are the words of all verbs with a line about each, in alphabetical order.
func Verbs() (words []string, abouts map[string]string) {
	for word := range verbs {
		words = append(words, word)
	}
	slices.Sort(words)
	return words, about
}

// place is where a value stands, and so what may stand there.
type place string

const (
	inCommand place = "a command"
	inPath    place = "a path"
	inContent place = "a file's content"
	inRule    place = "an edit"
	inWords   place = "a text for people"
	inAnswer  place = "a line of a dialog"
	inURL     place = "an address"
	inHeader  place = "a header"
	inBody    place = "what is sent"
	inWhole   place = "a place that takes a file" // exactly one value of the kind content
)

// use is a text with values, and the place it stands in.
type use struct {
	text  string
	place place
}

// plainVerb has the usual answers of a verb.
type plainVerb struct{}

func (plainVerb) Link() string                    { return SSH }
func (plainVerb) Safe() bool                      { return true }
func (plainVerb) Changes() Way                    { return Looks }
func (plainVerb) Gives() Kind                     { return "" }
func (plainVerb) Expects() bool                   { return false }
func (plainVerb) Writes() string                  { return "" }
func (plainVerb) keys(*reader) keys               { return nil }
func (plainVerb) Limits() (_, _ time.Duration)    { return DefaultLimit, 2 * time.Hour }
func (plainVerb) finish(*reader, ast.Node, *Step) {}
func (plainVerb) check(*checker, Section, *Step)  {}
