package verb

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// File puts a file onto the device, whole or not at all, with the owner and mode
// of the one that stood there. It is undone by itself: the old file is kept in
// the work folder before, and put back.
//
//   - file: key_file
//     holds: new_key
//     mode: 0600           # of a file that was not there before
//     owner: "www:www"     # chown takes it; if nothing is said, that of the old file
//   - file: /etc/quay/both.pem
//     holds: [leaf_first, new_key]   # one file of several, each from the start of a line
type File struct {
	procedure.PlainVerb
	Path  string
	Holds []string
	Mode  uint32 // permission bits; 0: those of the old file, or 0600
	Owner string // empty: that of the old file
}

// FileAct is a file in its final form.
type FileAct struct {
	Path    string
	Content []byte
	From    string     // the device's own file that it is copied from, instead of Content
	Parts   []FilePart // instead of both: what it is made of, where one of them is a file of the device
	Mode    uint32
	Owner   string // USER or USER:GROUP; empty: that of the old file
	shown   string
	later   bool // some of it is yet to come, as in a rehearsal
}

// FilePart is a part of a file: a content, or another file of the device.
type FilePart struct {
	Content []byte
	From    string
}

var _ = procedure.Register("a file onto the device, whole or not at all", func() procedure.Verb { return &File{} })

func (*File) Word() string           { return "file" }
func (*File) Changes() procedure.Way { return procedure.KnowsWay }
func (v *File) Writes() string       { return v.Path }
func (v *File) Title() string {
	return "write " + value.Placeholder.ReplaceAllString(v.Path, "$1")
}

func (v *File) Read(r *procedure.Reader, n ast.Node) { v.Path = r.Path(n) }

func (v *File) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{
		"holds": func(n ast.Node) {
			for _, each := range r.Nodes(n) {
				v.Holds = append(v.Holds, r.Content(each))
			}
		},
		"mode":  func(n ast.Node) { v.Mode = readMode(r, n) },
		"owner": func(n ast.Node) { v.Owner = r.Text(n) },
	}
}

func (v *File) Finish(r *procedure.Reader, n ast.Node, _ *procedure.Step) {
	if len(v.Holds) == 0 || slices.Contains(v.Holds, "") {
		r.Fault(n, "add holds: with a value's name, such as leaf_first, or a text", "file does not say what the "+
			"file holds")
	}
}

func (v *File) Uses() []procedure.Use {
	out := []procedure.Use{{Text: v.Path, Place: procedure.InPath}, {Text: v.Owner, Place: procedure.InRule}}
	for _, each := range v.Holds {
		out = append(out, procedure.Use{Text: each, Place: procedure.InContent})
	}
	return out
}

// Check checks that a key that the device made is a part of its own: it stays there, and is joined there.
func (v *File) Check(c *procedure.Checker, _ procedure.Section, step *procedure.Step) {
	for _, each := range v.Holds {
		if strings.Contains(each, "{{new_key}}") && each != "{{new_key}}" && !c.P.Traits.KeyGiven {
			c.FaultAt(step, "new_key", "write holds: [leaf_first, new_key], in the order that the device wants",
				"the key that the device made cannot stand in a text with other values")
		}
	}
}

// Expand returns a *FileAct.
func (v *File) Expand(scope *procedure.Scope) (procedure.Act, error) {
	path, err := procedure.ExpandPath(v.Path, scope)
	if err != nil {
		return nil, err
	}
	mode := v.Mode
	if mode == 0 && (strings.HasPrefix(v.Path, "{{work}}") || strings.HasPrefix(v.Path, "{{before}}")) {
		mode = 0o600
	}
	a := &FileAct{Path: path, Mode: mode}
	if name := lone(v.Owner); name == "" || scope.Filled(name) { // a setting that is left empty keeps the owner
		if a.Owner, err = expandRule(v.Owner, scope); err != nil {
			return nil, err
		}
	}
	var parts []procedure.Expanded
	onBox := false
	for _, each := range v.Holds {
		c, err := procedure.ExpandContent(each, scope)
		if err != nil {
			return nil, err
		}
		parts = append(parts, c)
		onBox, a.later = onBox || c.OnBox != "", a.later || c.Later
	}
	if len(parts) == 1 {
		a.Content, a.From, a.shown = parts[0].Bytes, parts[0].OnBox, parts[0].Shown
		return a, nil
	}
	for _, c := range parts {
		a.shown += lineEnd(c.Shown)
		if onBox {
			a.Parts = append(a.Parts, FilePart{[]byte(lineEnd(string(c.Bytes))), c.OnBox})
		} else {
			a.Content = append(a.Content, lineEnd(string(c.Bytes))...)
		}
	}
	return a, nil
}

// lineEnd ends a text with a line end: what follows begins a line.
func lineEnd(text string) string {
	if text == "" || strings.HasSuffix(text, "\n") {
		return text
	}
	return text + "\n"
}

// Line returns the path, with size and mode.
func (a *FileAct) Line() string {
	if a.From != "" {
		return fmt.Sprintf("%s (copy of %s, %s)", a.Path, a.From, a.modeText())
	}
	if a.later || len(a.Parts) > 0 {
		return fmt.Sprintf("%s (%s)", a.Path, a.modeText())
	}
	return fmt.Sprintf("%s (%d bytes, %s)", a.Path, len(a.Content), a.modeText())
}

// Detail returns the file's text, secrets as dots.
func (a *FileAct) Detail() string {
	if strings.ContainsFunc(a.shown, func(r rune) bool { return r == '\uFFFD' || r == 0 }) {
		return fmt.Sprintf("%d bytes that are no text", len(a.Content))
	}
	return a.shown
}

func (a *FileAct) modeText() string {
	switch {
	case a.Mode == 0 && a.Owner == "":
		return "owner and mode of the old file"
	case a.Mode == 0:
		return "owner " + a.Owner
	case a.Owner == "":
		return "mode " + ModeText(a.Mode)
	}
	return "mode " + ModeText(a.Mode) + ", owner " + a.Owner
}

// ModeText writes permission bits as people do: 0600.
func ModeText(mode uint32) string { return fmt.Sprintf("%04o", os.FileMode(mode).Perm()) }

func readMode(r *procedure.Reader, n ast.Node) uint32 {
	mode, err := strconv.ParseUint(strings.TrimPrefix(n.GetToken().Value, "0o"), 8, 32)
	if err != nil || mode > 0o777 || mode == 0 {
		r.Fault(n, "write it in octal, such as 0600", "%q is not a file mode", n.GetToken().Value)
	}
	return uint32(mode)
}
