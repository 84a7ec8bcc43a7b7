package procedure

import (
	"errors"
	"fmt"
	"path"
	"strings"

	"freshseal/core/language/answer"
	"freshseal/core/language/value"
)

// Ready is a step in its final form: nothing is left to be filled in.
type Ready struct {
	Section Section
	Step    Step
	Item    string // of Each
	Act     Act
	Same    string // expect: what the output must equal
	Where   string // the device that helps; empty: the one that is worked on
}

// Name returns the step's name with its item.
func (r Ready) Name() string { return r.Step.Titled(r.Item) }

// Line returns the act's line, with the device where that is another one.
func (r Ready) Line() string {
	if r.Where == "" {
		return r.Act.Line()
	}
	return "on " + r.Where + ": " + r.Act.Line()
}

// Anew returns the step in its final form with other values, such as those of a new session.
func (r Ready) Anew(scope *Scope) (Ready, error) {
	if r.Item != "" {
		scope = scope.With(Item, value.TextValue(r.Item))
	}
	return r.Step.Expand(r.Section, r.Item, scope)
}

// Act is what a verb does in its final form.
type Act interface {
	Line() string   // one text for journal and rehearsal; shows no secret
	Detail() string // what else a rehearsal shows: a file's text, a mode, values to copy
}

// Expand brings one step into its final form. Errors name the step and what is
// missing or does not fit.
func (s Step) Expand(section Section, item string, scope *Scope) (Ready, error) {
	r := Ready{Section: section, Step: s, Item: item}
	scope = s.Scope(item, scope)
	if section == Session {
		scope = scope.outside()
	}
	var err error
	if r.Act, err = s.Do.Expand(scope); err == nil && s.Expect.Same != "" {
		var same Expanded
		same, err = ExpandContent("{{"+s.Expect.Same+"}}", scope)
		r.Same = string(same.Bytes)
	}
	if err == nil && s.On != "" {
		var where value.Value
		if where, err = scope.Value(s.On); err == nil && where.Text == "" {
			err = fmt.Errorf("it is done on another device, and the setting %s names none", s.On)
		}
		r.Where = where.Text
	}
	if err != nil {
		return Ready{}, fmt.Errorf("step “%s”: %w", s.Titled(item), err)
	}
	return r, nil
}

func (s Step) Scope(item_ string, scope *Scope) *Scope {
	if s.Each == "" {
		return scope
	}
	return scope.With(Item, value.TextValue(item_))
}

// YetToCome is in a rehearsal for a value that is not known yet.
func YetToCome(v value.Value) string {
	if v.Secret {
		return Dots
	}
	return "‹" + v.About + "›"
}

// ExpandCommand puts values into a command, each as one plain word, those of the
// kinds command and list as several.
func ExpandCommand(text string, scope *Scope) (string, error) {
	out, err := ReplaceEach(text, scope, func(v value.Value, before string) (string, error) {
		switch {
		case v.Secret, v.Kind == value.Secret:
			return "", errors.New("is secret and may not be part of a command, where the device's process " +
				"list shows it")
		case v.Kind == value.Content:
			return "", errors.New("is a file's content and may not be part of a command; give it with stdin:")
		case !v.Known:
			return YetToCome(v), nil
		case v.Kind == value.Command, v.Kind == value.List:
			quoted := make([]string, len(v.Words))
			for i, word := range v.Words {
				if why := value.NotBare(word); why != "" && v.Kind == value.List {
					return "", fmt.Errorf("holds %q, which %s; a value in a command is one plain word", word, why)
				}
				quoted[i] = value.Quote(word)
			}
			return strings.Join(quoted, " "), nil
		}
		if why := value.NotBare(v.Text); why != "" {
			return "", fmt.Errorf("is %q, which %s; a value in a command is one plain word: letters, digits and . "+
				"_ : / @ %% + = , -", answer.Shorten(v.Text), why)
		}
		if strings.HasSuffix(before, "/") && strings.HasPrefix(v.Text, "..") {
			return "", fmt.Errorf("is %q, which leads out of its folder", v.Text)
		}
		return value.Quote(v.Text), nil
	})
	return strings.TrimSpace(out), err
}

// ExpandPath puts values into a path and refuses a result that leaves the
// folder it begins with.
func ExpandPath(text string, scope *Scope) (string, error) {
	folder, unknown := "/", false
	out, err := ReplaceEach(text, scope, func(v value.Value, before string) (string, error) {
		switch {
		case v.Secret:
			return "", errors.New("is secret and may not be part of a path")
		case !v.Known:
			unknown = true
			return YetToCome(v), nil
		case v.Kind == value.Path && before == "":
			folder = v.Text
			return v.Text, nil
		case strings.Contains(v.Text, "/"), v.Text == ".", v.Text == "..", v.Text == "":
			return "", fmt.Errorf("is %q, which is not the name of a file or folder", v.Text)
		}
		return v.Text, nil
	})
	if err != nil || unknown {
		return out, err
	}
	if err := value.CheckPath(out); err != nil {
		return "", err
	}
	if out != folder && !strings.HasPrefix(out, strings.TrimSuffix(folder, "/")+"/") &&
		!strings.HasPrefix(out, folder+".") {
		return "", fmt.Errorf("the path %s leaves %s", out, path.Dir(folder))
	}
	return out, nil
}

// Expanded is what a file or a command's standard input gets.
type Expanded struct {
	Bytes  []byte
	Shown  string // with dots for secrets
	OnBox  string // the device's own file that holds it; bytes is empty then
	Later  bool   // some of it is yet to come
	Secret bool   // some of it must not be shown
}

const Dots = "••••••"

// ExpandContent puts values into a text that is a file's content, as they are.
func ExpandContent(text string, scope *Scope) (Expanded, error) {
	var c Expanded
	shown, err := ReplaceEach(text, scope, func(v value.Value, before string) (string, error) {
		c.Secret = c.Secret || v.Secret
		switch {
		case !v.Known:
			c.Later = true
			return YetToCome(v), nil
		case v.OnBox != "" && strings.TrimSpace(value.Placeholder.ReplaceAllString(text, "")) != "":
			return "", errors.New("never leaves the device and cannot be joined with other text")
		case v.OnBox != "":
			c.OnBox = v.OnBox
			return "the device's file " + v.OnBox, nil
		case v.Secret:
			return Dots, nil
		}
		return scope.Plain(v), nil
	})
	if err != nil {
		return c, err
	}
	c.Shown = shown
	if c.OnBox == "" {
		real, err := ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) {
			if !v.Known {
				return YetToCome(v), nil
			}
			return scope.Plain(v), nil
		})
		c.Bytes = []byte(real)
		return c, err
	}
	return c, nil
}

// ExpandWords puts values into a text that people read and nothing carries out.
func ExpandWords(text string, scope *Scope) (string, error) {
	return ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) {
		switch {
		case v.Secret:
			return "", errors.New("is secret and may not be shown")
		case !v.Known:
			return YetToCome(v), nil
		}
		return v.Plain(), nil
	})
}

// ReplaceEach puts each value's safe form into the text. safe gets the value
// and what stands before it.
func ReplaceEach(text string, scope *Scope, safe func(v value.Value, before string) (string, error)) (string, error) {
	var out strings.Builder
	for {
		loc := value.Placeholder.FindStringSubmatchIndex(text)
		if loc == nil {
			out.WriteString(text)
			return out.String(), nil
		}
		out.WriteString(text[:loc[0]])
		name := text[loc[2]:loc[3]]
		v, err := scope.Value(name)
		if err != nil {
			return "", fmt.Errorf("{{%s}} %w", name, err)
		}
		word, err := safe(v, out.String())
		if err != nil {
			return "", fmt.Errorf("{{%s}} %w", name, err)
		}
		out.WriteString(word)
		text = text[loc[1]:]
		if (v.Kind == value.Command || v.Kind == value.List) && word == "" {
			text = strings.TrimPrefix(text, " ") // nothing stands before the next word
		}
	}
}
