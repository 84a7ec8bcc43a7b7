package procedure

import (
	"errors"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// What a step has that a person does: what to copy, what to carry, what to give
// back, and more time than a machine gets.

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
	out := r.labelled(n, "files", r.single)
	for _, file := range out {
		if !fileName.MatchString(file.Label) {
			r.fault(n, "use letters, digits, dots, - and _", "%q cannot be a file's name", file.Label)
		}
	}
	return out
}

// limits fills in how long a step may take, and sees that what only a person's
// step has stands in one.
func (r *reader) limits(n ast.Node, s *Step) {
	most := maxLimit
	if s.Verb == Hand {
		most, s.Repeat = maxHandLimit, true // people see what is done already
	}
	switch {
	case s.Limit > most:
		r.fault(n, "take up to "+most.String(), "the limit %s is too long", s.Limit)
	case s.Limit == 0 && s.Verb == Hand:
		s.Limit = HandLimit
	case s.Limit == 0:
		s.Limit = DefaultLimit
	}
	only := s.Copy != nil || s.Files != nil || s.Ask != "" || s.Seen != ""
	switch {
	case only && s.Verb != Hand:
		r.fault(n, "write person: what to do", "copy, files, ask and seen belong to a step that a person does")
	case s.Verb == Hand && (s.Ask == "") != (s.Capture == ""):
		r.fault(n, "write ask: what to give back, and capture: the name it is kept under, together", "ask and capture belong together")
	case s.Verb == Hand && s.Secret:
		r.fault(n, "leave secret out", "what a person is shown cannot be secret")
	}
}

// expandHand fills in what a person is told and given. Values to copy that are
// empty are left out: there is nothing to type.
func (r *Ready) expandHand(scope Scope) error {
	var err error
	if r.Text, err = expandWords(r.Step.Text, scope); err != nil {
		return err
	}
	for _, each := range r.Step.Copy {
		text, err := expandWords(each.Text, scope)
		if err != nil {
			return err
		}
		if text != "" {
			r.Copy = append(r.Copy, Labelled{each.Label, text})
		}
	}
	for _, each := range r.Step.Files {
		file, err := content(each.Text, scope)
		if err != nil {
			return err
		}
		r.Files = append(r.Files, Labelled{each.Label, string(file)})
	}
	return nil
}

// expandWords puts values into a text that people read and nothing carries out.
func expandWords(text string, scope Scope) (string, error) {
	return replaceEach(text, scope, func(v Value, _ string) (string, error) {
		switch {
		case v.Secret:
			return "", errors.New("is secret and may not be shown")
		case v.Kind == Words:
			return strings.Join(v.Words, " "), nil
		}
		return v.Text, nil
	})
}
