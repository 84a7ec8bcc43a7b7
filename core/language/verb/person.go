package verb

import (
	"regexp"
	"strings"
	"time"

	"freshseal/core/language/answer"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Hand is a step that a person does, guided: what to do, what to copy, what to
// runReady to the device, what to give back.
//
//   - person: Open https://{{address}}/ and upload the certificate.
//     files: {chain.pem: leaf_first}
//     seen: new
type Hand struct {
	procedure.PlainVerb
	Text  string
	Copy  []answer.Labelled // values to copy into the device's pages
	Files []answer.Labelled // files to carry to the device; Text is the content
	Ask   string            // what must be given back, as captured; empty: only that it is done
	Key   bool              // what is given back is a private key: sealed, and never shown
	Seen  Sight             // what on the wire shows that it is done
}

// HandFile is a file to carry to the device.
type HandFile struct {
	Name    string
	Content []byte
	Secret  bool
}

// HandAct is a person's step in its final form.
type HandAct struct {
	Text  string
	Copy  []answer.Labelled
	Files []HandFile
	Ask   string
	Key   bool
	Seen  Sight
}

// Sight is what must be seen on the wire for a person's step to count as done.
type Sight string

// The sights.
const (
	NotSeen Sight = ""    // the person says so
	SeenNew Sight = "new" // the new leaf is served
	SeenOld Sight = "old" // the leaf that was served before is served again
)

var _ = procedure.Register("a person does it by hand, guided", func() procedure.Verb { return &Hand{} })

func (*Hand) Word() string { return "person" }
func (v *Hand) Title() string {
	return procedure.FirstLine(value.Placeholder.ReplaceAllString(v.Text, "$1"))
}
func (*Hand) Link() string           { return procedure.Person }
func (*Hand) Changes() procedure.Way { return procedure.AsksWay }
func (*Hand) Gives() value.Kind      { return value.Content }

// Limits give people days where a machine gets minutes.
func (*Hand) Limits() (usual, most time.Duration) { return 3 * 24 * time.Hour, 60 * 24 * time.Hour }

func (v *Hand) Read(r *procedure.Reader, n ast.Node) { v.Text = strings.TrimSpace(r.Text(n)) }

func (v *Hand) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{
		"copy":  func(n ast.Node) { v.Copy = r.Labelled(n, "copy", r.Text) },
		"files": func(n ast.Node) { v.Files = readFiles(r, n) },
		"ask":   func(n ast.Node) { v.Ask = r.Text(n) },
		"given": func(n ast.Node) { v.Key = r.OneOf(n, []string{"key", "text"}) == "key" },
		"seen":  func(n ast.Node) { v.Seen = Sight(r.OneOf(n, []string{string(SeenNew), string(SeenOld)})) },
	}
}

func (v *Hand) Finish(r *procedure.Reader, n ast.Node, s *procedure.Step) {
	if (v.Ask == "") != (len(s.Capture) == 0) {
		r.Fault(n, "write ask: what to give back, and capture: the name it is kept under, together",
			"ask and capture belong together")
	}
	for i := range s.Capture {
		if s.Capture[i].Secret = v.Key; s.Capture[i].Pattern != nil || len(s.Capture) > 1 {
			r.Fault(n, "write capture: NAME", "what a person gives back is kept whole, under one name")
		}
	}
	if v.Key && v.Ask == "" {
		r.Fault(n, "write ask: what to give back", "given belongs to ask")
	}
	if s.Secret {
		r.Fault(n, "leave secret out", "what a person is shown cannot be secret")
	}
}

func (v *Hand) Uses() []procedure.Use {
	out := []procedure.Use{{Text: v.Text, Place: procedure.InWords}}
	for _, each := range v.Copy {
		out = append(out, procedure.Use{Text: each.Text, Place: procedure.InWords})
	}
	for _, each := range v.Files {
		out = append(out, procedure.Use{Text: each.Text, Place: procedure.InWhole})
	}
	return out
}

func (v *Hand) Check(c *procedure.Checker, section procedure.Section, step *procedure.Step) {
	if section == procedure.Cancel {
		c.Fault(step, "leave it out", "giving up may not need a person: nothing live was changed")
	}
	for _, file := range v.Files {
		for _, name := range value.Named(file.Text) {
			if c.Secret(name) && !c.Captures[name].ByHand {
				c.FaultAt(step, name, "let a step put it over a link", "{{%s}} is secret and may not pass through "+
					"a person's hands", name)
			}
		}
	}
}

// Expand returns a *HandAct. Values to copy that are empty are left out: there is
// nothing to type.
func (v *Hand) Expand(scope *procedure.Scope) (procedure.Act, error) {
	a := &HandAct{Ask: v.Ask, Key: v.Key, Seen: v.Seen}
	var err error
	if a.Text, err = procedure.ExpandWords(v.Text, scope); err != nil {
		return nil, err
	}
	for _, each := range v.Copy {
		text, err := procedure.ExpandWords(each.Text, scope)
		if err != nil {
			return nil, err
		}
		if text != "" {
			a.Copy = append(a.Copy, answer.Labelled{Label: each.Label, Text: text})
		}
	}
	for _, each := range v.Files {
		file, err := procedure.ExpandContent(each.Text, scope)
		if err != nil {
			return nil, err
		}
		a.Files = append(a.Files, HandFile{each.Label, file.Bytes, file.Secret})
	}
	return a, nil
}

// Line returns what to do.
func (a *HandAct) Line() string { return a.Text }

// Detail returns the values to copy and the names of the files.
func (a *HandAct) Detail() string {
	var b strings.Builder
	for _, each := range a.Copy {
		b.WriteString(each.Label + ": " + each.Text + "\n")
	}
	for _, each := range a.Files {
		b.WriteString("file " + each.Name + "\n")
	}
	return b.String()
}

var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

func readFiles(r *procedure.Reader, n ast.Node) []answer.Labelled {
	out := r.Labelled(n, "files", r.Content)
	for _, file := range out {
		if !fileName.MatchString(file.Label) {
			r.Fault(n, "use letters, digits, dots, - and _", "%q cannot be a file's name", file.Label)
		}
	}
	return out
}
