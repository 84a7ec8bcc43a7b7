package procedure

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Run is a command on the device:
//
//   - run: "{{as}} gatectl import {{work}}/chain.pem"
//     stdin: store_passphrase
//     undo: gatectl import --previous
type Run struct {
	plainVerb
	Command string
	Stdin   string // what it gets as standard input
}

// RunAct is a command in its final form.
type RunAct struct {
	Command string
	Stdin   []byte
	shown   string
}

var _ = register("a command over SSH", func() Verb { return &Run{} })

func (*Run) Word() string    { return "run" }
func (v *Run) Title() string { return firstLine(placeholder.ReplaceAllString(v.Command, "$1")) }
func (*Run) Safe() bool      { return false }
func (*Run) Changes() Way    { return AsksWay }
func (*Run) Gives() Kind     { return Text }
func (*Run) Expects() bool   { return true }

func (v *Run) read(r *reader, n ast.Node) { v.Command = strings.TrimSpace(r.text(n)) }

func (v *Run) keys(r *reader) keys {
	return keys{"stdin": func(n ast.Node) { v.Stdin = r.content(n) }}
}

func (v *Run) uses() []use { return []use{{v.Command, inCommand}, {v.Stdin, inContent}} }

// Expand gives a *RunAct.
func (v *Run) Expand(scope *Scope) (Act, error) {
	command, err := expandCommand(v.Command, scope)
	if err != nil {
		return nil, err
	}
	stdin, err := expandContent(v.Stdin, scope)
	return &RunAct{command, stdin.bytes, stdin.shown}, err
}

// Line is the command.
func (a *RunAct) Line() string { return a.Command }

// Detail is the standard input.
func (a *RunAct) Detail() string {
	if a.shown == "" {
		return ""
	}
	return "standard input:\n" + a.shown
}

func firstLine(text string) string {
	line, rest, more := strings.Cut(strings.TrimSpace(text), "\n")
	if more && rest != "" {
		line += " …"
	}
	if len(line) > 70 {
		line = strings.ToValidUTF8(line[:68], "") + " …"
	}
	return line
}

// UsesWork says that the command names the work folder.
func (v *Run) UsesWork() bool {
	return slices.ContainsFunc(named(v.Command), func(name string) bool { return name == "work" || name == "before" })
}
