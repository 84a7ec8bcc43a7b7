// Package verb has the verbs of the procedure language: each is a type in a file of its own that registers itself, so
// that the parser, the check and the rehearsal ask it. Whoever parses procedures imports this package.
package verb

import (
	"slices"
	"strings"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Run is a command on the device:
//
//   - run: "{{as}} gatectl import {{work}}/chain.pem"
//     stdin: store_passphrase
//     undo: gatectl import --previous
type Run struct {
	procedure.PlainVerb
	Command string
	Stdin   string // what it gets as standard input
}

// RunAct is a command in its final form.
type RunAct struct {
	Command string
	Stdin   []byte
	shown   string
}

var _ = procedure.Register("a command over SSH", func() procedure.Verb { return &Run{} })

func (*Run) Word() string { return "run" }
func (v *Run) Title() string {
	return procedure.FirstLine(value.Placeholder.ReplaceAllString(v.Command, "$1"))
}
func (*Run) Safe() bool             { return false }
func (*Run) Changes() procedure.Way { return procedure.AsksWay }
func (*Run) Gives() value.Kind      { return value.Text }
func (*Run) Expects() bool          { return true }

func (v *Run) Read(r *procedure.Reader, n ast.Node) { v.Command = strings.TrimSpace(r.Text(n)) }

func (v *Run) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{"stdin": func(n ast.Node) { v.Stdin = r.Content(n) }}
}

func (v *Run) Uses() []procedure.Use {
	return []procedure.Use{{Text: v.Command, Place: procedure.InCommand}, {Text: v.Stdin, Place: procedure.InContent}}
}

// Expand returns a *RunAct.
func (v *Run) Expand(scope *procedure.Scope) (procedure.Act, error) {
	command, err := procedure.ExpandCommand(v.Command, scope)
	if err != nil {
		return nil, err
	}
	stdin, err := procedure.ExpandContent(v.Stdin, scope)
	return &RunAct{command, stdin.Bytes, stdin.Shown}, err
}

// Line returns the command.
func (a *RunAct) Line() string { return a.Command }

// Detail returns the standard input.
func (a *RunAct) Detail() string {
	if a.shown == "" {
		return ""
	}
	return "standard input:\n" + a.shown
}

// UsesWork reports whether the command names the work folder.
func (v *Run) UsesWork() bool {
	return slices.ContainsFunc(value.Named(v.Command), func(name string) bool {
		return name == "work" || name == "before"
	})
}

func (v *Run) Refusals(r *procedure.Reader, s *procedure.Step) func(ast.Node) {
	return func(n ast.Node) {
		e := r.Expect(n)
		if s.Refused.Output = &e; e.Exit == nil {
			r.Fault(n, "write its exit codes, such as refused: {exit: 2}", "refused does not say with which "+
				"exit code the command refuses")
		}
	}
}
