package procedure

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/dialog"

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
	plainVerb
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
	When     Conditions
}

// DialogAct is a dialog in its final form.
type DialogAct struct {
	Command   string // empty: the device's own command line
	Talk      []dialog.Turn
	Meanwhile []dialog.Turn
}

// promptLimit is how long a turn is waited for where it does not say.
const promptLimit = 30 * time.Second

// keysPressed are the keys that can be pressed, as a terminal sends them.
var keysPressed = map[string]string{
	"enter": "\r", "space": " ", "tab": "\t", "escape": "\x1b", "up": "\x1b[A", "down": "\x1b[B", "right": "\x1b[C",
	"left": "\x1b[D", "ctrl-c": "\x03", "ctrl-d": "\x04", "q": "q", "y": "y", "n": "n",
}

var _ = register("a conversation with a program on a terminal", func() Verb { return &Dialog{} })

func (*Dialog) Word() string                        { return "dialog" }
func (*Dialog) Safe() bool                          { return false }
func (*Dialog) Changes() Way                        { return AsksWay }
func (*Dialog) Gives() Kind                         { return Text }
func (*Dialog) Expects() bool                       { return true }
func (*Dialog) Limits() (usual, most time.Duration) { return 5 * time.Minute, 2 * time.Hour }

// Title is what is talked to.
func (v *Dialog) Title() string {
	if v.Command == "" {
		return "talk to the command line"
	}
	return "talk to " + firstLine(placeholder.ReplaceAllString(v.Command, "$1"))
}

func (v *Dialog) read(r *reader, n ast.Node) {
	if v.Command = strings.TrimSpace(r.text(n)); v.Command == "login" {
		v.Command = ""
	}
}

func (v *Dialog) keys(r *reader) keys {
	return keys{
		"talk":      func(n ast.Node) { v.Talk = r.turns(n, "talk") },
		"meanwhile": func(n ast.Node) { v.Meanwhile = r.turns(n, "meanwhile") },
	}
}

func (r *reader) turns(n ast.Node, what string) []dialogTurn {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.fault(n, "begin each line with - ", "%s is not a list", what)
		return nil
	}
	var out []dialogTurn
	for _, each := range list.Values {
		if pairs, ok := r.pairs(each); ok && len(pairs) == 1 && pairs[0].Key.GetToken().Value == "piece" {
			name := r.text(pairs[0].Value)
			piece, has := r.pieces[name]
			if !has {
				r.fault(pairs[0].Value, "add it to pieces: at the top, or write one of "+
					strings.Join(slices.Sorted(maps.Keys(r.pieces)), ", "), "no piece of dialog is called %q", name)
			}
			out, r.said[name] = append(out, piece...), true
			continue
		}
		out = append(out, r.turn(each, what))
	}
	return out
}

func (r *reader) turn(n ast.Node, what string) dialogTurn {
	t := dialogTurn{Limit: promptLimit, Between: ", "}
	var between, instead ast.Node
	known := keys{
		"see":      func(n ast.Node) { t.See = r.pattern(n) },
		"say":      func(n ast.Node) { t.Say, t.said = r.text(n), true },
		"between":  func(n ast.Node) { t.Between, between = r.text(n), n },
		"else":     func(n ast.Node) { t.Else, instead = r.text(n), n },
		"paste":    func(n ast.Node) { t.Paste = r.content(n) },
		"fail":     func(n ast.Node) { t.Fail = r.text(n) },
		"refused":  func(n ast.Node) { t.Fail, t.Refused = r.text(n), true },
		"progress": func(n ast.Node) { t.Progress = r.bool(n) },
		"press": func(n ast.Node) {
			for _, each := range r.nodes(n) {
				key := r.text(each)
				if keysPressed[key] == "" {
					names := make([]string, 0, len(keysPressed))
					for name := range keysPressed {
						names = append(names, name)
					}
					slices.Sort(names)
					r.fault(each, "write one of "+strings.Join(names, ", "), "no key is called %q", key)
				}
				t.Press = append(t.Press, key)
			}
		},
		"with":    func(n ast.Node) { t.When = append(t.When, r.conditions(n, false)...) },
		"without": func(n ast.Node) { t.When = append(t.When, r.conditions(n, true)...) },
	}
	if what == "talk" {
		known["limit"] = func(n ast.Node) { t.Limit = r.duration(n) }
		known["each"] = func(n ast.Node) { t.Each = r.whole(n) }
	}
	before := len(r.faults)
	r.mapping(n, "a line of "+what, known, "see")
	if len(r.faults) > before {
		return t
	}
	answers := t.said || len(t.Press) > 0 || t.Paste != ""
	switch {
	case t.See.MatchString(""):
		r.fault(n, "write a pattern that needs at least one character", "the pattern %q also matches an empty text",
			t.See)
	case between != nil && (lone(t.Say) == "" || t.Each != "" || strings.ContainsFunc(t.Between, isControl)):
		r.fault(between, `write it beside a say: that is one list, such as between: " "`,
			"between is what stands between the items of a list that is said")
	case instead != nil && (lone(t.Say) == "" || t.Each != "" || strings.ContainsFunc(t.Else, isControl) ||
		len(named(t.Else)) > 0):
		r.fault(instead, `write it beside a say: that is one value, such as else: "-"`, "else is what is said "+
			"where the one value is empty")
	case t.said && len(t.Press) > 0:
		r.fault(n, "make two lines of it", "a line either says or presses")
	case t.Fail != "" && (answers || t.Progress):
		r.fault(n, "leave the rest out", "a line with fail or refused answers nothing")
	case t.Progress && t.See.NumSubexp() == 0:
		r.fault(n, `put the number into a group, such as (\d+)%`, "progress does not say where the number is")
	case what == "meanwhile" && !answers && t.Fail == "" && !t.Progress:
		r.fault(n, "add say, press, fail, refused or progress", "the line does nothing")
	}
	return t
}

func (v *Dialog) finish(r *reader, n ast.Node, s *Step) {
	if len(v.Talk) == 0 {
		r.fault(n, "add talk: with a line for each thing that the program asks", "dialog has no talk")
	}
	for i, t := range v.Talk {
		if v.Talk[i].Limit = min(t.Limit, s.Limit); t.Limit > s.Limit && t.Limit != promptLimit {
			r.fault(n, "give the step a larger limit", "the limit %s of a line is longer than the step's %s", t.Limit,
				s.Limit)
		}
	}
}

func (v *Dialog) turns() []dialogTurn { return slices.Concat(v.Talk, v.Meanwhile) }

func (v *Dialog) uses() []use {
	out := []use{}
	if v.Command != "" {
		out = append(out, use{v.Command, inCommand})
	}
	for _, t := range v.turns() {
		if t.Each == "" {
			out = append(out, use{t.Say, inAnswer})
		}
		out = append(out, use{t.Paste, inContent}, use{t.Fail, inWords})
	}
	return out
}

// lone is the name of the value that a text is, alone; empty where it is more.
func lone(text string) string {
	if names := named(text); len(names) == 1 && placeholder.ReplaceAllString(text, "") == "" {
		return names[0]
	}
	return ""
}

// check sees that conditions and lists of single lines name what is there.
func (v *Dialog) check(c *checker, section Section, step *Step) {
	for _, t := range v.turns() {
		if name := lone(t.Say); t.Between != ", " && c.kind(name) != List {
			c.faultAt(step, "between", "leave between out, or say a list such as {{dns_names}}",
				"{{%s}} is of the kind %s and has no items", name, c.kind(name))
		}
		for _, each := range t.When {
			c.condition(section, step, each)
		}
		if t.Each == "" {
			continue
		}
		each := *step
		each.Each = t.Each
		c.places[&each] = c.place(step)
		c.list(section, &each)
		c.text(section, &each, &each, use{t.Say, inAnswer})
	}
}

// UsesWork says that the dialog names the work folder.
func (v *Dialog) UsesWork() bool {
	text := v.Command
	for _, t := range v.turns() {
		text += " " + t.Say
	}
	return slices.ContainsFunc(named(text), func(name string) bool { return name == "work" || name == "before" })
}

// Expand gives a *DialogAct.
func (v *Dialog) Expand(scope *Scope) (Act, error) {
	command, err := expandCommand(v.Command, scope)
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

func expandTurns(turns []dialogTurn, scope *Scope) ([]dialog.Turn, error) {
	var out []dialog.Turn
	for _, t := range turns {
		if !t.When.Hold(scope) {
			continue
		}
		items, err := Step{Each: t.Each}.Items(scope)
		if err != nil {
			return nil, err
		}
		for _, item := range items {
			turn, err := t.expand(Step{Each: t.Each}.scope(item, scope))
			if err != nil {
				return nil, err
			}
			out = append(out, turn)
		}
	}
	return out, nil
}

func (t dialogTurn) expand(scope *Scope) (dialog.Turn, error) {
	out := dialog.Turn{See: t.See, Within: t.Limit, Progress: t.Progress, Nothing: t.Refused}
	var err error
	if out.Fail, err = expandWords(t.Fail, scope); err != nil {
		return out, err
	}
	if t.Paste != "" {
		c, err := expandContent(t.Paste, scope)
		switch {
		case err != nil:
			return out, err
		case c.onBox != "":
			return out, errors.New("what is pasted never leaves the device")
		}
		for _, line := range strings.Split(strings.TrimRight(string(c.bytes), "\r\n"), "\n") {
			if line = strings.TrimRight(line, "\r"); len(line) > maxLine || strings.ContainsFunc(line, isControl) {
				return out, errors.New("what is pasted has a control character or a line that no terminal takes")
			}
			out.Say = append(out.Say, line+"\r"...)
		}
		out.Shown = "[" + c.shown + "]"
	}
	if t.said {
		say := t.Say
		if t.Else != "" && !scope.filled(lone(say)) {
			say = t.Else
		}
		line, shown, err := expandAnswer(say, t.Between, scope)
		if err != nil {
			return out, err
		}
		out.Say, out.Shown = append(out.Say, line+"\r"...), strings.TrimLeft(out.Shown+" "+shown, " ")
	}
	for _, key := range t.Press {
		out.Say, out.Shown = append(out.Say, keysPressed[key]...), strings.TrimLeft(out.Shown+" <"+key+">", " ")
	}
	return out, nil
}

// maxLine is what a terminal takes at most as one line.
const maxLine = 4000

// expandAnswer puts values into a line that is typed. One that stands alone answers a
// question and may be any line; among other words, which a command line may take for
// more, each is one plain word, as in commands.
func expandAnswer(text, between string, scope *Scope) (line, shown string, err error) {
	alone := lone(text) != ""
	say := func(secrets bool) (string, error) {
		return replaceEach(text, scope, func(v Value, _ string) (string, error) {
			said := v.plain()
			if v.Kind == List {
				said = strings.Join(v.Words, between)
			}
			switch {
			case v.Kind == Content && v.OnBox != "":
				return "", errors.New("never leaves the device")
			case v.Kind == Content:
				return "", errors.New("is a file's content; give it with paste:")
			case !v.Known:
				return yetToCome(v), nil
			case len(said) > maxLine || strings.ContainsFunc(said, isControl):
				return "", errors.New("has a control character, or is longer than a terminal takes, and cannot be " +
					"typed as one line")
			case alone && v.Secret && !secrets:
				return dots, nil
			case alone:
				return said, nil
			case v.Secret:
				return "", errors.New("is secret and must be a line of its own")
			default:
				if why := notBare(said); why != "" {
					return "", fmt.Errorf("is %q, which %s; among other words a value is one plain word",
						shorten(said), why)
				}
				return said, nil
			}
		})
	}
	if line, err = say(true); err != nil {
		return "", "", err
	}
	shown, err = say(false)
	return line, shown, err
}

// Line is what is talked to.
func (a *DialogAct) Line() string {
	if a.Command == "" {
		return "the device's command line"
	}
	return a.Command
}

// Detail is a line for each turn.
func (a *DialogAct) Detail() string {
	var b strings.Builder
	write := func(prefix string, turns []dialog.Turn) {
		for _, t := range turns {
			fmt.Fprintf(&b, "%ssee %s", prefix, seenAs(t.See))
			switch {
			case t.Nothing:
				fmt.Fprintf(&b, "  →  it refused, and changed nothing: %s", t.Fail)
			case t.Fail != "":
				fmt.Fprintf(&b, "  →  it failed: %s", t.Fail)
			case len(t.Say) > 0 && t.Shown == "":
				b.WriteString("  →  <enter>")
			case len(t.Say) > 0:
				fmt.Fprintf(&b, "  →  %s", t.Shown)
			}
			if t.Within != promptLimit {
				fmt.Fprintf(&b, "  (within %s)", t.Within)
			}
			b.WriteString("\n")
		}
	}
	write("", a.Talk)
	write("at any time: ", a.Meanwhile)
	return b.String()
}
