package procedure

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Keys says what to do with the value of each key that a mapping may have.
type Keys map[string]func(ast.Node)

// Mapping reads a mapping by its known keys; unknown and doubled ones are
// faults, and so are required ones that are missing.
func (r *Reader) Mapping(n ast.Node, what string, known Keys, required ...string) {
	pairs, ok := r.Pairs(n)
	if !ok {
		r.Fault(n, "write key: value lines", "%s is not a mapping", what)
		return
	}
	var names []string
	for name := range known {
		names = append(names, name)
	}
	slices.Sort(names)
	seen := map[string]bool{}
	for _, pair := range pairs {
		key := pair.Key.GetToken().Value
		read, ok := known[key]
		switch {
		case key == "<<":
			r.Fault(pair.Key, "write the keys out", "merge keys are not part of the language")
		case !ok:
			instead := "the keys that fit here are " + strings.Join(names, ", ")
			if near := value.Nearest(key, names); near != "" {
				instead = "write " + near + "; " + instead
			}
			r.Fault(pair.Key, instead, "%s has no key %q", what, key)
		case seen[key]:
			r.Fault(pair.Key, "leave one out", "%s has the key %q twice", what, key)
		case pair.Value == nil || pair.Value.Type() == ast.NullType:
			r.Fault(pair.Key, "give it a value or leave the key out", "%q is empty", key)
		default:
			read(pair.Value)
		}
		seen[key] = true
	}
	for _, key := range required {
		if !seen[key] {
			r.Fault(n, "add "+key+": …", "%s lacks the key %q", what, key)
		}
	}
}

func (r *Reader) Pairs(n ast.Node) ([]*ast.MappingValueNode, bool) {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}, true
	}
	return nil, false
}

func (r *Reader) Text(n ast.Node) string {
	switch t := n.(type) {
	case *ast.StringNode:
		return t.Value
	case *ast.LiteralNode:
		return t.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return t.GetToken().Value
	case *ast.MappingNode, *ast.MappingValueNode:
		if at := n.GetToken().Position; at.Line <= len(r.Lines) && strings.Contains(r.Lines[at.Line-1], "{{") {
			r.Fault(n, QuoteIt, "YAML takes a text that begins with {{ for a mapping")
			return ""
		}
	}
	r.Fault(n, "write one text", "this is not a text")
	return ""
}

var NameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

var valueName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// Content reads a text with values; a bare name is that value alone.
func (r *Reader) Content(n ast.Node) string {
	text := r.Text(n)
	if valueName.MatchString(text) {
		return "{{" + text + "}}"
	}
	return text
}

// Path reads a path with values; a bare name is that value alone.
func (r *Reader) Path(n ast.Node) string {
	text := strings.TrimSpace(r.Content(n))
	if text != "" && text[0] != '/' && !strings.HasPrefix(text, "{{") {
		r.Fault(n, "begin with a slash, or with a setting of the kind path", "%q is not an absolute path", text)
	}
	return text
}

// Whole reads a text that is one value: its name, or {{name}}.
func (r *Reader) Whole(n ast.Node) string {
	text := strings.TrimSpace(r.Content(n))
	m := value.Placeholder.FindStringSubmatch(text)
	if m == nil || m[0] != text {
		r.Fault(n, "write the name of one value, such as request_key", "%q is not one value alone", text)
		return ""
	}
	return m[1]
}

func (r *Reader) name(n ast.Node) string {
	name := r.Text(n)
	if !NameForm.MatchString(name) {
		r.Fault(n, "use small letters, digits and -", "%q cannot be a procedure's name", name)
	}
	return name
}

// valueNamed reads the name of a new value.
func (r *Reader) valueNamed(n ast.Node, what string) string {
	name := r.Text(n)
	switch _, taken := givenOf(name); {
	case !valueName.MatchString(name):
		r.Fault(n, "use small letters, digits and _", "%q cannot be the name of %s", name, what)
	case taken && !(what == "a captured value" && name == "request"), name == Item:
		r.Fault(n, "choose another name", "%q is the name of a value that every procedure has", name)
	}
	return name
}

// words reads one word or a list of them, each among the allowed ones.
func (r *Reader) words(n ast.Node, allowed []string) []string {
	var out []string
	for _, each := range r.Nodes(n) {
		out = append(out, r.OneOf(each, allowed))
	}
	return out
}

func (r *Reader) Nodes(n ast.Node) []ast.Node {
	if list, ok := n.(*ast.SequenceNode); ok {
		return list.Values
	}
	return []ast.Node{n}
}

func (r *Reader) OneOf(n ast.Node, allowed []string) string {
	word := r.Text(n)
	if !slices.Contains(allowed, word) {
		instead := "write one of " + strings.Join(allowed, ", ")
		if near := value.Nearest(word, allowed); near != "" {
			instead = "write " + near + "; the words that fit here are " + strings.Join(allowed, ", ")
		}
		r.Fault(n, instead, "%q is not known here", word)
	}
	return word
}

func (r *Reader) Duration(n ast.Node) time.Duration {
	d, err := time.ParseDuration(r.Text(n))
	if err != nil || d <= 0 || d > 60*24*time.Hour {
		r.Fault(n, "write a length of time, such as 30s, 5m or 48h", "%q is not such a length of time", r.Text(n))
		return time.Second
	}
	return d
}

func (r *Reader) Bool(n ast.Node) bool { return r.OneOf(n, []string{"true", "false"}) == "true" }

func strs[S ~string](list []S) []string {
	out := make([]string, len(list))
	for i, each := range list {
		out[i] = string(each)
	}
	return out
}

func (r *Reader) Number(n ast.Node, least, most int) int {
	number, err := strconv.Atoi(r.Text(n))
	if err != nil || number < least || number > most {
		r.Fault(n, fmt.Sprintf("write a number from %d to %d", least, most), "%q is not such a number", r.Text(n))
	}
	return number
}

func (r *Reader) Pattern(n ast.Node) *regexp.Regexp { return r.PatternOf(n, r.Text(n)) }

// PatternOf compiles a pattern that is at a place.
func (r *Reader) PatternOf(n ast.Node, text string) *regexp.Regexp {
	p, err := regexp.Compile(text)
	if err != nil {
		r.Fault(n, "see the syntax of RE2", "this is not a regular expression: %v", err)
		return regexp.MustCompile("$^")
	}
	return p
}

func FirstLine(text string) string {
	line, rest, more := strings.Cut(strings.TrimSpace(text), "\n")
	if more && rest != "" {
		line += " …"
	}
	if len(line) > 70 {
		line = strings.ToValidUTF8(line[:68], "") + " …"
	}
	return line
}
