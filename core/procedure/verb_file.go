package procedure

import (
	"fmt"
	"os"
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
type File struct {
	plainVerb
	Path  string
	Holds string
	Mode  uint32 // permission bits; 0: those of the old file, or 0600
}

// FileAct is a file in its final form.
type FileAct struct {
	Path    string
	Content []byte
	From    string // the device's own file that it is copied from, instead of Content
	Mode    uint32
	shown   string
	later   bool // some of it is yet to come, as in a rehearsal
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
		"holds": func(n ast.Node) { v.Holds = r.content(n) },
		"mode":  func(n ast.Node) { v.Mode = r.mode(n) },
	}
}

func (v *File) finish(r *reader, n ast.Node, _ *Step) {
	if v.Holds == "" {
		r.fault(n, "add holds: with a value's name, such as leaf_first, or a text", "file does not say what the file holds")
	}
}

func (v *File) uses() []use {
	return []use{{v.Path, inPath}, {v.Holds, inContent}}
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
	c, err := expandContent(v.Holds, scope)
	return &FileAct{path, c.bytes, c.onBox, mode, c.shown, c.later}, err
}

// Line is the path, with size and mode.
func (a *FileAct) Line() string {
	if a.From != "" {
		return fmt.Sprintf("%s (copy of %s, %s)", a.Path, a.From, modeText(a.Mode))
	}
	if a.later {
		return fmt.Sprintf("%s (%s)", a.Path, modeText(a.Mode))
	}
	return fmt.Sprintf("%s (%d bytes, %s)", a.Path, len(a.Content), modeText(a.Mode))
}

// Detail is the file's text, secrets as dots.
func (a *FileAct) Detail() string {
	if strings.ContainsFunc(a.shown, func(r rune) bool { return r == '\uFFFD' || r == 0 }) {
		return fmt.Sprintf("%d bytes that are no text", len(a.Content))
	}
	return a.shown
}

func modeText(mode uint32) string {
	if mode == 0 {
		return "owner and mode of the old file"
	}
	return "mode " + ModeText(mode)
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
