// Package answer has what a device answers to a call, and what a procedure expects of it.
package answer

import (
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"freshseal/core/language/extract"
)

// Response is what a device answered to a call.
type Response struct {
	Status  int
	Header  http.Header
	Body    []byte
	LeadsTo string // where it redirects to, path and query
}

// Answer is what an answer must be like.
type Answer struct {
	Status   []int // empty: any that is good
	Match    *regexp.Regexp
	NotMatch *regexp.Regexp
	LeadsTo  *regexp.Regexp
	Found    []Found
	Same     []Labelled // what JSON pointers, or XPaths with // in front, lead to, as texts with values
}

// Found is a value in an answer, and what it must match.
type Found struct {
	At      Spot
	Pattern *regexp.Regexp
}

// Spot is a place in an answer; one of its fields is filled.
type Spot struct {
	CSS, Attribute, JSON, XPath, Header string

	Pattern *regexp.Regexp // looked for in what was found, or in the whole answer
}

// SpotOf returns the place that a JSON pointer names, or an XPath with // in front.
func SpotOf(label string) Spot {
	if strings.HasPrefix(label, "//") {
		return Spot{XPath: label}
	}
	return Spot{JSON: label}
}

func (s Spot) IsZero() bool { return s.CSS == "" && s.JSON == "" && s.XPath == "" && s.Header == "" }

func (s Spot) Text() string {
	switch {
	case s.JSON != "":
		return s.JSON
	case s.CSS != "":
		return s.CSS
	case s.XPath != "":
		return s.XPath
	}
	return "the header " + s.Header
}

func (s Spot) Find(r Response) (string, error) {
	text := string(r.Body)
	var err error
	switch {
	case s.JSON != "":
		text, err = extract.JSON(r.Body, s.JSON)
	case s.CSS != "":
		text, err = extract.CSS(r.Body, s.CSS, s.Attribute)
	case s.XPath != "":
		text, err = extract.XPath(r.Body, s.XPath)
	case s.Header != "":
		if text = r.Header.Get(s.Header); text == "" {
			err = extract.ErrNothing
		}
	}
	if err != nil || s.Pattern == nil {
		return text, err
	}
	m := s.Pattern.FindStringSubmatch(text)
	if m == nil {
		return "", extract.ErrNothing
	}
	return m[min(1, len(m)-1)], nil
}

func (a Answer) IsZero() bool {
	return a.Status == nil && a.Match == nil && a.NotMatch == nil && a.LeadsTo == nil && a.Found == nil && a.Same == nil
}

// Met returns why an answer is not like that, or nil.
func (a Answer) Met(r Response) error {
	switch {
	case a.Status != nil && !slices.Contains(a.Status, r.Status):
		return fmt.Errorf("status %d instead of %s", r.Status,
			strings.Trim(strings.ReplaceAll(fmt.Sprint(a.Status), " ", " or "), "[]"))
	case a.LeadsTo != nil && !a.LeadsTo.MatchString(r.LeadsTo):
		return fmt.Errorf("it leads to %q, which does not match %s", r.LeadsTo, a.LeadsTo)
	case a.Match != nil && !a.Match.Match(r.Body):
		return fmt.Errorf("the answer does not match %s", a.Match)
	case a.NotMatch != nil && a.NotMatch.Match(r.Body):
		return fmt.Errorf("the answer matches %s", a.NotMatch)
	}
	for _, f := range a.Found {
		text, err := f.At.Find(r)
		if errors.Is(err, extract.ErrNothing) {
			return fmt.Errorf("the answer has no %s", f.At.Text())
		}
		if err != nil {
			return err
		}
		if !f.Pattern.MatchString(text) {
			return fmt.Errorf("%s is %q, which does not match %s", f.At.Text(), Shorten(text), f.Pattern)
		}
	}
	for _, each := range a.Same {
		text, err := SpotOf(each.Label).Find(r)
		if err != nil {
			return fmt.Errorf("the answer has no %s", each.Label)
		}
		if text != each.Text {
			return fmt.Errorf("%s is %q instead of %q", each.Label, Shorten(text), Shorten(each.Text))
		}
	}
	return nil
}

// Text returns what is expected.
func (a Answer) Text() string {
	var out []string
	if a.Status != nil {
		out = append(out, fmt.Sprintf("status %v", strings.Trim(fmt.Sprint(a.Status), "[]")))
	}
	for what, p := range map[string]*regexp.Regexp{"it matches ": a.Match, "it does not match ": a.NotMatch,
		"it leads to ": a.LeadsTo} {
		if p != nil {
			out = append(out, what+p.String())
		}
	}
	slices.Sort(out)
	for _, f := range a.Found {
		out = append(out, f.At.Text()+" matches "+f.Pattern.String())
	}
	for _, each := range a.Same {
		out = append(out, each.Label+" is "+each.Text)
	}
	return strings.Join(out, ", ")
}

// Faulty reports whether it names several places, or an attribute of none.
func (s Spot) Faulty() bool {
	places := 0
	for _, place := range []string{s.CSS, s.JSON, s.XPath, s.Header} {
		if place != "" {
			places++
		}
	}
	return places > 1 || s.Attribute != "" && s.CSS == ""
}

func Shorten(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "…"
	}
	return text
}

// Labelled is something that a person is given, with its label or file name.
type Labelled struct {
	Label string
	Text  string
}
