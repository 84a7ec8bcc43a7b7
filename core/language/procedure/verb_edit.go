package procedure

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"freshseal/core/language/edit"

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
	plainVerb
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

// into is where the pattern of a key belongs.
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

var _ = register("change a text file by rules", func() Verb { return &Edit{} })

func (*Edit) Word() string     { return "edit" }
func (*Edit) Changes() Way     { return KnowsWay }
func (v *Edit) Writes() string { return v.Path }
func (v *Edit) Title() string  { return "edit " + placeholder.ReplaceAllString(v.Path, "$1") }

func (v *Edit) read(r *reader, n ast.Node) { v.Path = r.path(n) }

func (v *Edit) keys(r *reader) keys {
	return keys{"rules": func(n ast.Node) {
		list, ok := n.(*ast.SequenceNode)
		if !ok {
			r.fault(n, "begin each rule with - ", "rules is not a list")
			return
		}
		for _, each := range list.Values {
			v.Rules = append(v.Rules, r.rule(each))
		}
	}}
}

func (r *reader) rule(n ast.Node) editRule {
	rule := editRule{patterns: map[string]string{}}
	pattern := func(key string) func(ast.Node) {
		return func(n ast.Node) {
			rule.patterns[key] = r.text(n)
			*into(&rule.Rule, key) = r.patternOf(n, placeholder.ReplaceAllString(r.text(n), "x"))
		}
	}
	what := 0
	main := func(read func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) { what++; read(n) }
	}
	r.mapping(n, "a rule", keys{
		"set":     main(func(n ast.Node) { rule.Set = r.text(n) }),
		"option":  main(func(n ast.Node) { rule.Option = r.text(n) }),
		"of":      pattern("of"),
		"to":      func(n ast.Node) { rule.To = r.text(n) },
		"as":      func(n ast.Node) { rule.As = r.text(n) },
		"replace": main(pattern("replace")),
		"by":      func(n ast.Node) { rule.By = r.text(n) },
		"times":   func(n ast.Node) { rule.Times = r.number(n, 1, 1000) },
		"line":    main(func(n ast.Node) { rule.Line = r.text(n) }),
		"remove":  main(pattern("remove")),
		"after":   pattern("after"), "before": pattern("before"), "in": pattern("in"),
		"section": func(n ast.Node) { rule.Section = r.text(n) },
	})
	switch {
	case what != 1:
		r.fault(n, "write one of set, option, replace, line and remove",
			"a rule does one thing, and this one does %d", what)
	case (rule.Set != "" || rule.Option != "") != (rule.To != ""):
		r.fault(n, "write set: NAME and to: VALUE", "set and to belong together")
	case (rule.Option != "") != (rule.Of != nil):
		r.fault(n, "write option: NAME, to: VALUE and of: PATTERN, which finds the line",
			"option and of belong together")
	case rule.Section != "" && rule.In != nil:
		r.fault(n, "leave one out", "a rule is confined to a block or to a section")
	case (rule.Replace != nil) != (rule.By != ""):
		r.fault(n, "write replace: PATTERN and by: LINE", "replace and by belong together")
	case rule.As != "" && rule.Set == "":
		r.fault(n, "leave as out", "as belongs to set")
	case rule.Times > 0 && rule.Replace == nil:
		r.fault(n, "leave times out", "times belongs to replace")
	case (rule.After != nil || rule.Before != nil) && rule.Line == "" && rule.As == "":
		r.fault(n, "leave it out", "after and before belong to line, and to set with as")
	case rule.After != nil && rule.Before != nil:
		r.fault(n, "leave one out", "a line goes either after or before another")
	}
	return rule
}

func (v *Edit) finish(r *reader, n ast.Node, _ *Step) {
	if len(v.Rules) == 0 {
		r.fault(n, "add rules: with one rule at least", "edit has no rules")
	}
}

func (v *Edit) uses() []use {
	out := []use{{v.Path, inPath}}
	for _, rule := range v.Rules {
		for _, text := range []string{rule.Set, rule.Option, rule.Section, rule.To, rule.As, rule.By, rule.Line} {
			out = append(out, use{text, inRule})
		}
		for _, key := range patternKeys {
			out = append(out, use{rule.patterns[key], inRule})
		}
	}
	return out
}

// Expand gives an *EditAct. A value in a rule is one plain word, as in commands:
// no configuration file takes it for more.
func (v *Edit) Expand(scope *Scope) (Act, error) {
	path, err := expandPath(v.Path, scope)
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
func expandPattern(text string, scope *Scope) (string, error) {
	return replaceEach(text, scope, func(v Value, _ string) (string, error) {
		plain, err := inLine(v)
		return regexp.QuoteMeta(plain), err
	})
}

func expandRule(text string, scope *Scope) (string, error) {
	return replaceEach(text, scope, func(v Value, _ string) (string, error) { return inLine(v) })
}

// inLine is a value as it stands in a line: one plain word.
func inLine(v Value) (string, error) {
	switch {
	case v.Secret:
		return "", errors.New("is secret and may not be shown in the difference of an edit; write the whole file " +
			"with the verb file")
	case !v.Known:
		return yetToCome(v), nil
	case v.Kind == Content, v.Kind == List, v.Kind == Command:
		return "", fmt.Errorf("is of the kind %s, and a line takes one word", v.Kind)
	}
	if why := notBare(v.Text); why != "" {
		return "", fmt.Errorf("is %q, which %s; a value in a line is one plain word", shorten(v.Text), why)
	}
	return v.Text, nil
}

// Line is the path and how many rules.
func (a *EditAct) Line() string {
	texts := make([]string, len(a.Rules))
	for i, rule := range a.Rules {
		texts[i] = rule.Text()
	}
	return a.Path + ": " + strings.Join(texts, "; ")
}

// Detail is a line for each rule.
func (a *EditAct) Detail() string {
	var b strings.Builder
	for _, rule := range a.Rules {
		b.WriteString(rule.Text() + "\n")
	}
	return b.String()
}

func (r *reader) number(n ast.Node, least, most int) int {
	number, err := strconv.Atoi(r.text(n))
	if err != nil || number < least || number > most {
		r.fault(n, fmt.Sprintf("write a number from %d to %d", least, most), "%q is not such a number", r.text(n))
	}
	return number
}

func (r *reader) pattern(n ast.Node) *regexp.Regexp { return r.patternOf(n, r.text(n)) }

// patternOf compiles a pattern that stands at a place.
func (r *reader) patternOf(n ast.Node, text string) *regexp.Regexp {
	p, err := regexp.Compile(text)
	if err != nil {
		r.fault(n, "see the syntax of RE2", "this is not a regular expression: %v", err)
		return regexp.MustCompile("$^")
	}
	return p
}

// File is the file that is changed.
func (a *EditAct) File() string { return a.Path }

// Differ applies the rules to what the file holds. The difference is empty where
// there is nothing to change.
func (a *EditAct) Differ(old []byte) (changed []byte, difference string, err error) {
	if changed, err = edit.Apply(old, a.Rules); err != nil || bytes.Equal(old, changed) {
		return changed, "", err
	}
	return changed, edit.Diff(a.Path, old, changed), nil
}
