package procedure

import (
	"errors"
	"fmt"
	"path"
	"strings"
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

// Name is the step's name with its item.
func (r Ready) Name() string { return r.Step.Titled(r.Item) }

// Line is the act's line, with the device where that is another one.
func (r Ready) Line() string {
	if r.Where == "" {
		return r.Act.Line()
	}
	return "on " + r.Where + ": " + r.Act.Line()
}

// Anew is the step in its final form with other values, such as those of a new session.
func (r Ready) Anew(scope *Scope) (Ready, error) {
	if r.Item != "" {
		scope = scope.With(item, TextValue(r.Item))
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
	scope = s.scope(item, scope)
	if section == Session {
		scope = scope.outside()
	}
	var err error
	if r.Act, err = s.Do.Expand(scope); err == nil && s.Expect.Same != "" {
		var same content
		same, err = expandContent("{{"+s.Expect.Same+"}}", scope)
		r.Same = string(same.bytes)
	}
	if err == nil && s.On != "" {
		var where Value
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

func (s Step) scope(item_ string, scope *Scope) *Scope {
	if s.Each == "" {
		return scope
	}
	return scope.With(item, TextValue(item_))
}

// yetToCome stands in a rehearsal for a value that is not known yet.
func yetToCome(v Value) string {
	if v.Secret {
		return dots
	}
	return "‹" + v.About + "›"
}

// expandCommand puts values into a command, each as one plain word, those of the
// kinds command and list as several.
func expandCommand(text string, scope *Scope) (string, error) {
	out, err := replaceEach(text, scope, func(v Value, before string) (string, error) {
		switch {
		case v.Secret, v.Kind == Secret:
			return "", errors.New("is secret and may not be part of a command, where the device's process " +
				"list shows it")
		case v.Kind == Content:
			return "", errors.New("is a file's content and may not be part of a command; give it with stdin:")
		case !v.Known:
			return yetToCome(v), nil
		case v.Kind == Command, v.Kind == List:
			quoted := make([]string, len(v.Words))
			for i, word := range v.Words {
				if why := notBare(word); why != "" && v.Kind == List {
					return "", fmt.Errorf("holds %q, which %s; a value in a command is one plain word", word, why)
				}
				quoted[i] = Quote(word)
			}
			return strings.Join(quoted, " "), nil
		}
		if why := notBare(v.Text); why != "" {
			return "", fmt.Errorf("is %q, which %s; a value in a command is one plain word: letters, digits and . "+
				"_ : / @ %% + = , -", shorten(v.Text), why)
		}
		if strings.HasSuffix(before, "/") && strings.HasPrefix(v.Text, "..") {
			return "", fmt.Errorf("is %q, which leads out of its folder", v.Text)
		}
		return Quote(v.Text), nil
	})
	return strings.TrimSpace(out), err
}

func shorten(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "…"
	}
	return text
}

// expandPath puts values into a path and refuses a result that leaves the
// folder it begins with.
func expandPath(text string, scope *Scope) (string, error) {
	folder, unknown := "/", false
	out, err := replaceEach(text, scope, func(v Value, before string) (string, error) {
		switch {
		case v.Secret:
			return "", errors.New("is secret and may not be part of a path")
		case !v.Known:
			unknown = true
			return yetToCome(v), nil
		case v.Kind == Path && before == "":
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
	if err := checkPath(out); err != nil {
		return "", err
	}
	if out != folder && !strings.HasPrefix(out, strings.TrimSuffix(folder, "/")+"/") &&
		!strings.HasPrefix(out, folder+".") {
		return "", fmt.Errorf("the path %s leaves %s", out, path.Dir(folder))
	}
	return out, nil
}

// content is what a file or a command's standard input gets.
type content struct {
	bytes  []byte
	shown  string // with dots for secrets
	onBox  string // the device's own file that holds it; bytes is empty then
	later  bool   // some of it is yet to come
	secret bool   // some of it must not be shown
}

const dots = "••••••"

// expandContent puts values into a text that is a file's content, as they are.
func expandContent(text string, scope *Scope) (content, error) {
	var c content
	shown, err := replaceEach(text, scope, func(v Value, before string) (string, error) {
		c.secret = c.secret || v.Secret
		switch {
		case !v.Known:
			c.later = true
			return yetToCome(v), nil
		case v.OnBox != "" && strings.TrimSpace(placeholder.ReplaceAllString(text, "")) != "":
			return "", errors.New("never leaves the device and cannot be joined with other text")
		case v.OnBox != "":
			c.onBox = v.OnBox
			return "the device's file " + v.OnBox, nil
		case v.Secret:
			return dots, nil
		}
		return scope.plain(v), nil
	})
	if err != nil {
		return c, err
	}
	c.shown = shown
	if c.onBox == "" {
		real, err := replaceEach(text, scope, func(v Value, _ string) (string, error) {
			if !v.Known {
				return yetToCome(v), nil
			}
			return scope.plain(v), nil
		})
		c.bytes = []byte(real)
		return c, err
	}
	return c, nil
}

// expandWords puts values into a text that people read and nothing carries out.
func expandWords(text string, scope *Scope) (string, error) {
	return replaceEach(text, scope, func(v Value, _ string) (string, error) {
		switch {
		case v.Secret:
			return "", errors.New("is secret and may not be shown")
		case !v.Known:
			return yetToCome(v), nil
		}
		return v.plain(), nil
	})
}

// replaceEach puts each value's safe form into the text. safe gets the value
// and what stands before it.
func replaceEach(text string, scope *Scope, safe func(v Value, before string) (string, error)) (string, error) {
	var out strings.Builder
	for {
		loc := placeholder.FindStringSubmatchIndex(text)
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
		if (v.Kind == Command || v.Kind == List) && word == "" {
			text = strings.TrimPrefix(text, " ") // nothing stands before the next word
		}
	}
}
