package procedure

import (
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"freshseal/core/language/extract"

	"github.com/goccy/go-yaml/ast"
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

	pattern *regexp.Regexp // looked for in what was found, or in the whole answer
}

// spotOf is the place that a JSON pointer names, or an XPath with // in front.
func spotOf(label string) Spot {
	if strings.HasPrefix(label, "//") {
		return Spot{XPath: label}
	}
	return Spot{JSON: label}
}

func (s Spot) isZero() bool { return s.CSS == "" && s.JSON == "" && s.XPath == "" && s.Header == "" }

// faulty says that it names several places, or an attribute of none.
func (s Spot) faulty() bool {
	places := 0
	for _, place := range []string{s.CSS, s.JSON, s.XPath, s.Header} {
		if place != "" {
			places++
		}
	}
	return places > 1 || s.Attribute != "" && s.CSS == ""
}

func (s Spot) text() string {
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

func (s Spot) find(r Response) (string, error) {
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
	if err != nil || s.pattern == nil {
		return text, err
	}
	m := s.pattern.FindStringSubmatch(text)
	if m == nil {
		return "", extract.ErrNothing
	}
	return m[min(1, len(m)-1)], nil
}

func (a Answer) isZero() bool {
	return a.Status == nil && a.Match == nil && a.NotMatch == nil && a.LeadsTo == nil && a.Found == nil && a.Same == nil
}

// expand puts the values into what must be the same.
func (a Answer) expand(scope *Scope) (Answer, error) {
	same := a.Same
	a.Same = nil
	for _, each := range same {
		f, err := expandField(each.Text, scope, nil)
		if err != nil {
			return a, err
		}
		a.Same = append(a.Same, Labelled{each.Label, f.text})
	}
	return a, nil
}

// Met says why an answer is not like that, or nil.
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
		text, err := f.At.find(r)
		if errors.Is(err, extract.ErrNothing) {
			return fmt.Errorf("the answer has no %s", f.At.text())
		}
		if err != nil {
			return err
		}
		if !f.Pattern.MatchString(text) {
			return fmt.Errorf("%s is %q, which does not match %s", f.At.text(), shorten(text), f.Pattern)
		}
	}
	for _, each := range a.Same {
		text, err := spotOf(each.Label).find(r)
		if err != nil {
			return fmt.Errorf("the answer has no %s", each.Label)
		}
		if text != each.Text {
			return fmt.Errorf("%s is %q instead of %q", each.Label, shorten(text), shorten(each.Text))
		}
	}
	return nil
}

// Text says what is expected.
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
		out = append(out, f.At.text()+" matches "+f.Pattern.String())
	}
	for _, each := range a.Same {
		out = append(out, each.Label+" is "+each.Text)
	}
	return strings.Join(out, ", ")
}

// answer reads what an answer must be like:
//
//	{status: [200, 201], match: "ready", not_match: "error", leads_to: "^/done",
//	 same: {/name: "{{common_name}}"}, json: {/state: "^done$"}, css: {".said": "Saved"},
//	  xpath: {…}, header: {X-State: "ok"}}
func (r *reader) answer(n ast.Node, what string) Answer {
	var a Answer
	found := func(check func(string) error, at func(string) Spot) func(ast.Node) {
		return func(n ast.Node) {
			pairs, ok := r.pairs(n)
			if !ok {
				r.fault(n, "write place: pattern", "this is not a mapping of places to patterns")
			}
			for _, pair := range pairs {
				place := pair.Key.GetToken().Value
				if err := check(place); err != nil {
					r.fault(pair.Key, "correct it", "%q cannot be looked for: %v", place, err)
					continue
				}
				a.Found = append(a.Found, Found{at(place), r.pattern(pair.Value)})
			}
		}
	}
	r.mapping(n, what, keys{
		"status": func(n ast.Node) {
			for _, each := range r.nodes(n) {
				a.Status = append(a.Status, r.number(each, 100, 599))
			}
		},
		"match":     func(n ast.Node) { a.Match = r.pattern(n) },
		"not_match": func(n ast.Node) { a.NotMatch = r.pattern(n) },
		"leads_to":  func(n ast.Node) { a.LeadsTo = r.pattern(n) },
		"same": func(n ast.Node) {
			a.Same = r.labelled(n, "same", r.text)
			for _, each := range a.Same {
				err := extract.CheckPointer(each.Label)
				if spotOf(each.Label).XPath != "" {
					err = extract.CheckXPath(each.Label)
				}
				if err != nil {
					r.fault(n, "write a JSON pointer, such as /name, or an XPath, such as //name",
						"%q cannot be looked for: %v", each.Label, err)
				}
			}
		},
		"json":   found(extract.CheckPointer, func(s string) Spot { return Spot{JSON: s} }),
		"css":    found(extract.CheckSelector, func(s string) Spot { return Spot{CSS: s} }),
		"xpath":  found(extract.CheckXPath, func(s string) Spot { return Spot{XPath: s} }),
		"header": found(func(string) error { return nil }, func(s string) Spot { return Spot{Header: s} }),
	})
	return a
}

// spots reads where in an answer something is captured.
func (r *reader) spots(c *Capture) keys {
	place := func(to *string, check func(string) error) func(ast.Node) {
		return func(n ast.Node) {
			if *to = r.text(n); check != nil {
				if err := check(*to); err != nil {
					r.fault(n, "correct it", "%q cannot be looked for: %v", *to, err)
				}
			}
		}
	}
	return keys{
		"match":     func(n ast.Node) { c.Pattern = r.pattern(n) },
		"css":       place(&c.Spot.CSS, extract.CheckSelector),
		"attribute": place(&c.Spot.Attribute, nil),
		"json":      place(&c.Spot.JSON, extract.CheckPointer),
		"xpath":     place(&c.Spot.XPath, extract.CheckXPath),
		"header":    place(&c.Spot.Header, nil),
	}
}
