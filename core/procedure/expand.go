package procedure

import (
	"errors"
	"fmt"
	"os"
	"path"
	"strings"
	"time"
)

// Ready is a step in its final form: nothing is left to be filled in.
type Ready struct {
	Section Section
	Step    Step
	Text    string // the command, the path, or what to do; the same text is journalled and shown
	Content []byte // put: the file's bytes
	Same    string // expect: what the output must equal
	Copy    []Labelled
	Files   []Labelled // each with its content
}

// errUnknown says that a value has not come yet.
var errUnknown = errors.New("is not known yet")

// Expand brings the steps of a section into their final form, leaving out
// those whose condition does not hold. Later steps may name what earlier ones
// capture, so the runner expands each step just before it is done; see ExpandStep.
func (p Procedure) Expand(section Section, scope Scope) []Step {
	var out []Step
	for _, step := range p.Steps[section] {
		if step.When.Setting == "" || scope[step.When.Setting].filled() != step.When.Not {
			out = append(out, step)
		}
	}
	return out
}

// ExpandStep brings one step into its final form.
func ExpandStep(section Section, step Step, scope Scope) (Ready, error) {
	r := Ready{Section: section, Step: step}
	var err error
	switch step.Verb {
	case Run:
		r.Text, err = expandShell(step.Text, scope)
	case Put, Fetch:
		r.Text, err = expandPath(step.Text, scope)
	case Wait:
		r.Text = step.Pause.String()
	case Own:
		r.Text = step.Text
	case Hand:
		err = r.expandHand(scope)
	}
	if err == nil && step.Content != "" {
		r.Content, err = content(step.Content, scope)
	}
	if err == nil && step.Expect.Same != "" {
		var same []byte
		same, err = content(step.Expect.Same, scope)
		r.Same = string(same)
	}
	if err != nil {
		return Ready{}, fmt.Errorf("step “%s”: %w", step.Name, err)
	}
	return r, nil
}

func content(name string, scope Scope) ([]byte, error) {
	v, ok := scope[name]
	if !ok || !v.Known {
		return nil, fmt.Errorf("{{%s}} %w", name, errUnknown)
	}
	return []byte(v.Text), nil
}

// expandShell puts values into a command, each quoted as one word, those of
// kind words as several.
func expandShell(text string, scope Scope) (string, error) {
	return replaceEach(text, scope, func(v Value, before string) (string, error) {
		if v.Secret {
			return "", errors.New("is secret and may not be part of a command, where the device's process list shows it")
		}
		if strings.ContainsRune(v.Text, 0) {
			return "", errors.New("holds a NUL byte")
		}
		if v.Kind == Words {
			quoted := make([]string, len(v.Words))
			for i, w := range v.Words {
				quoted[i] = Quote(w)
			}
			return strings.Join(quoted, " "), nil
		}
		if isWordStart(before, len(before)) && strings.HasPrefix(v.Text, "-") && v.Kind != Number {
			return "", fmt.Errorf("is %q, which the command would take for an option", v.Text)
		}
		if v.Text == "" {
			return "''", nil
		}
		return Quote(v.Text), nil
	})
}

// expandPath puts values into a path and refuses a result that leaves the
// folder it begins with.
func expandPath(text string, scope Scope) (string, error) {
	folder := "/"
	out, err := replaceEach(text, scope, func(v Value, before string) (string, error) {
		switch {
		case v.Kind == Path && before == "":
			folder = v.Text
			return v.Text, nil
		case strings.Contains(v.Text, "/"), v.Text == ".", v.Text == "..", v.Text == "":
			return "", fmt.Errorf("is %q, which is not the name of a file or folder", v.Text)
		}
		return v.Text, nil
	})
	if err != nil {
		return "", err
	}
	if err := checkPath(out); err != nil {
		return "", err
	}
	if out != folder && !strings.HasPrefix(out, strings.TrimSuffix(folder, "/")+"/") && !strings.HasPrefix(out, folder+".") {
		return "", fmt.Errorf("the path %s leaves %s", out, path.Dir(folder))
	}
	return out, nil
}

// replaceEach puts each value's safe form into the text. make gets the value
// and what stands before it.
func replaceEach(text string, scope Scope, safe func(v Value, before string) (string, error)) (string, error) {
	var out strings.Builder
	for {
		loc := placeholder.FindStringSubmatchIndex(text)
		if loc == nil {
			out.WriteString(text)
			return out.String(), nil
		}
		out.WriteString(text[:loc[0]])
		name := text[loc[2]:loc[3]]
		v, ok := scope[name]
		if !ok || !v.Known {
			return "", fmt.Errorf("{{%s}} %w", name, errUnknown)
		}
		word, err := safe(v, out.String())
		if err != nil {
			return "", fmt.Errorf("{{%s}} %w", name, err)
		}
		out.WriteString(word)
		text = text[loc[1]:]
		if v.Kind == Words && word == "" {
			text = strings.TrimPrefix(text, " ") // nothing stands before the next word
		}
	}
}

// Rehearsed is one step as it would be done, for people to read.
type Rehearsed struct {
	Section Section `json:"stage" required:"true"`
	Name    string  `json:"name" required:"true"`
	Verb    Verb    `json:"verb" required:"true"`
	Text    string  `json:"text" required:"true"`
	Content string  `json:"content,omitempty"` // put: the file's text, or what it will be
	Limit   string  `json:"limit" required:"true"`
}

// Rehearse gives every step's final text in order, ways back included. Values
// that are yet to come stand as ‹what they are›; secrets as dots. Nothing is
// sent anywhere.
func (p Procedure) Rehearse(scope Scope) ([]Rehearsed, error) {
	full := Scope{}
	for name, v := range Given {
		full[name] = v
	}
	for _, pack := range p.Packs {
		full[pack.Name] = Value{Kind: Content, Text: "to come", Secret: pack.Secret(), About: pack.About}
	}
	for name, v := range scope {
		full[name] = v
	}
	var out []Rehearsed
	for _, section := range Sections {
		for _, step := range p.Expand(section, full) {
			r, err := rehearse(section, step, full)
			if err != nil {
				return nil, err
			}
			out = append(out, r)
			if _, ok := full[step.Capture]; step.Capture != "" && !ok {
				full[step.Capture] = Value{Kind: Content, About: "what the step “" + step.Name + "” prints"}
			}
		}
	}
	return out, nil
}

func rehearse(section Section, step Step, scope Scope) (Rehearsed, error) {
	r := Rehearsed{Section: section, Name: step.Name, Verb: step.Verb, Limit: step.Limit.String()}
	masked := Scope{}
	stand := map[string]string{}
	for name, v := range scope {
		if !v.Known {
			mark := "yet.to.come." + name + ".end" // a word that quoting leaves alone, exchanged below
			stand[mark] = "‹" + v.About + "›"
			v = Value{Kind: v.Kind, Text: mark, Words: []string{mark}, Known: true}
		}
		masked[name] = v
	}
	ready, err := ExpandStep(section, step, masked)
	if err != nil {
		return r, err
	}
	r.Text, r.Content = ready.Text, string(ready.Content)
	if scope[step.Content].Secret {
		r.Content = "••••••"
	}
	for _, each := range ready.Copy {
		r.Content += each.Label + ": " + each.Text + "\n"
	}
	for _, each := range ready.Files {
		r.Content += "file " + each.Label + "\n"
	}
	for mark, shown := range stand {
		r.Text = strings.ReplaceAll(r.Text, mark, shown)
		r.Content = strings.ReplaceAll(r.Content, mark, shown)
	}
	return r, nil
}

// ModeText writes permission bits as people do: 0600.
func ModeText(mode uint32) string { return fmt.Sprintf("%04o", os.FileMode(mode).Perm()) }

// DefaultLimit is how long a step may take where it does not say.
const DefaultLimit = time.Minute
