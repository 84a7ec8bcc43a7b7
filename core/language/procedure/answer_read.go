package procedure

import (
	"errors"
	"fmt"

	"freshseal/core/language/answer"
	"freshseal/core/language/extract"

	"github.com/goccy/go-yaml/ast"
)

// Answer reads what an answer must be like:
//
//	{status: [200, 201], match: "ready", not_match: "error", leads_to: "^/done",
//	 same: {/name: "{{common_name}}"}, json: {/state: "^done$"}, css: {".said": "Saved"},
//	  xpath: {…}, header: {X-State: "ok"}}
func (r *Reader) Answer(n ast.Node, what string) answer.Answer {
	var a answer.Answer
	found := func(check func(string) error, at func(string) answer.Spot) func(ast.Node) {
		return func(n ast.Node) {
			pairs, ok := r.Pairs(n)
			if !ok {
				r.Fault(n, "write place: pattern", "this is not a mapping of places to patterns")
			}
			for _, pair := range pairs {
				place := pair.Key.GetToken().Value
				if err := check(place); err != nil {
					r.Fault(pair.Key, "correct it", "%q cannot be looked for: %v", place, err)
					continue
				}
				a.Found = append(a.Found, answer.Found{At: at(place), Pattern: r.Pattern(pair.Value)})
			}
		}
	}
	r.Mapping(n, what, Keys{
		"status": func(n ast.Node) {
			for _, each := range r.Nodes(n) {
				a.Status = append(a.Status, r.Number(each, 100, 599))
			}
		},
		"match":     func(n ast.Node) { a.Match = r.Pattern(n) },
		"not_match": func(n ast.Node) { a.NotMatch = r.Pattern(n) },
		"leads_to":  func(n ast.Node) { a.LeadsTo = r.Pattern(n) },
		"same": func(n ast.Node) {
			a.Same = r.Labelled(n, "same", r.Text)
			for _, each := range a.Same {
				err := extract.CheckPointer(each.Label)
				if answer.SpotOf(each.Label).XPath != "" {
					err = extract.CheckXPath(each.Label)
				}
				if err != nil {
					r.Fault(n, "write a JSON pointer, such as /name, or an XPath, such as //name",
						"%q cannot be looked for: %v", each.Label, err)
				}
			}
		},
		"json":  found(extract.CheckPointer, func(s string) answer.Spot { return answer.Spot{JSON: s} }),
		"css":   found(extract.CheckSelector, func(s string) answer.Spot { return answer.Spot{CSS: s} }),
		"xpath": found(extract.CheckXPath, func(s string) answer.Spot { return answer.Spot{XPath: s} }),
		"header": found(func(string) error { return nil }, func(s string) answer.Spot {
			return answer.Spot{Header: s}
		}),
	})
	return a
}

// Spots reads where in an answer something is captured.
func (r *Reader) Spots(c *Capture) Keys {
	place := func(to *string, check func(string) error) func(ast.Node) {
		return func(n ast.Node) {
			if *to = r.Text(n); check != nil {
				if err := check(*to); err != nil {
					r.Fault(n, "correct it", "%q cannot be looked for: %v", *to, err)
				}
			}
		}
	}
	return Keys{
		"match":     func(n ast.Node) { c.Pattern = r.Pattern(n) },
		"css":       place(&c.Spot.CSS, extract.CheckSelector),
		"attribute": place(&c.Spot.Attribute, nil),
		"json":      place(&c.Spot.JSON, extract.CheckPointer),
		"xpath":     place(&c.Spot.XPath, extract.CheckXPath),
		"header":    place(&c.Spot.Header, nil),
	}
}

// ExpandField puts values into a field. refuse says what may not stand there.
func ExpandField(text string, scope *Scope, refuse func(string) error) (Field, error) {
	c, err := ExpandContent(text, scope)
	switch {
	case err != nil:
		return Field{}, err
	case c.OnBox != "":
		return Field{}, errors.New("what is sent never leaves the device")
	case c.Later:
		return Field{c.Shown, c.Shown}, nil
	}
	if refuse != nil {
		if err := refuse(string(c.Bytes)); err != nil {
			return Field{}, fmt.Errorf("“%s” %w", c.Shown, err)
		}
	}
	return Field{string(c.Bytes), c.Shown}, nil
}

// ExpandAnswer puts the values into what must be the same.
func ExpandAnswer(a answer.Answer, scope *Scope) (answer.Answer, error) {
	same := a.Same
	a.Same = nil
	for _, each := range same {
		f, err := ExpandField(each.Text, scope, nil)
		if err != nil {
			return a, err
		}
		a.Same = append(a.Same, answer.Labelled{Label: each.Label, Text: f.Text})
	}
	return a, nil
}

// Field is a text with its values, as it is sent and as it may be shown.
type Field struct{ Text, Shown string }
