package procedure

import (
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// Hand is a step that a person does, guided: what to do, what to copy, what to
// runReady to the device, what to give back.
//
//   - person: Open https://{{address}}/ and upload the certificate.
//     files: {chain.pem: leaf_first}
//     seen: new
type Hand struct {
	plainVerb
	Text  string
	Copy  []Labelled // values to copy into the device's pages
	Files []Labelled // files to carry to the device; Text is the content
	Ask   string     // what must be given back, as captured; empty: only that it is done
	Key   bool       // what is given back is a private key: sealed, and never shown
	Seen  Sight      // what on the wire shows that it is done
}

// HandFile is a file to carry to the device.
type HandFile struct {
	Name    string
	Content []byte
	Secret  bool
}

// Labelled is something that a person is given, with its label or file name.
type Labelled struct {
	Label string
	Text  string
}

// HandAct is a person's step in its final form.
type HandAct struct {
	Text  string
	Copy  []Labelled
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

var _ = register("a person does it by hand, guided", func() Verb { return &Hand{} })

func (*Hand) Word() string    { return "person" }
func (v *Hand) Title() string { return firstLine(placeholder.ReplaceAllString(v.Text, "$1")) }
func (*Hand) Link() string    { return Person }
func (*Hand) Changes() Way    { return AsksWay }
func (*Hand) Gives() Kind     { return Content }

// Limits give people days where a machine gets minutes.
func (*Hand) Limits() (usual, most time.Duration) { return 3 * 24 * time.Hour, 60 * 24 * time.Hour }

func (v *Hand) read(r *reader, n ast.Node) { v.Text = strings.TrimSpace(r.text(n)) }

func (v *Hand) keys(r *reader) keys {
	return keys{
		"copy":  func(n ast.Node) { v.Copy = r.labelled(n, "copy", r.text) },
		"files": func(n ast.Node) { v.Files = r.files(n) },
		"ask":   func(n ast.Node) { v.Ask = r.text(n) },
		"given": func(n ast.Node) { v.Key = r.oneOf(n, []string{"key", "text"}) == "key" },
		"seen":  func(n ast.Node) { v.Seen = Sight(r.oneOf(n, []string{string(SeenNew), string(SeenOld)})) },
	}
}

func (v *Hand) finish(r *reader, n ast.Node, s *Step) {
	if (v.Ask == "") != (len(s.Capture) == 0) {
		r.fault(n, "write ask: what to give back, and capture: the name it is kept under, together",
			"ask and capture belong together")
	}
	for i := range s.Capture {
		if s.Capture[i].Secret = v.Key; s.Capture[i].Pattern != nil || len(s.Capture) > 1 {
			r.fault(n, "write capture: NAME", "what a person gives back is kept whole, under one name")
		}
	}
	if v.Key && v.Ask == "" {
		r.fault(n, "write ask: what to give back", "given belongs to ask")
	}
	if s.Secret {
		r.fault(n, "leave secret out", "what a person is shown cannot be secret")
	}
}

func (v *Hand) uses() []use {
	out := []use{{v.Text, inWords}}
	for _, each := range v.Copy {
		out = append(out, use{each.Text, inWords})
	}
	for _, each := range v.Files {
		out = append(out, use{each.Text, inWhole})
	}
	return out
}

func (v *Hand) check(c *checker, section Section, step *Step) {
	if section == Cancel {
		c.fault(step, "leave it out", "giving up may not need a person: nothing live was changed")
	}
	for _, file := range v.Files {
		for _, name := range named(file.Text) {
			if c.secret(name) && !c.captures[name].byHand {
				c.faultAt(step, name, "let a step put it over a link", "{{%s}} is secret and may not pass through "+
					"a person's hands", name)
			}
		}
	}
}

// Expand gives a *HandAct. Values to copy that are empty are left out: there is
// nothing to type.
func (v *Hand) Expand(scope *Scope) (Act, error) {
	a := &HandAct{Ask: v.Ask, Key: v.Key, Seen: v.Seen}
	var err error
	if a.Text, err = expandWords(v.Text, scope); err != nil {
		return nil, err
	}
	for _, each := range v.Copy {
		text, err := expandWords(each.Text, scope)
		if err != nil {
			return nil, err
		}
		if text != "" {
			a.Copy = append(a.Copy, Labelled{each.Label, text})
		}
	}
	for _, each := range v.Files {
		file, err := expandContent(each.Text, scope)
		if err != nil {
			return nil, err
		}
		a.Files = append(a.Files, HandFile{each.Label, file.bytes, file.secret})
	}
	return a, nil
}

// Line is what to do.
func (a *HandAct) Line() string { return a.Text }

// Detail are the values to copy and the names of the files.
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

// labelled reads a mapping of labels to texts, in its order.
func (r *reader) labelled(n ast.Node, what string, read func(ast.Node) string) []Labelled {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write label: text lines", "%s is not a mapping", what)
	}
	var out []Labelled
	for _, pair := range pairs {
		out = append(out, Labelled{pair.Key.GetToken().Value, read(pair.Value)})
	}
	return out
}

var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

func (r *reader) files(n ast.Node) []Labelled {
	out := r.labelled(n, "files", r.content)
	for _, file := range out {
		if !fileName.MatchString(file.Label) {
			r.fault(n, "use letters, digits, dots, - and _", "%q cannot be a file's name", file.Label)
		}
	}
	return out
}
