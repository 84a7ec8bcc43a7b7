package procedure

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// File puts a file onto the device, whole or not at all, with the owner and mode
// of the one that stood there. It is undone by itself: the old file is kept in
// the work folder before, and put back.
//
//   - file: key_file
//     holds: new_key
//     mode: 0600           # of a file that was not there before
//     owner: "www:www"     # chown takes it; where nothing is said, that of the old file
//   - file: /etc/quay/both.pem
//     holds: [leaf_first, new_key]   # one file of several, each from the start of a line
type File struct {
	plainVerb
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

var _ = register("a file onto the device, whole or not at all", func() Verb { return &File{} })

func (*File) Word() string     { return "file" }
func (*File) Changes() Way     { return KnowsWay }
func (v *File) Writes() string { return v.Path }
func (v *File) Title() string {
	return "write " + placeholder.ReplaceAllString(v.Path, "$1")
}

func (v *File) read(r *reader, n ast.Node) { v.Path = r.path(n) }

func (v *File) keys(r *reader) keys {
	return keys{
		"holds": func(n ast.Node) {
			for _, each := range r.nodes(n) {
				v.Holds = append(v.Holds, r.content(each))
			}
		},
		"mode":  func(n ast.Node) { v.Mode = r.mode(n) },
		"owner": func(n ast.Node) { v.Owner = r.text(n) },
	}
}

func (v *File) finish(r *reader, n ast.Node, _ *Step) {
	if len(v.Holds) == 0 || slices.Contains(v.Holds, "") {
		r.fault(n, "add holds: with a value's name, such as leaf_first, or a text", "file does not say what the "+
			"file holds")
	}
}

func (v *File) uses() []use {
	out := []use{{v.Path, inPath}, {v.Owner, inRule}}
	for _, each := range v.Holds {
		out = append(out, use{each, inContent})
	}
	return out
}

// check sees that a key that the device made is a part of its own: it stays there, and is joined there.
func (v *File) check(c *checker, _ Section, step *Step) {
	for _, each := range v.Holds {
		if strings.Contains(each, "{{new_key}}") && each != "{{new_key}}" && !c.p.Traits.KeyGiven {
			c.faultAt(step, "new_key", "write holds: [leaf_first, new_key], in the order that the device wants",
				"the key that the device made cannot stand in a text with other values")
		}
	}
}

// Expand gives a *FileAct.
func (v *File) Expand(scope *Scope) (Act, error) {
	path, err := expandPath(v.Path, scope)
	if err != nil {
		return nil, err
	}
	mode := v.Mode
	if mode == 0 && (strings.HasPrefix(v.Path, "{{work}}") || strings.HasPrefix(v.Path, "{{before}}")) {
		mode = 0o600
	}
	a := &FileAct{Path: path, Mode: mode}
	if name := lone(v.Owner); name == "" || scope.filled(name) { // a setting that is left empty keeps the owner
		if a.Owner, err = expandRule(v.Owner, scope); err != nil {
			return nil, err
		}
	}
	var parts []content
	onBox := false
	for _, each := range v.Holds {
		c, err := expandContent(each, scope)
		if err != nil {
			return nil, err
		}
		parts = append(parts, c)
		onBox, a.later = onBox || c.onBox != "", a.later || c.later
	}
	if len(parts) == 1 {
		a.Content, a.From, a.shown = parts[0].bytes, parts[0].onBox, parts[0].shown
		return a, nil
	}
	for _, c := range parts {
		a.shown += lineEnd(c.shown)
		if onBox {
			a.Parts = append(a.Parts, FilePart{[]byte(lineEnd(string(c.bytes))), c.onBox})
		} else {
			a.Content = append(a.Content, lineEnd(string(c.bytes))...)
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

// Line is the path, with size and mode.
func (a *FileAct) Line() string {
	if a.From != "" {
		return fmt.Sprintf("%s (copy of %s, %s)", a.Path, a.From, a.modeText())
	}
	if a.later || len(a.Parts) > 0 {
		return fmt.Sprintf("%s (%s)", a.Path, a.modeText())
	}
	return fmt.Sprintf("%s (%d bytes, %s)", a.Path, len(a.Content), a.modeText())
}

// Detail is the file's text, secrets as dots.
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

func (r *reader) mode(n ast.Node) uint32 {
	mode, err := strconv.ParseUint(strings.TrimPrefix(n.GetToken().Value, "0o"), 8, 32)
	if err != nil || mode > 0o777 || mode == 0 {
		r.fault(n, "write it in octal, such as 0600", "%q is not a file mode", n.GetToken().Value)
	}
	return uint32(mode)
}
