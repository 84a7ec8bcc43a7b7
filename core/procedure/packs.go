package procedure

import (
	"strconv"

	"freshseal/core/pack"

	"github.com/goccy/go-yaml/ast"
)

// packs reads the forms of its own in which a family wants its files:
//
//	packs:
//	  console_store: {about: "…", form: leaf-first, encoding: pkcs12, key: before, alias: console}
func (r *reader) packs(n ast.Node) []Pack {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write name: {about: …, form: …}", "packs is not a mapping")
	}
	var out []Pack
	for _, pair := range pairs {
		p := Pack{Name: pair.Key.GetToken().Value, Form: pack.LeafFirst}
		if !valueName.MatchString(p.Name) {
			r.fault(pair.Key, "use small letters, digits and _", "%q cannot be a pack's name", p.Name)
		}
		if _, taken := Given[p.Name]; taken {
			r.fault(pair.Key, "choose another name", "%q is the name of a value that every procedure has", p.Name)
		}
		d := &p.Dress
		r.mapping(pair.Value, "the pack "+p.Name, keys{
			"about":       func(n ast.Node) { p.About = r.text(n) },
			"form":        func(n ast.Node) { p.Form = pack.Form(r.oneOf(n, strs(pack.Forms))) },
			"encoding":    func(n ast.Node) { d.Encoding = pack.Encoding(r.oneOf(n, strs(pack.Encodings))) },
			"key":         func(n ast.Node) { d.Place = pack.KeyPlace(r.oneOf(n, strs(pack.KeyPlaces))) },
			"key_form":    func(n ast.Node) { d.KeyForm = pack.KeyForm(r.oneOf(n, strs(pack.KeyForms))) },
			"alias":       func(n ast.Node) { d.Alias = r.text(n) },
			"line_ends":   func(n ast.Node) { d.CRLF = r.oneOf(n, []string{"lf", "crlf"}) == "crlf" },
			"line_length": func(n ast.Node) { d.LineLength = r.lineLength(n) },
			"text":        func(n ast.Node) { d.Text = r.oneOf(n, []string{"true", "false"}) == "true" },
		}, "about")
		if why := p.Dress.Unfit(p.Form); why != nil {
			r.fault(pair.Key, "correct the pack", "the pack %s: %v", p.Name, why)
		}
		out = append(out, p)
	}
	return out
}

func (r *reader) lineLength(n ast.Node) int {
	length, err := strconv.Atoi(r.text(n))
	if err != nil || length < -1 || length > 1000 {
		r.fault(n, "write a number up to 1000, or -1 for one line", "%q is no length of a line", r.text(n))
	}
	return length
}
