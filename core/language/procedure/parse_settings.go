package procedure

import (
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"

	"github.com/goccy/go-yaml/ast"
)

func (r *reader) settings(n ast.Node) []Setting {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write name: {kind: …, about: …}", "settings is not a mapping")
	}
	var out []Setting
	for _, pair := range pairs {
		s := Setting{Name: r.valueNamed(pair.Key, "a setting"), Kind: Text}
		if r.names[s.Name] != nil {
			r.fault(pair.Key, "leave one out", "two settings are called %q", s.Name)
			continue
		}
		r.names[s.Name] = pair.Key
		r.mapping(pair.Value, "the setting "+s.Name, keys{
			"kind":    func(n ast.Node) { s.Kind = Kind(r.oneOf(n, strs(settingKinds))) },
			"about":   func(n ast.Node) { s.About = r.text(n) },
			"default": func(n ast.Node) { s.Default = r.text(n) },
			"choices": func(n ast.Node) {
				for _, each := range r.nodes(n) {
					s.Choices = append(s.Choices, r.text(each))
				}
			},
		}, "about")
		switch _, err := s.read(s.Default); {
		case (s.Kind == Choice) != (len(s.Choices) > 0):
			r.fault(pair.Key, "write kind: choice and choices: [a, b]", "choice and choices belong together")
		case s.Kind == Secret && s.Default != "":
			r.fault(pair.Key, "leave the default out; each device is given its own", "a secret cannot have a default")
		case err != nil:
			r.fault(pair.Key, "correct the default", "the default of %s: %v", s.Name, err)
		}
		out = append(out, s)
	}
	return out
}

func (r *reader) traits(n ast.Node) Traits {
	t := Traits{Form: pack.LeafFirst, RestartLimit: time.Minute}
	var signer, made ast.Node
	r.mapping(n, "traits", keys{
		"key_types": func(n ast.Node) {
			for _, word := range r.words(n, strs(request.AllKeyTypes)) {
				t.KeyTypes = append(t.KeyTypes, request.KeyType(word))
			}
		},
		"form": func(n ast.Node) { t.Form = pack.Form(r.oneOf(n, strs(pack.Forms))) },
		"key_made_by": func(n ast.Node) {
			by := r.oneOf(n, []string{"device", "service", "either"})
			t.KeyGiven, t.KeyEither, made = by == "service", by == "either", n
		},
		"web_sign_in": func(n ast.Node) {
			t.WebSignIn = WebSignIn(r.oneOf(n, []string{string(ByBasic), string(ByDigest)}))
		},
		"restart_limit": func(n ast.Node) { t.RestartLimit = r.duration(n) },
		"rolls_back":    func(n ast.Node) { t.RollsBack = r.duration(n) },
		"locks_out":     func(n ast.Node) { t.LocksOut = r.bool(n) },
		"signer":        func(n ast.Node) { t.SignsItself, signer = r.oneOf(n, []string{"device"}) == "device", n },
	})
	switch {
	case signer == nil && len(t.KeyTypes) == 0:
		r.fault(n, "add key_types with the keys that the device supports, such as [ecdsa-p256, rsa-2048]",
			"traits has no key_types")
	case signer != nil && len(t.KeyTypes) > 0:
		r.fault(signer, "leave key_types out", "a device that is its own signer decides itself what key it makes")
	case signer != nil && (t.KeyGiven || t.KeyEither):
		r.fault(made, "leave key_made_by out", "a device that is its own signer makes its key itself")
	}
	return t
}

// packs reads the forms of its own in which a family wants its files:
//
//	packs:
//	  console_store: {about: "…", form: leaf-first, encoding: pkcs12, key: before, alias: console}
//
// mostMarks is by how many marks a family can be recognized.
const mostMarks = 20

// marks reads by what devices of the family are recognized.
func (r *reader) marks(n ast.Node) []discovery.Mark {
	nodes := r.nodes(n)
	if len(nodes) > mostMarks {
		r.fault(n, "keep the clearest", "recognized_by has more than %d entries", mostMarks)
		return nil
	}
	var out []discovery.Mark
	for _, each := range nodes {
		var m discovery.Mark
		r.mapping(each, "an entry of recognized_by", keys{
			"subject": func(n ast.Node) { m.Subject = r.text(n) },
			"issuer":  func(n ast.Node) { m.Issuer = r.text(n) },
			"banner":  func(n ast.Node) { m.Banner = r.text(n) },
		})
		if err := m.Check(); err != nil {
			r.fault(each, err.Error(), "this fits every device")
			continue
		}
		out = append(out, m)
	}
	return out
}

func (r *reader) packs(n ast.Node) []Pack {
	pairs, ok := r.pairs(n)
	if !ok {
		r.fault(n, "write name: {about: …, form: …}", "packs is not a mapping")
	}
	var out []Pack
	for _, pair := range pairs {
		p := Pack{Name: r.valueNamed(pair.Key, "a pack"), Form: pack.LeafFirst}
		if r.names[p.Name] != nil {
			r.fault(pair.Key, "choose another name", "a setting or another pack is called %q", p.Name)
		}
		r.names[p.Name] = pair.Key
		d := &p.Dress
		r.mapping(pair.Value, "the pack "+p.Name, keys{
			"about":       func(n ast.Node) { p.About = r.text(n) },
			"form":        func(n ast.Node) { p.Form = pack.Form(r.oneOf(n, strs(pack.Forms))) },
			"encoding":    func(n ast.Node) { d.Encoding = pack.Encoding(r.oneOf(n, strs(pack.Encodings))) },
			"key":         func(n ast.Node) { d.Place = pack.KeyPlace(r.oneOf(n, strs(pack.KeyPlaces))) },
			"key_form":    func(n ast.Node) { d.KeyForm = pack.KeyForm(r.oneOf(n, strs(pack.KeyForms))) },
			"alias":       func(n ast.Node) { d.Alias = r.text(n) },
			"line_ends":   func(n ast.Node) { d.CRLF = r.oneOf(n, []string{"lf", "crlf"}) == "crlf" },
			"line_length": func(n ast.Node) { d.LineLength = r.number(n, -1, 1000) },
			"text":        func(n ast.Node) { d.Text = r.bool(n) },
		}, "about")
		if why := p.Dress.Unfit(p.Form); why != nil {
			r.fault(pair.Key, "correct the pack", "the pack %s: %v", p.Name, why)
		}
		out = append(out, p)
	}
	return out
}
