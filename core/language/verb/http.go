package verb

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/answer"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// HTTP is a call to the device's web interface. Its path follows the method; every value
// is encoded for its place:
//
//   - http: POST /api/certificates/{{slot_name}}
//     json: {certificate: "{{leaf}}", chain: "{{intermediates}}"}
//     expect: {status: 201, json: {/state: "^accepted$"}}
//     capture: {task: {json: /task}}
//     undo: POST /api/certificates/previous
//   - http: GET /api/tasks/{{task}}
//     until: {json: {/state: "^done$"}}
//     fails: {json: {/state: "^failed$"}}
//     progress: {json: /percent}
type HTTP struct {
	procedure.PlainVerb
	Method  string
	Path    string
	Query   []answer.Labelled
	Headers []answer.Labelled
	Body    body
	Want    answer.Answer
	Until   *answer.Answer // asked again and again until this is met
	Fails   *answer.Answer // ends that at once
	Percent answer.Spot    // how much is done, of what is waited for
	Every   time.Duration
	Drop    bool // the connection may end before the answer
}

// HTTPAct is a call in its final form.
type HTTPAct struct {
	Method, Path string // with the query, encoded
	Header       http.Header
	Body         []byte
	Want         answer.Answer
	Until, Fails *answer.Answer
	Percent      answer.Spot
	Every        time.Duration
	Drop         bool
	shown        string // headers and body, without secrets
}

var _ = procedure.Register("a call to the device's web interface", func() procedure.Verb { return &HTTP{} })

func (*HTTP) Word() string { return "http" }
func (v *HTTP) Title() string {
	return v.Method + " " + value.Placeholder.ReplaceAllString(v.Path, "$1")
}
func (*HTTP) Link() string      { return procedure.HTTPS }
func (v *HTTP) Safe() bool      { return v.Method == http.MethodGet || v.Method == http.MethodHead }
func (*HTTP) Gives() value.Kind { return value.Content }

// Changes says that what is more than a question has to be undone.
func (v *HTTP) Changes() procedure.Way {
	if v.Safe() {
		return procedure.Looks
	}
	return procedure.AsksWay
}

// Expects is so; what it expects is part of the verb.
func (*HTTP) Expects() bool { return true }

var (
	methods  = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}
	pathForm = regexp.MustCompile(`^/[^\s?#]*$`)
)

func (v *HTTP) Read(r *procedure.Reader, n ast.Node) {
	method, path, ok := strings.Cut(strings.TrimSpace(r.Text(n)), " ")
	v.Method, v.Path = method, strings.TrimSpace(path)
	plain := value.Placeholder.ReplaceAllString(v.Path, "x")
	if lone(v.Path) != "" {
		plain = "/x" // the value is a path that the device gave
	}
	switch {
	case !ok || !slices.Contains(methods, method):
		r.Fault(n, "write a method and a path, such as GET /api/state; the methods are "+strings.Join(methods, ", "),
			"%q is not a call", r.Text(n))
	case strings.ContainsAny(plain, "?#"):
		r.Fault(n, "write query: {name: value} beside it", "the path contains a query or a fragment")
	case !pathForm.MatchString(plain):
		r.Fault(n, "begin the path with a slash; the host is that of the device's access", "%q is not a path", v.Path)
	}
}

func (v *HTTP) Keys(r *procedure.Reader) procedure.Keys {
	out := procedure.Keys{
		"query":   func(n ast.Node) { v.Query = r.Labelled(n, "query", r.Text) },
		"headers": func(n ast.Node) { v.Headers = r.Headers(n) },
		"expect":  func(n ast.Node) { v.Want = r.Answer(n, "expect") },
		"until":   func(n ast.Node) { a := r.Answer(n, "until"); v.Until = &a },
		"fails":   func(n ast.Node) { a := r.Answer(n, "fails"); v.Fails = &a },
		"progress": func(n ast.Node) {
			c := procedure.Capture{}
			r.Mapping(n, "progress", r.Spots(&c))
			v.Percent = c.Spot
			v.Percent.Pattern = c.Pattern
		},
		"every": func(n ast.Node) { v.Every = r.Duration(n) },
		"drop":  func(n ast.Node) { v.Drop = r.OneOf(n, []string{"expected", "no"}) == "expected" },
	}
	for key, read := range v.Body.keys(r) {
		out[key] = read
	}
	return out
}

// revive:disable-next-line:cyclomatic rules of a table of keys
func (v *HTTP) Finish(r *procedure.Reader, n ast.Node, s *procedure.Step) {
	switch {
	case v.Body.kinds > 1:
		r.Fault(n, "write one of form, json, xml, parts and text", "a call has one body, and this one has %d",
			v.Body.kinds)
	case v.Body.kind != "" && v.Body.text == "":
		r.Fault(n, "leave type out, or write text:", "type belongs to text; other bodies have a type of their own")
	case v.Body.between != nil && v.Body.kinds == 0:
		r.Fault(n, "leave between out", "between is for lists in what is sent, and nothing is sent")
	case v.Until == nil && v.Every > 0:
		r.Fault(n, "leave every out, or write until:", "every belongs to until")
	case v.Until != nil && v.Drop:
		r.Fault(n, "leave one out", "a call that waits for an answer cannot do without one")
	case v.Body.kinds > 0 && v.Safe():
		r.Fault(n, "write POST, or query: instead", "%s has no body", v.Method)
	case v.Until == nil && (v.Fails != nil || v.Percent != (answer.Spot{})):
		r.Fault(n, "write until: with what is waited for", "fails and progress belong to until")
	case v.Until != nil && !v.Safe() && !s.Repeat:
		r.Fault(n, "make two steps of it, the second with GET, or write repeat: safe", "a call that is made again "+
			"and again must be safe to repeat")
	case v.Until != nil && v.Until.Same != nil, v.Fails != nil && v.Fails.Same != nil:
		r.Fault(n, "write it in expect", "same belongs to expect")
	case v.Until != nil && v.Until.IsZero():
		r.Fault(n, "write what is waited for, such as {json: {/state: done}}", "until waits for nothing")
	case v.Drop && len(s.Capture) > 0:
		r.Fault(n, "leave capture out", "nothing can be captured of an answer that may not come")
	}
	if v.Every == 0 {
		v.Every = defaultEvery
	}
}

func (v *HTTP) Uses() []procedure.Use {
	out := []procedure.Use{{Text: v.Path, Place: procedure.InURL}}
	for _, each := range v.Query {
		out = append(out, procedure.Use{Text: each.Text, Place: procedure.InURL})
	}
	for _, each := range v.Headers {
		out = append(out, procedure.Use{Text: each.Text, Place: procedure.InHeader})
	}
	for _, each := range v.Want.Same {
		out = append(out, procedure.Use{Text: each.Text, Place: procedure.InWords})
	}
	return append(out, v.Body.uses()...)
}

// Expand returns an *HTTPAct.
func (v *HTTP) Expand(scope *procedure.Scope) (procedure.Act, error) {
	a := &HTTPAct{Method: v.Method, Header: http.Header{}, Until: v.Until, Fails: v.Fails, Percent: v.Percent,
		Every: v.Every, Drop: v.Drop}
	var err error
	if a.Want, err = procedure.ExpandAnswer(v.Want, scope); err != nil {
		return nil, err
	}
	encode := pathPart
	if lone(v.Path) != "" {
		encode = wholePath
	}
	if a.Path, err = expandURL(v.Path, scope, encode); err != nil {
		return nil, err
	}
	fields := v.Headers
	if !scope.NotIn {
		fields = append(slices.Clone(scope.Material.Procedure.Headers), fields...)
	}
	for i, each := range v.Query {
		text, err := expandURL(each.Text, scope, queryText)
		if err != nil {
			return nil, err
		}
		a.Path += map[bool]string{true: "?", false: "&"}[i == 0] + url.QueryEscape(each.Label) + "=" + text
	}
	var shown strings.Builder
	for _, each := range fields {
		field, err := procedure.ExpandField(each.Text, scope, notInHeader)
		if err != nil {
			return nil, err
		}
		a.Header.Set(each.Label, field.Text)
		fmt.Fprintf(&shown, "%s: %s\n", each.Label, field.Shown)
	}
	made, err := v.Body.expand(scope)
	if err != nil {
		return nil, err
	}
	if a.Body = made.bytes; made.kind != "" {
		a.Header.Set("Content-Type", made.kind)
		shown.WriteString(made.shown)
	}
	a.shown = shown.String()
	return a, nil
}

// expandURL puts values into a path or a query, encoded; what is there may be logged
// on the way, so no secret does.
func expandURL(text string, scope *procedure.Scope, encode func(string) (string, error)) (string, error) {
	return procedure.ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) {
		switch {
		case v.Secret, v.Kind == value.Secret:
			return "", errors.New("is secret and may not be part of an address, which servers log")
		case v.Kind == value.Content:
			return "", errors.New("is a file's content and may not be part of an address")
		case !v.Known:
			return procedure.YetToCome(v), nil
		}
		out, err := encode(v.Plain())
		return out, err
	})
}

func queryText(text string) (string, error) { return url.QueryEscape(text), nil }

// pathPart returns a value as one part of a path.
func pathPart(text string) (string, error) {
	if text == "" || text == "." || text == ".." {
		return "", fmt.Errorf("is %q, which leads to another address", text)
	}
	return url.PathEscape(text), nil
}

var givenPath = regexp.MustCompile(`^/[A-Za-z0-9._~!$&'()*+,;=:@%/#-]*$`)

// wholePath takes a path that a device gave, as it is. One that leads elsewhere is refused.
func wholePath(path string) (string, error) {
	if !givenPath.MatchString(path) || strings.HasPrefix(path, "//") ||
		slices.Contains(strings.Split(path, "/"), "..") {
		return "", fmt.Errorf("is %q, which is not a path on this device", answer.Shorten(path))
	}
	return strings.ReplaceAll(path, "#", "%23"), nil
}

func notInHeader(text string) error {
	if strings.ContainsFunc(text, func(r rune) bool { return value.IsControl(r) || r > 0x7e }) {
		return errors.New("holds what a header cannot")
	}
	return nil
}

// Line returns the call.
func (a *HTTPAct) Line() string {
	text := a.Method + " " + a.Path
	if a.Until != nil {
		text += ", until " + a.Until.Text()
	}
	return text
}

// Detail are headers and body.
func (a *HTTPAct) Detail() string { return a.shown }

// Judge returns why an answer is not what the call expects.
func (a *HTTPAct) Judge(r answer.Response) error {
	if a.Want.Status == nil && a.Want.LeadsTo == nil && a.Until == nil && r.Status >= 300 {
		return fmt.Errorf("the device answers with status %d", r.Status)
	}
	return a.Want.Met(r)
}

// Done returns how much of what is waited for is done, in percent; 0 where the answer does not
// say.
func (a *HTTPAct) Done(r answer.Response) int {
	if a.Percent == (answer.Spot{}) {
		return 0
	}
	text, err := a.Percent.Find(r)
	if err != nil {
		return 0
	}
	n := 0
	if _, err := fmt.Sscanf(strings.TrimSpace(text), "%d", &n); err != nil {
		return 0
	}
	return max(0, min(n, 100))
}

func (v *HTTP) Refusals(r *procedure.Reader, s *procedure.Step) func(ast.Node) {
	return func(n ast.Node) {
		a := r.Answer(n, "refused")
		if s.Refused.Answer = &a; a.Same != nil || a.IsZero() {
			r.Fault(n, "write what the device answers when it refuses, such as refused: {status: 422}",
				"this says of no answer that it is a refusal")
		}
	}
}
