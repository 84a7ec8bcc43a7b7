package verb

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

	"freshseal/core/language/answer"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// body is what a call sends: one of a form, JSON, XML, parts of a multipart form
// (RFC 7578), or a text.
type body struct {
	kinds int
	form  []answer.Labelled
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

func (b *body) keys(r *procedure.Reader) procedure.Keys {
	one := func(read func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) { b.kinds++; read(n) }
	}
	return procedure.Keys{
		"form":  one(func(n ast.Node) { b.form = r.Labelled(n, "form", r.Text) }),
		"json":  one(func(n ast.Node) { b.json = readJSON(r, n, 0) }),
		"xml":   one(func(n ast.Node) { b.xml = readXML(r, n) }),
		"parts": one(func(n ast.Node) { b.parts = readBodyParts(r, n) }),
		"text":  one(func(n ast.Node) { b.text = r.Content(n) }),
		"type":  func(n ast.Node) { b.kind = r.Text(n) },
		"between": func(n ast.Node) {
			text := r.Text(n)
			b.between = &text
		},
	}
}

// readXML reads a text of XML, in which values stand in texts and attributes alone.
func readXML(r *procedure.Reader, n ast.Node) string {
	text := strings.TrimSpace(r.Text(n))
	marks := len(value.Placeholder.FindAllString(text, -1))
	decoder := xml.NewDecoder(strings.NewReader(value.Placeholder.ReplaceAllString(text, "freshsealvaluehere")))
	found := 0
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			r.Fault(n, "correct the XML", "this is not XML: %v", err)
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
		r.Fault(n, "put values into texts and attributes alone", "a value in XML stands in a name, a comment "+
			"or the like")
	}
	return text
}

func readBodyParts(r *procedure.Reader, n ast.Node) []bodyPart {
	pairs, ok := r.Pairs(n)
	if !ok {
		r.Fault(n, "write field: value lines", "parts is not a mapping")
	}
	var out []bodyPart
	for _, pair := range pairs {
		p := bodyPart{field: pair.Key.GetToken().Value, kind: "application/octet-stream"}
		if _, isMap := r.Pairs(pair.Value); isMap {
			r.Mapping(pair.Value, "the part "+p.field, procedure.Keys{
				"file":  func(n ast.Node) { p.file = r.Text(n) },
				"holds": func(n ast.Node) { p.text = r.Content(n) },
				"type":  func(n ast.Node) { p.kind = r.Text(n) },
			}, "file", "holds")
			if !fileName.MatchString(p.file) {
				r.Fault(pair.Value, "use letters, digits, dots, - and _", "%q cannot be a file's name", p.file)
			}
		} else {
			p.text = r.Text(pair.Value)
		}
		out = append(out, p)
	}
	return out
}

func (b *body) uses() []procedure.Use {
	var out []procedure.Use
	for _, each := range b.form {
		out = append(out, procedure.Use{Text: each.Text, Place: procedure.InBody})
	}
	for _, each := range b.parts {
		out = append(out, procedure.Use{Text: each.text, Place: procedure.InBody})
	}
	b.json.walk(func(text string) { out = append(out, procedure.Use{Text: text, Place: procedure.InBody}) })
	return append(out, procedure.Use{Text: b.xml, Place: procedure.InBody},
		procedure.Use{Text: b.text, Place: procedure.InBody})
}

func (b *body) expand(scope *procedure.Scope) (sent, error) {
	scope = scope.JoinedBy(b.between)
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
		f, err := procedure.ExpandField(b.text, scope, nil)
		kind := b.kind
		if kind == "" {
			kind = "text/plain; charset=utf-8"
		}
		return sent{[]byte(f.Text), kind, f.Shown}, err
	}
	return sent{}, nil
}

func (b *body) expandForm(scope *procedure.Scope) (sent, error) {
	var real, shown []string
	for _, each := range b.form {
		f, err := procedure.ExpandField(each.Text, scope, nil)
		if err != nil {
			return sent{}, err
		}
		real = append(real, url.QueryEscape(each.Label)+"="+url.QueryEscape(f.Text))
		shown = append(shown, each.Label+"="+f.Shown)
	}
	return sent{[]byte(strings.Join(real, "&")), "application/x-www-form-urlencoded", strings.Join(shown, "\n")}, nil
}

func (b *body) expandParts(scope *procedure.Scope) (sent, error) {
	var fields []procedure.Field
	sum := sha256.New()
	for _, each := range b.parts {
		f, err := procedure.ExpandField(each.text, scope, nil)
		if err != nil {
			return sent{}, err
		}
		fields = append(fields, f)
		io.WriteString(sum, f.Text)
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
		io.WriteString(part, fields[i].Text)
		shown.WriteString(fields[i].Shown + "\n")
	}
	err := w.Close()
	return sent{out.Bytes(), w.FormDataContentType(), shown.String()}, err
}

var quoted = strings.NewReplacer("\\", "\\\\", `"`, "%22", "\r", "%0D", "\n", "%0A")

// expandXML puts values into the texts and attributes of XML; bytes that are no text in
// base64.
func expandXML(text string, scope *procedure.Scope, show bool) (string, error) {
	return procedure.ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) {
		said := scope.Plain(v)
		if v.Kind == value.Content && !utf8.ValidString(said) {
			said = base64.StdEncoding.EncodeToString([]byte(said))
		}
		switch {
		case v.OnBox != "":
			return "", errors.New("never leaves the device")
		case !v.Known:
			said = procedure.YetToCome(v)
		case v.Secret && show:
			said = procedure.Dots
		}
		var out bytes.Buffer
		err := xml.EscapeText(&out, []byte(said))
		return out.String(), err
	})
}
