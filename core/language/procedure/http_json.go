package procedure

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

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

func (r *reader) json(n ast.Node, depth int) *jsonText {
	if depth > mostJSON {
		r.fault(n, "nest less", "the JSON nests deeper than %d", mostJSON)
		return &jsonText{literal: "null"}
	}
	if pairs, isMap := r.pairs(n); isMap {
		if at := n.GetToken().Position; at.Line <= len(r.lines) && len(pairs) == 1 &&
			strings.Contains(r.lines[at.Line-1], " {{"+pairs[0].Key.GetToken().Value+"}}") {
			r.fault(n, quoteIt, "YAML takes a text that begins with {{ for a mapping")
		}
		out := &jsonText{shape: '{'}
		for _, pair := range pairs {
			out.members = append(out.members, jsonMember{pair.Key.GetToken().Value, r.json(pair.Value, depth+1)})
		}
		return out
	}
	switch t := n.(type) {
	case *ast.SequenceNode:
		out := &jsonText{shape: '['}
		for _, each := range t.Values {
			out.items = append(out.items, r.jsonEach(each, depth+1))
		}
		return out
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode:
		if literal := n.GetToken().Value; json.Valid([]byte(literal)) {
			return &jsonText{literal: literal}
		}
		r.fault(n, "write it as JSON does, or into quotes", "%q is no number, true, false or null of JSON",
			n.GetToken().Value)
		return &jsonText{literal: "null"}
	}
	return &jsonText{shape: '"', text: r.text(n)}
}

// jsonEach reads an element of an array, which may stand for several:
//
//	[{each: "{{dns_names}}", item: {type: DNS, value: "{{item}}"}}]
func (r *reader) jsonEach(n ast.Node, depth int) *jsonText {
	pairs, isMap := r.pairs(n)
	if !isMap || len(pairs) != 2 || pairs[0].Key.GetToken().Value != "each" || pairs[1].Key.GetToken().Value != item {
		return r.json(n, depth)
	}
	list := lone(r.text(pairs[0].Value))
	if list == "" {
		r.fault(pairs[0].Value, "write each: with the name of one list in double braces", "%q is not one list",
			r.text(pairs[0].Value))
	}
	return &jsonText{shape: '*', each: list, items: []*jsonText{r.json(pairs[1].Value, depth+1)}}
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

// expand writes JSON. A number that stands alone is one, and a list that stands alone is
// an array of texts; all else is a text. A member that is one empty value alone is left out.
func (j *jsonText) expand(scope *Scope, show bool) ([]byte, error) {
	var out bytes.Buffer
	err := j.write(&out, scope, show)
	return out.Bytes(), err
}

func (j *jsonText) write(out *bytes.Buffer, scope *Scope, show bool) error {
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

// repeated are the scopes in which an element of an array is written: one, or one for each item of its list.
func (j *jsonText) repeated(scope *Scope) ([]*Scope, error) {
	if j.shape != '*' {
		return []*Scope{scope}, nil
	}
	v, err := scope.Value(j.each)
	switch {
	case err != nil:
		return nil, fmt.Errorf("{{%s}} %w", j.each, err)
	case !v.Known:
		return []*Scope{scope.With(item, v)}, nil
	case v.Kind != List:
		return nil, fmt.Errorf("{{%s}} is not a list", j.each)
	}
	var out []*Scope
	for _, word := range v.Words {
		out = append(out, scope.With(item, TextValue(word)))
	}
	return out, nil
}

// empty says that it is one value alone, which is known to be empty.
func (j *jsonText) empty(scope *Scope) bool {
	name := lone(j.text)
	if j.shape != '"' || name == "" {
		return false
	}
	v, err := scope.Value(name)
	return err == nil && !v.filled()
}

func (j *jsonText) writeText(out *bytes.Buffer, scope *Scope, show bool) error {
	if name := lone(j.text); name != "" {
		v, err := scope.Value(name)
		switch {
		case err != nil:
			return fmt.Errorf("{{%s}} %w", name, err)
		case v.Known && v.Kind == Number && v.Text != "":
			out.WriteString(v.Text)
			return nil
		case v.Known && v.Kind == List:
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
	f, err := expandField(j.text, scope, nil)
	if err != nil {
		return err
	}
	if show {
		f.text = f.shown
	}
	jsonString(out, f.text)
	return nil
}

func jsonString(out *bytes.Buffer, text string) {
	e := json.NewEncoder(out)
	e.SetEscapeHTML(false)
	e.Encode(text) // a text is always written
	out.Truncate(out.Len() - 1)
}
