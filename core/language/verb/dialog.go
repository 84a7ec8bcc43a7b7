package verb

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Dialog talks to a program on a terminal, or to the device's own command line
// (dialog: login). What is not recognised is never answered.
//
//   - dialog: console-menu
//     talk:
//   - {see: "Password: $", say: "{{menu_password}}"}
//   - {each: dns_names, see: "Name: $", say: "{{item}}"}
//   - {see: "Paste it", paste: leaf_first, say: end}
//   - {see: "done", limit: 15m}
//     meanwhile:
//   - {see: "--more--", press: space}
//   - {see: "(\\d+)%", progress: true}
//   - {see: "refused", refused: the menu refuses the certificate}
type Dialog struct {
	procedure.PlainVerb
	Command   string // empty: the device's own command line
	Talk      []dialogTurn
	Meanwhile []dialogTurn
}

type dialogTurn struct {
	See      *regexp.Regexp
	Say      string // one line; said distinguishes the empty line from none
	said     bool
	Between  string // the items of a list that is said
	Else     string // said where the one value of Say is empty
	Press    []string
	Paste    string
	Fail     string
	Refused  bool // Fail says that the device changed nothing
	Progress bool
	Limit    time.Duration
	Each     string
	When     procedure.Conditions
}

// promptLimit is how long a turn is waited for where it does not say.
const promptLimit = 30 * time.Second

// keysPressed are the keys that can be pressed, as a terminal sends them.
var keysPressed = map[string]string{
	"enter": "\r", "space": " ", "tab": "\t", "escape": "\x1b", "up": "\x1b[A", "down": "\x1b[B", "right": "\x1b[C",
	"left": "\x1b[D", "ctrl-c": "\x03", "ctrl-d": "\x04", "q": "q", "y": "y", "n": "n",
}

var _ = procedure.Register("a conversation with a program on a terminal", func() procedure.Verb { return &Dialog{} })

func (*Dialog) Word() string                        { return "dialog" }
func (*Dialog) Safe() bool                          { return false }
func (*Dialog) Changes() procedure.Way              { return procedure.AsksWay }
func (*Dialog) Gives() value.Kind                   { return value.Text }
func (*Dialog) Expects() bool                       { return true }
func (*Dialog) Limits() (usual, most time.Duration) { return 5 * time.Minute, 2 * time.Hour }

// Title returns what is talked to.
func (v *Dialog) Title() string {
	if v.Command == "" {
		return "talk to the command line"
	}
	return "talk to " + procedure.FirstLine(value.Placeholder.ReplaceAllString(v.Command, "$1"))
}

func (v *Dialog) Read(r *procedure.Reader, n ast.Node) {
	if v.Command = strings.TrimSpace(r.Text(n)); v.Command == "login" {
		v.Command = ""
	}
}

func (v *Dialog) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{
		"talk":      func(n ast.Node) { v.Talk = readTurns(r, n, "talk") },
		"meanwhile": func(n ast.Node) { v.Meanwhile = readTurns(r, n, "meanwhile") },
	}
}

func readTurns(r *procedure.Reader, n ast.Node, what string) []dialogTurn {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.Fault(n, "begin each line with - ", "%s is not a list", what)
		return nil
	}
	var out []dialogTurn
	for _, each := range list.Values {
		if pairs, ok := r.Pairs(each); ok && len(pairs) == 1 && pairs[0].Key.GetToken().Value == "piece" {
			name := r.Text(pairs[0].Value)
			piece, has := r.Pieces[name]
			if !has {
				r.Fault(pairs[0].Value, "add it to pieces: at the top, or write one of "+
					strings.Join(slices.Sorted(maps.Keys(r.Pieces)), ", "), "no piece of dialog is called %q", name)
				continue
			}
			if piece.Read == nil {
				piece.Read = readTurns(r, piece.Node, "talk")
			}
			out = append(out, piece.Read.([]dialogTurn)...)
			continue
		}
		out = append(out, readTurn(r, each, what))
	}
	return out
}

// revive:disable-next-line:cyclomatic reads a table of keys
func readTurn(r *procedure.Reader, n ast.Node, what string) dialogTurn {
	t := dialogTurn{Limit: promptLimit, Between: ", "}
	var between, instead ast.Node
	known := procedure.Keys{
		"see":      func(n ast.Node) { t.See = r.Pattern(n) },
		"say":      func(n ast.Node) { t.Say, t.said = r.Text(n), true },
		"between":  func(n ast.Node) { t.Between, between = r.Text(n), n },
		"else":     func(n ast.Node) { t.Else, instead = r.Text(n), n },
		"paste":    func(n ast.Node) { t.Paste = r.Content(n) },
		"fail":     func(n ast.Node) { t.Fail = r.Text(n) },
		"refused":  func(n ast.Node) { t.Fail, t.Refused = r.Text(n), true },
		"progress": func(n ast.Node) { t.Progress = r.Bool(n) },
		"press": func(n ast.Node) {
			for _, each := range r.Nodes(n) {
				key := r.Text(each)
				if keysPressed[key] == "" {
					names := make([]string, 0, len(keysPressed))
					for name := range keysPressed {
						names = append(names, name)
					}
					slices.Sort(names)
					r.Fault(each, "write one of "+strings.Join(names, ", "), "no key is called %q", key)
				}
				t.Press = append(t.Press, key)
			}
		},
		"with":    func(n ast.Node) { t.When = append(t.When, r.Conditions(n, false)...) },
		"without": func(n ast.Node) { t.When = append(t.When, r.Conditions(n, true)...) },
	}
	if what == "talk" {
		known["limit"] = func(n ast.Node) { t.Limit = r.Duration(n) }
		known["each"] = func(n ast.Node) { t.Each = r.Whole(n) }
	}
	before := len(r.Faults)
	r.Mapping(n, "a line of "+what, known, "see")
	if len(r.Faults) > before {
		return t
	}
	answers := t.said || len(t.Press) > 0 || t.Paste != ""
	switch {
	case t.See.MatchString(""):
		r.Fault(n, "write a pattern that needs at least one character", "the pattern %q also matches an empty text",
			t.See)
	case between != nil && (lone(t.Say) == "" || t.Each != "" || strings.ContainsFunc(t.Between, value.IsControl)):
		r.Fault(between, `write it beside a say: that is one list, such as between: " "`,
			"between is what stands between the items of a list that is said")
	case instead != nil && (lone(t.Say) == "" || t.Each != "" || strings.ContainsFunc(t.Else, value.IsControl) ||
		len(value.Named(t.Else)) > 0):
		r.Fault(instead, `write it beside a say: that is one value, such as else: "-"`, "else is what is said "+
			"where the one value is empty")
	case t.said && len(t.Press) > 0:
		r.Fault(n, "make two lines of it", "a line either says or presses")
	case t.Fail != "" && (answers || t.Progress):
		r.Fault(n, "leave the rest out", "a line with fail or refused answers nothing")
	case t.Progress && t.See.NumSubexp() == 0:
		r.Fault(n, `put the number into a group, such as (\d+)%`, "progress does not say where the number is")
	case what == "meanwhile" && !answers && t.Fail == "" && !t.Progress:
		r.Fault(n, "add say, press, fail, refused or progress", "the line does nothing")
	}
	return t
}

func (v *Dialog) Finish(r *procedure.Reader, n ast.Node, s *procedure.Step) {
	if len(v.Talk) == 0 {
		r.Fault(n, "add talk: with a line for each thing that the program asks", "dialog has no talk")
	}
	for i, t := range v.Talk {
		if v.Talk[i].Limit = min(t.Limit, s.Limit); t.Limit > s.Limit && t.Limit != promptLimit {
			r.Fault(n, "give the step a larger limit", "the limit %s of a line is longer than the step's %s", t.Limit,
				s.Limit)
		}
	}
}

func (v *Dialog) turns() []dialogTurn { return slices.Concat(v.Talk, v.Meanwhile) }

func (v *Dialog) Uses() []procedure.Use {
	out := []procedure.Use{}
	if v.Command != "" {
		out = append(out, procedure.Use{Text: v.Command, Place: procedure.InCommand})
	}
	for _, t := range v.turns() {
		if t.Each == "" {
			out = append(out, procedure.Use{Text: t.Say, Place: procedure.InAnswer})
		}
		out = append(out, procedure.Use{Text: t.Paste, Place: procedure.InContent},
			procedure.Use{Text: t.Fail, Place: procedure.InWords})
	}
	return out
}

// lone returns the name of the value that a text is, alone; empty where it is more.
func lone(text string) string {
	if names := value.Named(text); len(names) == 1 && value.Placeholder.ReplaceAllString(text, "") == "" {
		return names[0]
	}
	return ""
}

// Check checks that conditions and lists of single lines name what is there.
func (v *Dialog) Check(c *procedure.Checker, section procedure.Section, step *procedure.Step) {
	for _, t := range v.turns() {
		if name := lone(t.Say); t.Between != ", " && c.Kind(name) != value.List {
			c.FaultAt(step, "between", "leave between out, or say a list such as {{dns_names}}",
				"{{%s}} is of the kind %s and has no items", name, c.Kind(name))
		}
		for _, each := range t.When {
			c.Condition(section, step, each)
		}
		if t.Each == "" {
			continue
		}
		each := *step
		each.Each = t.Each
		c.Places[&each] = c.Place(step)
		c.List(section, &each)
		c.Text(section, &each, &each, procedure.Use{Text: t.Say, Place: procedure.InAnswer})
	}
}

// UsesWork reports whether the dialog names the work folder.
func (v *Dialog) UsesWork() bool {
	text := v.Command
	for _, t := range v.turns() {
		text += " " + t.Say
	}
	return slices.ContainsFunc(value.Named(text), func(name string) bool { return name == "work" || name == "before" })
}

// Expand returns a *DialogAct.
func (v *Dialog) Expand(scope *procedure.Scope) (procedure.Act, error) {
	command, err := procedure.ExpandCommand(v.Command, scope)
	if err != nil {
		return nil, err
	}
	a := &DialogAct{Command: command}
	if a.Talk, err = expandTurns(v.Talk, scope); err != nil {
		return nil, err
	}
	a.Meanwhile, err = expandTurns(v.Meanwhile, scope)
	return a, err
}

// Folder implements Verb: what is typed into a command line of its own needs none.
func (v *Dialog) Folder() bool { return v.Command != "" }
