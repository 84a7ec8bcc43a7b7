package verb

import (
	"errors"
	"fmt"
	"strings"

	"freshseal/core/language/answer"
	"freshseal/core/language/dialog"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
)

// DialogAct is a dialog in its final form.
type DialogAct struct {
	Command   string // empty: the device's own command line
	Talk      []dialog.Turn
	Meanwhile []dialog.Turn
}

func expandTurns(turns []dialogTurn, scope *procedure.Scope) ([]dialog.Turn, error) {
	var out []dialog.Turn
	for _, t := range turns {
		if !t.When.Hold(scope) {
			continue
		}
		items, err := procedure.Step{Each: t.Each}.Items(scope)
		if err != nil {
			return nil, err
		}
		for _, item := range items {
			turn, err := t.expand(procedure.Step{Each: t.Each}.Scope(item, scope))
			if err != nil {
				return nil, err
			}
			out = append(out, turn)
		}
	}
	return out, nil
}

func (t dialogTurn) expand(scope *procedure.Scope) (dialog.Turn, error) {
	out := dialog.Turn{See: t.See, Within: t.Limit, Progress: t.Progress, Nothing: t.Refused}
	var err error
	if out.Fail, err = procedure.ExpandWords(t.Fail, scope); err != nil {
		return out, err
	}
	if t.Paste != "" {
		c, err := procedure.ExpandContent(t.Paste, scope)
		switch {
		case err != nil:
			return out, err
		case c.OnBox != "":
			return out, errors.New("what is pasted never leaves the device")
		}
		for _, line := range strings.Split(strings.TrimRight(string(c.Bytes), "\r\n"), "\n") {
			if line = strings.TrimRight(line, "\r"); len(line) > maxLine ||
				strings.ContainsFunc(line, value.IsControl) {
				return out, errors.New("what is pasted has a control character or a line that no terminal takes")
			}
			out.Say = append(out.Say, line+"\r"...)
		}
		out.Shown = "[" + c.Shown + "]"
	}
	if t.said {
		say := t.Say
		if t.Else != "" && !scope.Filled(lone(say)) {
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

// expandAnswer puts values into a line that is typed. One that is alone answers a
// question and may be any line; among other words, which a command line may take for
// more, each is one plain word, as in commands.
func expandAnswer(text, between string, scope *procedure.Scope) (line, shown string, err error) {
	alone := lone(text) != ""
	say := func(secrets bool) (string, error) {
		return procedure.ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) {
			said := v.Plain()
			if v.Kind == value.List {
				said = strings.Join(v.Words, between)
			}
			switch {
			case v.Kind == value.Content && v.OnBox != "":
				return "", errors.New("never leaves the device")
			case v.Kind == value.Content:
				return "", errors.New("is a file's content; give it with paste:")
			case !v.Known:
				return procedure.YetToCome(v), nil
			case len(said) > maxLine || strings.ContainsFunc(said, value.IsControl):
				return "", errors.New("has a control character, or is longer than a terminal takes, and cannot be " +
					"typed as one line")
			case alone && v.Secret && !secrets:
				return procedure.Dots, nil
			case alone:
				return said, nil
			case v.Secret:
				return "", errors.New("is secret and must be a line of its own")
			default:
				if why := value.NotBare(said); why != "" {
					return "", fmt.Errorf("is %q, which %s; among other words a value is one plain word",
						answer.Shorten(said), why)
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

// Line returns what is talked to.
func (a *DialogAct) Line() string {
	if a.Command == "" {
		return "the device's command line"
	}
	return a.Command
}

// Detail returns a line for each turn.
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
