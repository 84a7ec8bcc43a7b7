package extract_test

import (
	"strings"
	"testing"

	"freshseal/core/language/extract"
)

const page = `<!doctype html><form action=/in><input type=hidden name=token value="a&amp;b'c"><p class=said>Saved &lt;b&gt; <i>twice</i></p></form>`

func TestAValueIsFoundInAnAnswer(t *testing.T) {
	css := func(selector, attribute string) func() (string, error) {
		return func() (string, error) { return extract.CSS([]byte(page), selector, attribute) }
	}
	in := func(text, pointer string) func() (string, error) {
		return func() (string, error) { return extract.JSON([]byte(text), pointer) }
	}
	path := func(text, expression string) func() (string, error) {
		return func() (string, error) { return extract.XPath([]byte(text), expression) }
	}
	const xml = `<?xml version="1.0"?><m:all xmlns:m="x"><task id="7">done &amp; well</task><task id="8"/></m:all>`
	for about, c := range map[string]struct {
		find  func() (string, error)
		want  string
		fails string
	}{
		"an attribute":             {css("input[name=token]", "value"), "a&b'c", ""},
		"an element's text":        {css("form > .said", ""), "Saved <b> twice", ""},
		"no such element":          {css("#none", ""), "", "there is none"},
		"no such attribute":        {css("p", "value"), "", "there is none"},
		"a text":                   {in(`{"a":{"b/c":[1,"x\u0000"]}}`, "/a/b~1c/1"), "x\x00", ""},
		"a number, digit by digit": {in(`{"n":12345678901234567890}`, "/n"), "12345678901234567890", ""},
		"a truth":                  {in(`{"n":false}`, "/n"), "false", ""},
		"nothing":                  {in(`{"n":null}`, "/n"), "", "there is none"},
		"an object":                {in(`{"n":{"b":1}}`, "/n"), `{"b":1}`, ""},
		"past the end":             {in(`[1]`, "/1"), "", "there is none"},
		"a page instead of JSON":   {in(page, "/n"), "", "not JSON"},
		"an XML attribute":         {path(xml, "//task[2]/@id"), "8", ""},
		"an element by its name":   {path(xml, "/*[local-name()='all']/task"), "done & well", ""},
		"a count":                  {path(xml, "count(//task)"), "2", ""},
		"no such path":             {path(xml, "//none"), "", "there is none"},
		"an entity of its own":     {path(`<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`, "/a"), "", "defines entities"},
		"much too deep":            {path(strings.Repeat("<a>", 100_000), "//a"), "", ""},
		"JSON much too deep":       {in(strings.Repeat("[", 100_000), "/0"), "", "too deep"},
	} {
		got, err := c.find()
		if got != c.want || (err != nil) != (c.fails != "" || c.want == "") || err != nil &&
			!strings.Contains(err.Error(), c.fails) {
			t.Errorf("%s: %q, %v", about, got, err)
		}
	}
	for _, err := range []error{extract.CheckSelector("a[["), extract.CheckPointer("a"), extract.CheckXPath("//["),
		extract.CheckXPath("")} {
		if err == nil {
			t.Error("what cannot be looked for is accepted")
		}
	}
}

// What a device answers is a stranger's.
func FuzzExtract(f *testing.F) {
	f.Add([]byte(page))
	f.Add([]byte(`{"a":[{"b":1}]}`))
	f.Add([]byte(`<a><b c="d">e</b></a>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		extract.CSS(text, "form input[name=token]", "value")
		extract.JSON(text, "/a/0/b")
		extract.XPath(text, "//b[@c]/text()")
	})
}

// A device that answers with the most that is looked at cannot make a computation long: what takes the square or more
// of a document's size is given up, or refused when the procedure is checked.
func TestNoAnswerMakesALongComputation(t *testing.T) {
	flat := []byte("<a>" + strings.Repeat("<b/>", extract.MaxBody/4-8) + "</a>")
	for _, expression := range []string{"//b[following-sibling::b[following-sibling::c]]", "//b[count(//b) < 1]",
		"//b[preceding::b[preceding::c]]", "//*[.//*[.//c]]", "count(//b | //b | //b/..)", "//b[string(/) = 'x']"} {
		if _, err := extract.XPath(flat, expression); err == nil {
			t.Errorf("%s found something", expression)
		}
	}
	if got, err := extract.XPath(flat, "count(/a/b)"); err != nil || got == "0" {
		t.Errorf("one pass: %s, %v", got, err)
	}
	for _, selector := range []string{"b ~ b ~ c", "a:has(b:has(c))", "B:Contains('x')", "p~q"} {
		if extract.CheckSelector(selector) == nil {
			t.Errorf("%s is taken", selector)
		}
	}
	for _, selector := range []string{"a[title~='x']", "td:nth-child(2) > a", "tr + tr", ".said", "input[name=token]"} {
		if err := extract.CheckSelector(selector); err != nil {
			t.Errorf("%s: %v", selector, err)
		}
	}
	for about, page := range map[string]string{"siblings": "<p>" + strings.Repeat("<b></b>", 20_000),
		"elements": strings.Repeat("<div><i></i></div>", 60_000)} {
		if _, err := extract.CSS([]byte(page), "b:nth-last-child(3)", ""); err == nil ||
			!strings.Contains(err.Error(), "more elements") {
			t.Errorf("too many %s: %v", about, err)
		}
	}
}
