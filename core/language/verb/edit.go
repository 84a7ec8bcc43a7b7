package verb

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"freshseal/core/language/answer"
	"freshseal/core/language/edit"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Edit changes a text file on the device by rules. It is undone by itself.
//
//   - edit: /etc/gate/gate.conf
//     rules:
//   - set: tls_certificate
//     to: "{{certificate}}"
//   - remove: "^tls_demo"
type Edit struct {
	procedure.PlainVerb
	Path  string
	Rules []editRule
}

// editRule is a rule whose texts and patterns may hold values. A value in a pattern stands for itself.
type editRule struct {
	edit.Rule
	patterns map[string]string // replace, remove, of, after, before and in, as they are written
}

// patternKeys are the keys of a rule that are patterns.
var patternKeys = []string{"replace", "remove", "of", "after", "before", "in"}

// into returns where the pattern of a key belongs.
func into(rule *edit.Rule, key string) **regexp.Regexp {
	switch key {
	case "replace":
		return &rule.Replace
	case "remove":
		return &rule.Remove
	case "of":
		return &rule.Of
	case "after":
		return &rule.After
	case "before":
		return &rule.Before
	}
	return &rule.In
}

// EditAct is an edit in its final form.
type EditAct struct {
	Path  string
	Rules []edit.Rule
}

var _ = procedure.Register("change a text file by rules", func() procedure.Verb { return &Edit{} })

func (*Edit) Word() string           { return "edit" }
func (*Edit) Changes() procedure.Way { return procedure.KnowsWay }
func (v *Edit) Writes() string       { return v.Path }
func (v *Edit) Title() string        { return "edit " + value.Placeholder.ReplaceAllString(v.Path, "$1") }

func (v *Edit) Read(r *procedure.Reader, n ast.Node) { v.Path = r.Path(n) }

func (v *Edit) Keys(r *procedure.Reader) procedure.Keys {
	return procedure.Keys{"rules": func(n ast.Node) {
		list, ok := n.(*ast.SequenceNode)
		if !ok {
			r.Fault(n, "begin each rule with - ", "rules is not a list")
			return
		}
		for _, each := range list.Values {
			v.Rules = append(v.Rules, readRule(r, each))
		}
	}}
}

func readRule(r *procedure.Reader, n ast.Node) editRule {
	rule := editRule{patterns: map[string]string{}}
	pattern := func(key string) func(ast.Node) {
		return func(n ast.Node) {
			rule.patterns[key] = r.Text(n)
			*into(&rule.Rule, key) = r.PatternOf(n, value.Placeholder.ReplaceAllString(r.Text(n), "x"))
		}
	}
	what := 0
	main := func(read func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) { what++; read(n) }
	}
	r.Mapping(n, "a rule", procedure.Keys{
		"set":     main(func(n ast.Node) { rule.Set = r.Text(n) }),
		"option":  main(func(n ast.Node) { rule.Option = r.Text(n) }),
		"of":      pattern("of"),
		"to":      func(n ast.Node) { rule.To = r.Text(n) },
		"as":      func(n ast.Node) { rule.As = r.Text(n) },
		"replace": main(pattern("replace")),
		"by":      func(n ast.Node) { rule.By = r.Text(n) },
		"times":   func(n ast.Node) { rule.Times = r.Number(n, 1, 1000) },
		"line":    main(func(n ast.Node) { rule.Line = r.Text(n) }),
		"remove":  main(pattern("remove")),
		"after":   pattern("after"), "before": pattern("before"), "in": pattern("in"),
		"section": func(n ast.Node) { rule.Section = r.Text(n) },
	})
	switch {
	case what != 1:
		r.Fault(n, "write one of set, option, replace, line and remove",
			"a rule does one thing, and this one does %d", what)
	case (rule.Set != "" || rule.Option != "") != (rule.To != ""):
		r.Fault(n, "write set: NAME and to: VALUE", "set and to belong together")
	case (rule.Option != "") != (rule.Of != nil):
		r.Fault(n, "write option: NAME, to: VALUE and of: PATTERN, which finds the line",
			"option and of belong together")
	case rule.Section != "" && rule.In != nil:
		r.Fault(n, "leave one out", "a rule is confined to a block or to a section")
	case (rule.Replace != nil) != (rule.By != ""):
		r.Fault(n, "write replace: PATTERN and by: LINE", "replace and by belong together")
	case rule.As != "" && rule.Set == "":
		r.Fault(n, "leave as out", "as belongs to set")
	case rule.Times > 0 && rule.Replace == nil:
		r.Fault(n, "leave times out", "times belongs to replace")
	case (rule.After != nil || rule.Before != nil) && rule.Line == "" && rule.As == "":
		r.Fault(n, "leave it out", "after and before belong to line, and to set with as")
	case rule.After != nil && rule.Before != nil:
		r.Fault(n, "leave one out", "a line goes either after or before another")
	}
	return rule
}

func (v *Edit) Finish(r *procedure.Reader, n ast.Node, _ *procedure.Step) {
	if len(v.Rules) == 0 {
		r.Fault(n, "add rules: with one rule at least", "edit has no rules")
	}
}

func (v *Edit) Uses() []procedure.Use {
	out := []procedure.Use{{Text: v.Path, Place: procedure.InPath}}
	for _, rule := range v.Rules {
		for _, text := range []string{rule.Set, rule.Option, rule.Section, rule.To, rule.As, rule.By, rule.Line} {
			out = append(out, procedure.Use{Text: text, Place: procedure.InRule})
		}
		for _, key := range patternKeys {
			out = append(out, procedure.Use{Text: rule.patterns[key], Place: procedure.InRule})
		}
	}
	return out
}

// Expand returns an *EditAct. A value in a rule is one plain word, as in commands:
// no configuration file takes it for more.
func (v *Edit) Expand(scope *procedure.Scope) (procedure.Act, error) {
	path, err := procedure.ExpandPath(v.Path, scope)
	if err != nil {
		return nil, err
	}
	a := &EditAct{Path: path}
	for _, rule := range v.Rules {
		out := rule.Rule
		for _, text := range []*string{&out.Set, &out.Option, &out.Section, &out.To, &out.As, &out.By, &out.Line} {
			if *text, err = expandRule(*text, scope); err != nil {
				return nil, err
			}
		}
		for _, key := range patternKeys {
			text, has := rule.patterns[key]
			if !has {
				continue
			}
			if text, err = expandPattern(text, scope); err != nil {
				return nil, err
			}
			if *into(&out, key), err = regexp.Compile(text); err != nil {
				return nil, err
			}
		}
		a.Rules = append(a.Rules, out)
	}
	return a, nil
}

// expandPattern puts values into a pattern, in which each stands for itself.
func expandPattern(text string, scope *procedure.Scope) (string, error) {
	return procedure.ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) {
		plain, err := inLine(v)
		return regexp.QuoteMeta(plain), err
	})
}

func expandRule(text string, scope *procedure.Scope) (string, error) {
	return procedure.ReplaceEach(text, scope, func(v value.Value, _ string) (string, error) { return inLine(v) })
}

// inLine returns a value as it is in a line: one plain word.
func inLine(v value.Value) (string, error) {
	switch {
	case v.Secret:
		return "", errors.New("is secret and may not be shown in the difference of an edit; write the whole file " +
			"with the verb file")
	case !v.Known:
		return procedure.YetToCome(v), nil
	case v.Kind == value.Content, v.Kind == value.List, v.Kind == value.Command:
		return "", fmt.Errorf("is of the kind %s, and a line takes one word", v.Kind)
	}
	if why := value.NotBare(v.Text); why != "" {
		return "", fmt.Errorf("is %q, which %s; a value in a line is one plain word", answer.Shorten(v.Text), why)
	}
	return v.Text, nil
}

// Line returns the path and how many rules.
func (a *EditAct) Line() string {
	texts := make([]string, len(a.Rules))
	for i, rule := range a.Rules {
		texts[i] = rule.Text()
	}
	return a.Path + ": " + strings.Join(texts, "; ")
}

// Detail returns a line for each rule.
func (a *EditAct) Detail() string {
	var b strings.Builder
	for _, rule := range a.Rules {
		b.WriteString(rule.Text() + "\n")
	}
	return b.String()
}

// File returns the file that is changed.
func (a *EditAct) File() string { return a.Path }

// Differ applies the rules to what the file holds. The difference is empty where
// there is nothing to change.
func (a *EditAct) Differ(old []byte) (changed []byte, difference string, err error) {
	if changed, err = edit.Apply(old, a.Rules); err != nil || bytes.Equal(old, changed) {
		return changed, "", err
	}
	return changed, edit.Diff(a.Path, old, changed), nil
}
