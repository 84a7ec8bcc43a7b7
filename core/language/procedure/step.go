package procedure

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/answer"
	"freshseal/core/language/value"
)

// DefaultLimit is how long a step may take where it does not say.
const DefaultLimit = time.Minute

// Step is one thing done on the device: a verb, and what every step can say
// beside it.
type Step struct {
	Name string
	Do   Verb
	// the setting that names the device on which the step is done; empty: the one that is worked on
	On      string
	Each    string     // the list for whose every item the step is done, named {{item}}
	When    Conditions // done only where all of them hold
	Capture []Capture
	Expect  Expect
	Refused Refusal // how the device says that it changed nothing
	Limit   time.Duration
	Repeat  bool // may be done again when nobody knows whether it was done
	Secret  bool // what it prints is not kept
	// of signing in: asked again before each call that changes something, such as a page with a token for one form
	Fresh     bool
	Undo      Undo
	Finally   *Step  // done on every way out once this step was begun
	Otherwise string // what to do when it fails, for people
}

// Again reports whether the step may be done a second time without harm.
func (s Step) Again() bool { return s.Repeat || s.Do.Safe() }

// Capture keeps what a step printed, or a part of it, under a name.
type Capture struct {
	Name    string
	Pattern *regexp.Regexp // the first group, or all that matches; nil: the whole output
	Spot    answer.Spot    // of a call: where in the answer
	Stderr  bool           // from the error output
	Secret  bool           // sealed in the journal, never shown
	Keep    bool           // a file that outlives the replacement, off the device, such as an export; secret
	// a restart makes it wrong, such as a process id: it is captured again for each stretch of work
	Passing bool
}

// Part reports whether a part of what was printed is kept.
func (c Capture) Part() bool { return c.Pattern != nil || !c.Spot.IsZero() }

// Expect is what counts as success.
type Expect struct {
	Exit      []int          // empty: 0
	Match     *regexp.Regexp // somewhere in the output; blanks and line ends around the whole are left out
	NotMatch  *regexp.Regexp // nowhere in it
	Stderr    *regexp.Regexp // somewhere in the error output
	NotStderr *regexp.Regexp
	Same      string // a value that the output must equal, blanks at the ends aside
}

func (e Expect) isZero() bool {
	return e.Exit == nil && e.Match == nil && e.NotMatch == nil && e.Stderr == nil && e.NotStderr == nil && e.Same == ""
}

// Met returns why an outcome is not what the step expects, or nil. same is the text
// that Same stands for.
func (e Expect) Met(exit int, stdout, stderr, same string) error {
	codes := e.Exit
	if codes == nil {
		codes = []int{0}
	}
	if !slices.Contains(codes, exit) {
		wanted := strings.Trim(strings.ReplaceAll(fmt.Sprint(codes), " ", " or "), "[]")
		return &Unmet{fmt.Sprintf("exit code %d instead of %s", exit, wanted), true}
	}
	for _, c := range []struct {
		pattern  *regexp.Regexp
		text     string
		want     bool
		what     string
		inErrors bool
	}{
		// as capture trims: $ is the end of the last line
		{e.Match, strings.TrimSpace(stdout), true, "its output", false},
		{e.NotMatch, strings.TrimSpace(stdout), false, "its output", false},
		{e.Stderr, strings.TrimSpace(stderr), true, "its error output", true},
		{e.NotStderr, strings.TrimSpace(stderr), false, "its error output", true},
	} {
		if c.pattern == nil || c.pattern.MatchString(c.text) == c.want {
			continue
		}
		if c.want {
			return &Unmet{fmt.Sprintf("%s does not match %s", c.what, c.pattern), c.inErrors}
		}
		return &Unmet{fmt.Sprintf("%s matches %s", c.what, c.pattern), c.inErrors}
	}
	if e.Same != "" && strings.TrimSpace(stdout) != strings.TrimSpace(same) {
		return &Unmet{"its output is not the expected value", false}
	}
	return nil
}

// Unmet says how a command's end differs from what is expected.
type Unmet struct {
	Difference string
	InErrors   bool // its error output says more about it than its output
}

func (u *Unmet) Error() string { return u.Difference }

// Refusal is a complete answer by which the device says that it changed nothing. The zero value is none.
type Refusal struct {
	Answer *answer.Answer // of http and rpc
	Output *Expect        // of run: its exit code and patterns
}

// Of reports whether an outcome is a refusal; answered is nil for a command.
func (f Refusal) Of(exit int, stdout, stderr string, answered *answer.Response) bool {
	if answered != nil {
		return f.Answer != nil && f.Answer.Met(*answered) == nil
	}
	return f.Output != nil && f.Output.Met(exit, stdout, stderr, "") == nil
}

// Holds reports whether the step is done: the conditions with and without let it, and what it would hand to the
// device is not empty.
func (s Step) Holds(scope *Scope) bool {
	return s.When.Hold(scope) && !s.empty(scope)
}

// Items returns what the step is done for: the list that each names, or one empty
// item where it is done once.
func (s Step) Items(scope *Scope) ([]string, error) {
	if s.Each == "" {
		return []string{""}, nil
	}
	v, err := scope.Value(s.Each)
	if err != nil {
		return nil, fmt.Errorf("each names {{%s}}, which %w", s.Each, err)
	}
	return v.Words, nil
}

// Titled returns the step's name for one item of its list.
func (s Step) Titled(item string) string {
	if item == "" {
		return s.Name
	}
	return s.Name + ": " + item
}

// How long a captured value may be, in bytes: a secret is looked for in everything that is shown from then on.
const (
	mostCaptured       = 256 << 10
	mostCapturedSecret = 16 << 10
)

// fits reports that a captured value is too long.
func fits(c Capture, text string) error {
	most := mostCaptured
	if c.Secret {
		most = mostCapturedSecret
	}
	if len(text) > most && !c.Keep {
		return fmt.Errorf("{{%s}} cannot be captured: it is longer than %d kB", c.Name, most>>10)
	}
	return nil
}

// Captured returns the values that the output of a step gives; an error says which
// pattern matches nothing.
func (s Step) Captured(stdout, stderr []byte, answered *answer.Response) (map[string]value.Value, error) {
	out := map[string]value.Value{}
	for _, c := range s.Capture {
		if answered != nil && !c.Spot.IsZero() {
			spot := c.Spot
			spot.Pattern = c.Pattern
			text, err := spot.Find(*answered)
			if err != nil {
				return nil, fmt.Errorf("{{%s}} cannot be captured: %s: %w", c.Name, spot.Text(), err)
			}
			out[c.Name] = value.Value{Kind: value.Text, Text: strings.TrimSpace(text), Known: true, Secret: c.Secret,
				Keep: c.Keep}
			if err := fits(c, text); err != nil {
				return nil, err
			}
			continue
		}
		from := stdout
		if c.Stderr {
			from = stderr
		}
		v := value.Value{Kind: s.Do.Gives(), Text: string(from), Known: true, Secret: c.Secret, Keep: c.Keep}
		if c.Pattern != nil {
			m := c.Pattern.FindSubmatch(from)
			if m == nil {
				return nil, fmt.Errorf("{{%s}} cannot be captured: nothing in the output matches %s", c.Name, c.Pattern)
			}
			v.Text, v.Kind = string(m[min(1, len(m)-1)]), value.Text
		}
		if v.Kind == value.Text {
			v.Text = strings.TrimSpace(v.Text)
		}
		if c.Pattern != nil || c.Secret {
			if err := fits(c, v.Text); err != nil {
				return nil, err
			}
		}
		out[c.Name] = v
	}
	return out, nil
}

// WritesTo returns the path of the file that the step changes.
func (s Step) WritesTo(item string, scope *Scope) (string, error) {
	return ExpandPath(s.Do.Writes(), s.Scope(item, scope))
}

// InWork reports whether a path, with its values still in it, is in the work folder.
func InWork(path string) bool {
	return strings.HasPrefix(path, "{{work}}") || strings.HasPrefix(path, "{{before}}")
}

// UndoText returns how a step's change is taken back.
func (s Step) UndoText(section Section, item string, scope *Scope) (string, error) {
	switch s.Undo.Kind {
	case UndoSteps:
		var out []string
		for i, each := range s.Undo.Items {
			undo, err := s.UndoReady(i, item, scope)
			if err != nil {
				return "", err
			}
			text := undo.Act.Line()
			if when := each.Text(); when != "" {
				text += " (" + when + ")"
			}
			out = append(out, text)
		}
		return strings.Join(out, "; "), nil
	case UndoItself:
		return "the device takes it back by itself within " + s.Undo.Within.String(), nil
	case UndoAgain:
		return "done again at the end of the way back, if something was undone", nil
	case NoUndo:
		return "no way back: " + s.Undo.Because, nil
	}
	if s.Do.Changes() == KnowsWay && !strings.HasPrefix(s.Do.Writes(), "{{work}}") {
		return "the old file is kept before and put back", nil
	}
	return "", nil
}

// FinallyReady returns the step that is done on every way out, in its final form.
func (s Step) FinallyReady(item string, scope *Scope) (Ready, error) {
	if s.Finally == nil {
		return Ready{}, errors.New("it has no finally")
	}
	return s.Finally.besideOf(s, "finally", "finally", item, scope)
}

func (s *Step) besideOf(of Step, section Section, what, item string, scope *Scope) (Ready, error) {
	out := *s
	out.Each = of.Each
	if out.Name == out.Do.Title() { // it has no name of its own
		out.Name = what + " of “" + of.Name + "”"
	}
	return out.Expand(section, item, scope)
}
