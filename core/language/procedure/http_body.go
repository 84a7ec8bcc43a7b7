package procedure

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
)

// body is what a call sends: one of a form, JSON, XML, parts of a multipart form
// (RFC 7578), or a text.
type body struct {
	kinds int
	form  []Labelled
	json  *jsonText
	xml   string
	parts []bodyPart
	text  string
	kind  string // media type of text

	between *string // the items of a list that stands in a text; nil: a comma and a blank
}

// bodyPart is a field, or a file where it has a name.
type bodyPart struct {
	field, text, file, kind string
}

// sent is a body in its final form.
type sent struct {
	bytes []byte
	kind  string
	shown string
}

func (b *body) keys(r *reader) keys {
	one := func(read func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) { b.kinds++; read(n) }
	}
	return keys{
		"form":  one(func(n ast.Node) { b.form = r.labelled(n, "form", r.text) }),
		"json":  one(func(n ast.Node) { b.json = r.json(n, 0) }),
		"xml":   one(func(n ast.Node) { b.xml = r.xml(n) }),
		"parts": one(func(n ast.Node) { b.parts = r.bodyParts(n) }),
		"text":  one(func(n ast.Node) { b.text = r.content(n) }),
		"type":  func(n ast.Node) { b.kind = r.text(n) },
		"between": func(n ast.Node) {
			text := r.text(n)
			b.between = &text
		},
	}
}

// xml reads a text of XML, in which values stand in texts and attributes alone.
func (r *reader) xml(n ast.Node) string {
	text := strings.TrimSpace(r.text(n))
	marks := len(placeholder.FindAllString(text, -1))
	decoder := xml.NewDecoder(strings.NewReader(placeholder.ReplaceAllString(text, "freshsealvaluehere")))
	found := 0
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			r.fault(n, "correct the XML", "this is not XML: %v", err)
			return text
		}
		switch t := token.(type) {
		case xml.CharData:
			found += strings.Count(string(t), "freshsealvaluehere")
		case xml.StartElement:
			for _, a := range t.Attr {
				found += strings.Count(a.Value, "freshsealvaluehere")
			}
		}
	}
	if found != marks || strings.Contains(text, "<![CDATA[") {
		r.fault(n, "put values into texts and attributes alone", "a value in XML stands in a name, a comment "+
			"or the like")
	}
	return text
}

func (r *reader) bodyParts(n ast.Node) []bodyPart {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write field: value lines", "parts is not a mapping")
	}
	var out []bodyPart
	for _, pair := range pairs {
		p := bodyPart{field: pair.Key.GetToken().Value, kind: "application/octet-stream"}
		if _, isMap := r.pairs(pair.Value); isMap {
			r.mapping(pair.Value, "the part "+p.field, keys{
				"file":  func(n ast.Node) { p.file = r.text(n) },
				"holds": func(n ast.Node) { p.text = r.content(n) },
				"type":  func(n ast.Node) { p.kind = r.text(n) },
			}, "file", "holds")
			if !fileName.MatchString(p.file) {
				r.fault(pair.Value, "use letters, digits, dots, - and _", "%q cannot be a file's name", p.file)
			}
		} else {
			p.text = r.text(pair.Value)
		}
		out = append(out, p)
	}
	return out
}

func (b *body) uses() []use {
	var out []use
	for _, each := range b.form {
		out = append(out, use{each.Text, inBody})
	}
	for _, each := range b.parts {
		out = append(out, use{each.text, inBody})
	}
	b.json.walk(func(text string) { out = append(out, use{text, inBody}) })
	return append(out, use{b.xml, inBody}, use{b.text, inBody})
}

// field is a text with its values, as it is sent and as it may be shown.
type field struct{ text, shown string }

// expandField puts values into a field. refuse says what may not stand there.
func expandField(text string, scope *Scope, refuse func(string) error) (field, error) {
	c, err := expandContent(text, scope)
	switch {
	case err != nil:
		return field{}, err
	case c.onBox != "":
		return field{}, errors.New("what is sent never leaves the device")
	case c.later:
		return field{c.shown, c.shown}, nil
	}
	if refuse != nil {
		if err := refuse(string(c.bytes)); err != nil {
			return field{}, fmt.Errorf("“%s” %w", c.shown, err)
		}
	}
	return field{string(c.bytes), c.shown}, nil
}

func (b *body) expand(scope *Scope) (sent, error) {
	scope = scope.joinedBy(b.between)
	switch {
	case b.json != nil:
		real, err := b.json.expand(scope, false)
		if err != nil {
			return sent{}, err
		}
		shown, err := b.json.expand(scope, true)
		return sent{real, "application/json", string(shown)}, err
	case b.form != nil:
		return b.expandForm(scope)
	case b.parts != nil:
		return b.expandParts(scope)
	case b.xml != "":
		real, err := expandXML(b.xml, scope, false)
		if err != nil {
			return sent{}, err
		}
		shown, err := expandXML(b.xml, scope, true)
		return sent{[]byte(real), "application/xml", shown}, err
	case b.text != "":
		f, err := expandField(b.text, scope, nil)
		kind := b.kind
		if kind == "" {
			kind = "text/plain; charset=utf-8"
		}
		return sent{[]byte(f.text), kind, f.shown}, err
	}
	return sent{}, nil
}

func (b *body) expandForm(scope *Scope) (sent, error) {
	var real, shown []string
	for _, each := range b.form {
		f, err := expandField(each.Text, scope, nil)
		if err != nil {
			return sent{}, err
		}
		real = append(real, url.QueryEscape(each.Label)+"="+url.QueryEscape(f.text))
		shown = append(shown, each.Label+"="+f.shown)
	}
	return sent{[]byte(strings.Join(real, "&")), "application/x-www-form-urlencoded", strings.Join(shown, "\n")}, nil
}

func (b *body) expandParts(scope *Scope) (sent, error) {
	var fields []field
	sum := sha256.New()
	for _, each := range b.parts {
		f, err := expandField(each.text, scope, nil)
		if err != nil {
			return sent{}, err
		}
		fields = append(fields, f)
		io.WriteString(sum, f.text)
	}
	var out bytes.Buffer
	var shown strings.Builder
	w := multipart.NewWriter(&out)
	// none of the parts holds its own digest
	if err := w.SetBoundary("part-" + hex.EncodeToString(sum.Sum(nil)[:20])); err != nil {
		return sent{}, err
	}
	for i, each := range b.parts {
		header := textproto.MIMEHeader{"Content-Disposition": {fmt.Sprintf(`form-data; name="%s"`,
			quoted.Replace(each.field))}}
		fmt.Fprintf(&shown, "%s=", each.field)
		if each.file != "" {
			header.Set("Content-Disposition", fmt.Sprintf(`form-data; name="%s"; filename="%s"`,
				quoted.Replace(each.field), each.file))
			header.Set("Content-Type", each.kind)
			fmt.Fprintf(&shown, "the file %s:\n", each.file)
		}
		part, err := w.CreatePart(header)
		if err != nil {
			return sent{}, err
		}
		io.WriteString(part, fields[i].text)
		shown.WriteString(fields[i].shown + "\n")
	}
	err := w.Close()
	return sent{out.Bytes(), w.FormDataContentType(), shown.String()}, err
}

var quoted = strings.NewReplacer("\\", "\\\\", `"`, "%22", "\r", "%0D", "\n", "%0A")

// expandXML puts values into the texts and attributes of XML; bytes that are no text in
// base64.
func expandXML(text string, scope *Scope, show bool) (string, error) {
	return replaceEach(text, scope, func(v Value, _ string) (string, error) {
		said := scope.plain(v)
		if v.Kind == Content && !utf8.ValidString(said) {
			said = base64.StdEncoding.EncodeToString([]byte(said))
		}
		switch {
		case v.OnBox != "":
			return "", errors.New("never leaves the device")
		case !v.Known:
			said = yetToCome(v)
		case v.Secret && show:
			said = dots
		}
		var out bytes.Buffer
		err := xml.EscapeText(&out, []byte(said))
		return out.String(), err
	})
}
