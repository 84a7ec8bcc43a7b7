package verb

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// jsonText is JSON whose texts may hold values.
type jsonText struct {
	members []jsonMember // of an object
	items   []*jsonText  // of an array
	text    string       // of a text
	literal string       // a number, true, false or null
	shape   byte         // '{', '[', '"', '*' or 0
	// of '*': the list whose items are put, one after another, into the one item; an element of an array
	each string
}

type jsonMember struct {
	name  string
	value *jsonText
}

const mostJSON = 20 // how deep it may nest

func readJSON(r *procedure.Reader, n ast.Node, depth int) *jsonText {
	if depth > mostJSON {
		r.Fault(n, "nest less", "the JSON nests deeper than %d", mostJSON)
		return &jsonText{literal: "null"}
	}
	if pairs, isMap := r.Pairs(n); isMap {
		if at := n.GetToken().Position; at.Line <= len(r.Lines) && len(pairs) == 1 &&
			strings.Contains(r.Lines[at.Line-1], " {{"+pairs[0].Key.GetToken().Value+"}}") {
			r.Fault(n, procedure.QuoteIt, "YAML takes a text that begins with {{ for a mapping")
		}
		out := &jsonText{shape: '{'}
		for _, pair := range pairs {
			out.members = append(out.members, jsonMember{pair.Key.GetToken().Value, readJSON(r, pair.Value, depth+1)})
		}
		return out
	}
	switch t := n.(type) {
	case *ast.SequenceNode:
		out := &jsonText{shape: '['}
		for _, each := range t.Values {
			out.items = append(out.items, readJSONEach(r, each, depth+1))
		}
		return out
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode:
		if literal := n.GetToken().Value; json.Valid([]byte(literal)) {
			return &jsonText{literal: literal}
		}
		r.Fault(n, "write it as JSON does, or into quotes", "%q is no number, true, false or null of JSON",
			n.GetToken().Value)
		return &jsonText{literal: "null"}
	}
	return &jsonText{shape: '"', text: r.Text(n)}
}

// readJSONEach reads an element of an array, which may stand for several:
//
//	[{each: "{{dns_names}}", item: {type: DNS, value: "{{item}}"}}]
func readJSONEach(r *procedure.Reader, n ast.Node, depth int) *jsonText {
	pairs, isMap := r.Pairs(n)
	if !isMap || len(pairs) != 2 || pairs[0].Key.GetToken().Value != "each" ||
		pairs[1].Key.GetToken().Value != procedure.Item {
		return readJSON(r, n, depth)
	}
	list := lone(r.Text(pairs[0].Value))
	if list == "" {
		r.Fault(pairs[0].Value, "write each: with the name of one list in double braces", "%q is not one list",
			r.Text(pairs[0].Value))
	}
	return &jsonText{shape: '*', each: list, items: []*jsonText{readJSON(r, pairs[1].Value, depth+1)}}
}

func (j *jsonText) walk(each func(text string)) {
	if j == nil {
		return
	}
	if j.shape == '*' {
		each("{{" + j.each + "}}")
		j.items[0].walk(func(text string) { each(itself.ReplaceAllString(text, "")) })
		return
	}
	each(j.text)
	for _, m := range j.members {
		m.value.walk(each)
	}
	for _, item := range j.items {
		item.walk(each)
	}
}

// expand writes JSON. A number that is alone is one, and a list that is alone is
// an array of texts; all else is a text. A member that is one empty value alone is left out.
func (j *jsonText) expand(scope *procedure.Scope, show bool) ([]byte, error) {
	var out bytes.Buffer
	err := j.write(&out, scope, show)
	return out.Bytes(), err
}

func (j *jsonText) write(out *bytes.Buffer, scope *procedure.Scope, show bool) error {
	switch j.shape {
	case 0:
		out.WriteString(j.literal)
	case '{':
		out.WriteByte('{')
		first := true
		for _, m := range j.members {
			if m.value.empty(scope) {
				continue
			}
			if !first {
				out.WriteByte(',')
			}
			first = false
			jsonString(out, m.name)
			out.WriteByte(':')
			if err := m.value.write(out, scope, show); err != nil {
				return err
			}
		}
		out.WriteByte('}')
	case '[':
		out.WriteByte('[')
		first := true
		for _, each := range j.items {
			scopes, err := each.repeated(scope)
			if err != nil {
				return err
			}
			for _, scope := range scopes {
				if !first {
					out.WriteByte(',')
				}
				first = false
				one := each
				if each.shape == '*' {
					one = each.items[0]
				}
				if err := one.write(out, scope, show); err != nil {
					return err
				}
			}
		}
		out.WriteByte(']')
	default:
		return j.writeText(out, scope, show)
	}
	return nil
}

// itself is the item of a list, in the text that is repeated for it.
var itself = regexp.MustCompile(`\{\{ *item *\}\}`)

// repeated returns the scopes in which an element of an array is written: one, or one for each item of its list.
func (j *jsonText) repeated(scope *procedure.Scope) ([]*procedure.Scope, error) {
	if j.shape != '*' {
		return []*procedure.Scope{scope}, nil
	}
	v, err := scope.Value(j.each)
	switch {
	case err != nil:
		return nil, fmt.Errorf("{{%s}} %w", j.each, err)
	case !v.Known:
		return []*procedure.Scope{scope.With(procedure.Item, v)}, nil
	case v.Kind != value.List:
		return nil, fmt.Errorf("{{%s}} is not a list", j.each)
	}
	var out []*procedure.Scope
	for _, word := range v.Words {
		out = append(out, scope.With(procedure.Item, value.TextValue(word)))
	}
	return out, nil
}

// empty reports whether it is one value alone, which is known to be empty.
func (j *jsonText) empty(scope *procedure.Scope) bool {
	name := lone(j.text)
	if j.shape != '"' || name == "" {
		return false
	}
	v, err := scope.Value(name)
	return err == nil && !v.Filled()
}

func (j *jsonText) writeText(out *bytes.Buffer, scope *procedure.Scope, show bool) error {
	if name := lone(j.text); name != "" {
		v, err := scope.Value(name)
		switch {
		case err != nil:
			return fmt.Errorf("{{%s}} %w", name, err)
		case v.Known && v.Kind == value.Number && v.Text != "":
			out.WriteString(v.Text)
			return nil
		case v.Known && v.Kind == value.List:
			out.WriteByte('[')
			for i, word := range v.Words {
				if i > 0 {
					out.WriteByte(',')
				}
				jsonString(out, word)
			}
			out.WriteByte(']')
			return nil
		}
	}
	f, err := procedure.ExpandField(j.text, scope, nil)
	if err != nil {
		return err
	}
	if show {
		f.Text = f.Shown
	}
	jsonString(out, f.Text)
	return nil
}

func jsonString(out *bytes.Buffer, text string) {
	e := json.NewEncoder(out)
	e.SetEscapeHTML(false)
	e.Encode(text) // a text is always written
	out.Truncate(out.Len() - 1)
}
