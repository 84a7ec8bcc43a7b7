package procedure

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/language/value"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"

	"github.com/goccy/go-yaml/ast"
)

func readSettings(r *Reader, n ast.Node) []Setting {
	pairs, ok := r.Pairs(n)
	if !ok {
		r.Fault(n, "write name: {kind: …, about: …}", "settings is not a mapping")
	}
	var out []Setting
	for _, pair := range pairs {
		s := Setting{Name: r.valueNamed(pair.Key, "a setting"), Kind: value.Text}
		if r.names[s.Name] != nil {
			r.Fault(pair.Key, "leave one out", "two settings are called %q", s.Name)
			continue
		}
		r.names[s.Name] = pair.Key
		r.Mapping(pair.Value, "the setting "+s.Name, Keys{
			"kind":    func(n ast.Node) { s.Kind = value.Kind(r.OneOf(n, strs(value.SettingKinds))) },
			"about":   func(n ast.Node) { s.About = r.Text(n) },
			"default": func(n ast.Node) { s.Default = r.Text(n) },
			"choices": func(n ast.Node) {
				for _, each := range r.Nodes(n) {
					s.Choices = append(s.Choices, r.Text(each))
				}
			},
		}, "about")
		switch _, err := s.read(s.Default); {
		case (s.Kind == value.Choice) != (len(s.Choices) > 0):
			r.Fault(pair.Key, "write kind: choice and choices: [a, b]", "choice and choices belong together")
		case s.Kind == value.Secret && s.Default != "":
			r.Fault(pair.Key, "leave the default out; each device is given its own", "a secret cannot have a default")
		case err != nil:
			r.Fault(pair.Key, "correct the default", "the default of %s: %v", s.Name, err)
		}
		out = append(out, s)
	}
	return out
}

func readTraits(r *Reader, n ast.Node) Traits {
	t := Traits{Form: pack.LeafFirst, RestartLimit: time.Minute}
	var signer, made ast.Node
	r.Mapping(n, "traits", Keys{
		"key_types": func(n ast.Node) {
			for _, word := range r.words(n, strs(request.AllKeyTypes)) {
				t.KeyTypes = append(t.KeyTypes, request.KeyType(word))
			}
		},
		"form": func(n ast.Node) { t.Form = pack.Form(r.OneOf(n, strs(pack.Forms))) },
		"key_made_by": func(n ast.Node) {
			by := r.OneOf(n, []string{"device", "service", "either"})
			t.KeyGiven, t.KeyEither, made = by == "service", by == "either", n
		},
		"web_sign_in": func(n ast.Node) {
			t.WebSignIn = WebSignIn(r.OneOf(n, []string{string(ByBasic), string(ByDigest)}))
		},
		"restart_limit": func(n ast.Node) { t.RestartLimit = r.Duration(n) },
		"rolls_back":    func(n ast.Node) { t.RollsBack = r.Duration(n) },
		"locks_out":     func(n ast.Node) { t.LocksOut = r.Bool(n) },
		"signer":        func(n ast.Node) { t.SignsItself, signer = r.OneOf(n, []string{"device"}) == "device", n },
	})
	switch {
	case signer == nil && len(t.KeyTypes) == 0:
		r.Fault(n, "add key_types with the keys that the device supports, such as [ecdsa-p256, rsa-2048]",
			"traits has no key_types")
	case signer != nil && len(t.KeyTypes) > 0:
		r.Fault(signer, "leave key_types out", "a device that is its own signer decides itself what key it makes")
	case signer != nil && (t.KeyGiven || t.KeyEither):
		r.Fault(made, "leave key_made_by out", "a device that is its own signer makes its key itself")
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

// readMarks reads by what devices of the family are recognized.
func readMarks(r *Reader, n ast.Node) []discovery.Mark {
	nodes := r.Nodes(n)
	if len(nodes) > mostMarks {
		r.Fault(n, "keep the clearest", "recognized_by has more than %d entries", mostMarks)
		return nil
	}
	var out []discovery.Mark
	for _, each := range nodes {
		var m discovery.Mark
		r.Mapping(each, "an entry of recognized_by", Keys{
			"subject": func(n ast.Node) { m.Subject = r.Text(n) },
			"issuer":  func(n ast.Node) { m.Issuer = r.Text(n) },
			"banner":  func(n ast.Node) { m.Banner = r.Text(n) },
		})
		if err := m.Check(); err != nil {
			r.Fault(each, err.Error(), "this fits every device")
			continue
		}
		out = append(out, m)
	}
	return out
}

func readPacks(r *Reader, n ast.Node) []Pack {
	pairs, ok := r.Pairs(n)
	if !ok {
		r.Fault(n, "write name: {about: …, form: …}", "packs is not a mapping")
	}
	var out []Pack
	for _, pair := range pairs {
		p := Pack{Name: r.valueNamed(pair.Key, "a pack"), Form: pack.LeafFirst}
		if r.names[p.Name] != nil {
			r.Fault(pair.Key, "choose another name", "a setting or another pack is called %q", p.Name)
		}
		r.names[p.Name] = pair.Key
		d := &p.Dress
		r.Mapping(pair.Value, "the pack "+p.Name, Keys{
			"about":       func(n ast.Node) { p.About = r.Text(n) },
			"form":        func(n ast.Node) { p.Form = pack.Form(r.OneOf(n, strs(pack.Forms))) },
			"encoding":    func(n ast.Node) { d.Encoding = pack.Encoding(r.OneOf(n, strs(pack.Encodings))) },
			"key":         func(n ast.Node) { d.Place = pack.KeyPlace(r.OneOf(n, strs(pack.KeyPlaces))) },
			"key_form":    func(n ast.Node) { d.KeyForm = pack.KeyForm(r.OneOf(n, strs(pack.KeyForms))) },
			"alias":       func(n ast.Node) { d.Alias = r.Text(n) },
			"line_ends":   func(n ast.Node) { d.CRLF = r.OneOf(n, []string{"lf", "crlf"}) == "crlf" },
			"line_length": func(n ast.Node) { d.LineLength = r.Number(n, -1, 1000) },
			"text":        func(n ast.Node) { d.Text = r.Bool(n) },
		}, "about")
		if why := p.Dress.Unfit(p.Form); why != nil {
			r.Fault(pair.Key, "correct the pack", "the pack %s: %v", p.Name, why)
		}
		out = append(out, p)
	}
	return out
}

// read makes a value of the text of a setting. An empty text is an empty
// value of any kind.
func (s Setting) read(text string) (value.Value, error) {
	v := value.Value{Kind: s.Kind, Text: text, Known: true, Secret: s.Kind == value.Secret, About: s.About}
	if text == "" {
		return v, nil
	}
	if strings.ContainsFunc(text, value.IsControl) {
		return v, errors.New("it contains a control character; write it on one line")
	}
	var err error
	switch s.Kind {
	case value.Path:
		err = value.CheckPath(text)
	case value.Command, value.List:
		v.Words = strings.Fields(strings.ReplaceAll(text, ",",
			map[value.Kind]string{value.Command: ",", value.List: " "}[s.Kind]))
		err = s.checkWords(v.Words)
	case value.Number:
		if _, convErr := strconv.Atoi(text); convErr != nil {
			err = fmt.Errorf("%q is not a whole number", text)
		}
	case value.Choice:
		if !slices.Contains(s.Choices, text) {
			err = fmt.Errorf("%q is not one of %s", text, strings.Join(s.Choices, ", "))
		}
	case value.Pattern:
		err = value.CheckPattern(text)
	case value.Text, value.Secret, value.OtherDevice:
	default:
		err = fmt.Errorf("a setting cannot be of the kind %q; the kinds are %v", s.Kind, value.SettingKinds)
	}
	if err == nil && s.bare && s.Kind != value.Command && s.Kind != value.List {
		if why := value.NotBare(value.Placeholder.ReplaceAllString(text, "x")); why != "" {
			err = fmt.Errorf("%q %s, and it is part of a command; a value in a command is one plain word: letters, "+
				"digits and . _ : / @ %% + = , -", text, why)
		}
	}
	return v, err
}

// checkWords checks the words of a command or a list.
func (s Setting) checkWords(words []string) error {
	for i, word := range words {
		if s.Kind == value.Command && i > 0 {
			word = strings.TrimLeft(word, "-") // the administrator's own options
		}
		if why := value.NotBare(word); why != "" && word != "" {
			return fmt.Errorf("its word %q %s; put what needs more into a script on the device and name that",
				words[i], why)
		}
	}
	return nil
}
