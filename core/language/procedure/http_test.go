package procedure_test

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/url"
	"strings"
	"testing"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
)

func web(steps string) string {
	return "procedure: ours\ntitle: x\nlinks: [https]\nsettings:\n  label: {about: x}\n  word: {kind: secret, " +
		"about: x}\n  count: {kind: number, about: x, default: \"7\"}\n  where: {kind: list, about: x}\n" +
		"traits: {key_types: [ecdsa-p256], key_made_by: service}\n" + steps
}

func asked(t *testing.T, step string, own map[string]string) (*verb.HTTPAct, error) {
	t.Helper()
	if !strings.Contains(step, "GET ") {
		step += ", undo: nothing"
	}
	p, faults := procedure.Parse([]byte(web("steps:\n  activate:\n    - {step: it, " + step +
		"}\n    - {step: other, http: POST /y, undo: nothing}\n")))
	if procedure.Refused(faults) {
		t.Fatalf("%s: %v", step, faults)
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p}, own, nil)
	if err != nil {
		return nil, err
	}
	ready, err := p.Steps[procedure.Activate][0].Expand(procedure.Activate, "", scope)
	if err != nil {
		return nil, err
	}
	return ready.Act.(*verb.HTTPAct), nil
}

// fieldBreakers are values that would end a field, a text, an element or a part, or begin another.
var fieldBreakers = []string{"plain", "a&b=c;d", `q"u'o\te`, "<b>&amp;</b>", "]]>", "--part-", "{{word}}",
	"%00%2e%2e", "über ünder", "=?utf-8?q?x?=", "a,b c", "`id`$(id)", "\\u0022", "../../etc", "null", "true", "007",
	" lead and trail "}

// Every value comes out of its place as it went in, whatever it holds: a real reader of
// each form is asked.
func TestAValueIsEncodedForItsPlace(t *testing.T) {
	for _, value := range fieldBreakers {
		own := map[string]string{"label": value, "word": value + " of salt"}
		form, err := asked(t, `http: POST /x, form: {a: "{{label}}", b: "x {{word}}", c: "1"}`, own)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := url.ParseQuery(string(form.Body)); err != nil || len(got) != 3 || got.Get("a") != value ||
			got.Get("b") != "x "+value+" of salt" {
			t.Errorf("form: %q gives %v %v", value, got, err)
		}
		texts, err := asked(t,
			`http: POST /x, json: {a: {b: ["{{label}}", "{{count}}", 5, true]}, c: "say {{label}}", d: "{{where}}"}`,
			own)
		if err != nil {
			t.Fatal(err)
		}
		var object struct {
			A struct{ B []any }
			C string
			D []string
		}
		if err := json.Unmarshal(texts.Body, &object); err != nil || object.A.B[0] != value || object.A.B[1] != 7.0 ||
			object.C != "say "+value || object.D != nil {
			t.Errorf("JSON: %q gives %s %v", value, texts.Body, err)
		}
		marked, err := asked(t, `http: POST /x, xml: '<a b="{{label}}"><c>{{label}}</c></a>'`, own)
		if err != nil {
			t.Fatal(err)
		}
		var element struct {
			B string `xml:"b,attr"`
			C string `xml:"c"`
		}
		if err := xml.Unmarshal(marked.Body, &element); err != nil || element.B != value || element.C != value {
			t.Errorf("XML: %q gives %s %v", value, marked.Body, err)
		}
		parts, err := asked(t, `http: POST /x, parts: {a: "{{label}}", f: {file: x.pem, holds: word}}`, own)
		if err != nil {
			t.Fatal(err)
		}
		_, of, err := mime.ParseMediaType(parts.Header.Get("Content-Type"))
		if err != nil {
			t.Fatal(err)
		}
		reader := multipart.NewReader(strings.NewReader(string(parts.Body)), of["boundary"])
		for i, want := range []string{value, value + " of salt"} {
			part, err := reader.NextPart()
			if err != nil {
				t.Fatalf("parts: %q: %v", value, err)
			}
			if got, _ := io.ReadAll(part); string(got) != want || (part.FileName() == "x.pem") != (i == 1) {
				t.Errorf("parts: %q gives %q", value, got)
			}
		}
		if _, err := reader.NextPart(); err != io.EOF {
			t.Errorf("parts: %q makes more parts: %v", value, err)
		}
		if at, err := asked(t, `http: "GET /x/{{label}}/y", query: {q: "{{label}}"}`, own); err == nil {
			u, err := url.Parse("https://h" + at.Path)
			if err != nil || u.Host != "h" || u.Query().Get("q") != value || len(u.Query()) != 1 ||
				strings.Count(u.EscapedPath(), "/") != 3 {
				t.Errorf("path: %q gives %s %v", value, at.Path, err)
			}
		} else {
			t.Errorf("path: %q: %v", value, err)
		}
		for _, act := range []*verb.HTTPAct{form, parts} {
			if text := act.Line() + act.Detail(); strings.Contains(text, " of salt") ||
				strings.Contains(text, "+of+salt") {
				t.Errorf("a secret is shown: %s", text)
			}
		}
		field, err := asked(t, `http: GET /x, headers: {X-A: "{{label}}"}`, own)
		if plain := !strings.ContainsFunc(value, func(r rune) bool { return r > 0x7e }); (err == nil) != plain ||
			err == nil && field.Header.Get("X-A") != value {
			t.Errorf("header: %q gives %v", value, err)
		}
	}
	for _, dots := range []string{"..", ".", ""} {
		if at, err := asked(t, `http: "GET /x/{{label}}/y"`, map[string]string{"label": dots}); err == nil {
			t.Errorf("path: %q gives %s", dots, at.Path)
		}
	}
	// A query may be empty.
	if at, err := asked(t, `http: GET /x, query: {unit: "{{label}}"}`, map[string]string{"label": ""}); err != nil ||
		at.Path != "/x?unit=" {
		t.Errorf("an empty query: %v %v", at, err)
	}
	// A path that a device gave stays on the device.
	for given, ok := range map[string]bool{"/a/b#c": true, "//evil/x": false, "https://evil/": false,
		"/a/../b": false, "/a?b": false, "a": false, "/a b": false, "/a\u00a0": false} {
		if at, err := asked(t, `http: "GET {{label}}"`, map[string]string{"label": given}); (err == nil) != ok {
			t.Errorf("a given path %q: %v %v", given, at, err)
		}
	}
}

// What is wrong with a call is told before a device is touched.
func TestFaultsOfCallsAreFound(t *testing.T) {
	call := func(step string) string {
		return web("steps:\n  activate:\n    - {step: it, " + step + "}\n    - {step: other, http: POST /y, undo: " +
			"nothing}\n")
	}
	for _, c := range []struct{ about, text, says string }{
		{"no method", call("http: /x"), "the methods are GET"},
		{"another host", call("http: GET https://other/x"), "the host is that of the device's access"},
		{"a query in the path", call("http: GET /x?a=b"), "write query:"},
		{"a change without a way back", call("http: POST /x"), "does not say how it is undone"},
		{"a body of two kinds", call(`http: POST /x, form: {a: b}, json: {a: b}, undo: nothing`),
			"has one body, and this one has 2"},
		{"a body of a question", call(`http: GET /x, form: {a: b}`), "GET has no body"},
		{"a secret in the path", call(`http: "GET /x/{{word}}"`), "may not be part of an address"},
		{"a secret in a query", call(`http: GET /x, query: {a: "{{web_password}}"}`), "may not be part of an address"},
		{"a file in a header", call(`http: GET /x, headers: {X-A: "{{leaf}}"}`), "is no header"},
		{"our own header", call(`http: GET /x, headers: {Host: other}`), "written by Fresh Seal itself"},
		{"a value in an element's name", call(`http: POST /x, xml: "<{{label}}/>", undo: nothing`), "stands in a name"},
		{"a value in a comment", call(`http: POST /x, xml: "<a><!-- {{label}} --></a>", undo: nothing`),
			"a comment or the like"},
		{"no XML", call(`http: POST /x, xml: "<a>", undo: nothing`), "this is not XML"},
		{"a faulty selector", call(`http: GET /x, capture: {a: {css: "a[["}}`), "cannot be looked for"},
		{"a faulty pointer", call(`http: GET /x, expect: {json: {state: done}}`), "cannot be looked for"},
		{"a selector of a command's output", strings.Replace(call(`run: id, undo: nothing, capture: {a: {css: b}}`),
			"[https]", "[https, ssh]", 1), "belong to what http answers"},
		{"a type of JSON", call(`http: POST /x, json: {a: b}, type: text/plain, undo: nothing`),
			"type belongs to text"},
		{"between nothing", call(`http: GET /x, between: ";"`), "nothing is sent"},
		{"every without until", call(`http: GET /x, every: 5s`), "every belongs to until"},
		{"a wait whose answer may not come", call(`http: GET /x, until: {status: 200}, drop: expected`),
			"cannot do without one"},
		{"two places at once", call(`http: GET /x, capture: {a: {json: /a, css: b}}`), "names one place"},
		{"an attribute of nothing", call(`http: GET /x, capture: {a: {json: /a, attribute: b}}`), "names one place"},
		{"the errors of an answer", call(`http: GET /x, capture: {a: {match: b, from: errors}}`), "no error output"},
		{"a way to sign in without the link", "procedure: ours\ntitle: x\nlinks: [ssh]\ntraits: {key_types: " +
			"[ecdsa-p256], key_made_by: service, web_sign_in: basic}\nsteps: {activate: [{run: id, undo: nothing}]}\n",
			"belongs to the link https"},
		{"two operations", strings.Replace(call("rpc: <commit/><discard-changes/>, undo: nothing"), "[https]",
			"[https, netconf]", 1), "one operation"},
		{"no operation", strings.Replace(call("rpc: commit, undo: nothing"), "[https]", "[https, netconf]", 1),
			"not an operation"},
		{"fails without until", call(`http: GET /x, fails: {status: 500}`), "belong to until"},
		{"a change that is made again and again", call(`http: POST /x, until: {status: 200}, undo: nothing`),
			"safe to repeat"},
		{"a session over SSH", strings.Replace(web("session: {sign_in: [{run: id}]}\nsteps: {activate: [{http: "+
			"GET /x}]}\n"), "[https]", "[https, ssh]", 1), "calls over the link https"},
		{"a session that changes something", web("session: {sign_in: [{http: POST /x, undo: nothing}]}\nsteps: " +
			"{activate: [{http: GET /x}]}\n"), "no undo, finally or each"},
	} {
		_, faults := procedure.Parse([]byte(c.text))
		if said := fmt.Sprint(faults); !procedure.Refused(faults) || !strings.Contains(said, c.says) {
			t.Errorf("%s: %v", c.about, faults)
		}
	}
}

// An element of an array stands for each item of a list, as a text or an object; what an item holds stays in its place.
func TestAListBecomesElementsOfAnArray(t *testing.T) {
	for _, value := range fieldBreakers {
		if value == "a,b c" { // a setting of the kind list is separated by commas and blanks
			continue
		}
		act, err := asked(t,
			`http: POST /x, json: {names: ["first", {each: "{{where}}", item: "DNS:{{item}}"}], more: [{each: "{{where}}", item: {type: DNS, value: "{{item}}"}}], none: [{each: "{{slots}}", item: "{{item}}"}]}`, map[string]string{"where": "quay.example mole.example", "label": value})
		if err != nil {
			t.Fatal(err)
		}
		if want := `{"names":["first","DNS:quay.example","DNS:mole.example"],"more":[{"type":"DNS","value":"quay.example"},{"type":"DNS","value":"mole.example"}],"none":[]}`; string(act.Body) != want {
			t.Fatalf("it gives %s", act.Body)
		}
	}
	for step, said := range map[string]string{
		`http: POST /x, json: [{each: where, item: "{{item}}"}], undo: nothing`:         "is not one list",
		`http: POST /x, json: [{each: "{{label}}", item: "{{nobody}}"}], undo: nothing`: "nobody",
		`http: POST /x, json: {each: "{{where}}", item: "{{item}}"}, undo: nothing`:     "only beside each",
		`http: POST /x, json: [{each: "{{nothing}}", item: "{{item}}"}], undo: nothing`: "nothing",
		`http: POST /x, json: [{each: "{{where}}{{where}}", item: "a"}], undo: nothing`: "is not one list",
	} {
		_, faults := procedure.Parse([]byte(web("steps:\n  activate:\n    - {step: it, " + step + "}\n")))
		if !strings.Contains(fmt.Sprint(faults), said) {
			t.Errorf("%s: %v", step, faults)
		}
	}
}
