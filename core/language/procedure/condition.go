package procedure

import (
	"slices"
	"strings"

	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Condition decides whether a step is done: whether a setting, a capture or a pack is
// filled, or whether a choice is one of its words.
//
//	with: same_key               {Name: "same_key"}
//	without: chain_file          {Name: "chain_file", Not: true}
//	with: {server: nginx}        {Name: "server", Is: "nginx"}
type Condition struct {
	Name string
	Is   string // the word of a choice; empty: anything
	Not  bool
}

// Text returns the condition as it is written.
func (c Condition) Text() string {
	text := "with: "
	if c.Not {
		text = "without: "
	}
	if c.Is != "" {
		return text + "{" + c.Name + ": " + c.Is + "}"
	}
	return text + c.Name
}

func (c Condition) holds(scope *Scope) bool {
	v, err := scope.Value(c.Name)
	filled := err == nil && v.Filled() && (c.Is == "" || v.Text == c.Is || !v.Known)
	return filled != c.Not
}

// excludes reports whether two conditions never hold together.
func (c Condition) excludes(other Condition) bool {
	switch {
	case c.Name != other.Name:
		return false
	case c.Not == other.Not:
		return !c.Not && c.Is != "" && other.Is != "" && c.Is != other.Is
	case c.Not: // not a word, and that word or anything; not anything, and anything
		return c.Is == "" || c.Is == other.Is
	}
	return other.Is == "" || c.Is == other.Is
}

// Conditions must all hold.
type Conditions []Condition

// Hold reports whether all of them do.
func (c Conditions) Hold(scope *Scope) bool {
	return !slices.ContainsFunc(c, func(each Condition) bool { return !each.holds(scope) })
}

func (c Conditions) excludes(other Conditions) bool {
	return slices.ContainsFunc(c, func(a Condition) bool { return slices.ContainsFunc(other, a.excludes) })
}

// within reports whether all of them stand among others, too.
func (c Conditions) within(others Conditions) bool {
	return !slices.ContainsFunc(c, func(each Condition) bool { return !slices.Contains(others, each) })
}

// shared returns those that stand among others, too.
func (c Conditions) shared(others Conditions) Conditions {
	return slices.DeleteFunc(slices.Clone(c), func(each Condition) bool { return !slices.Contains(others, each) })
}

// Text returns how they are written.
func (c Conditions) Text() string {
	texts := make([]string, len(c))
	for i, each := range c {
		texts[i] = each.Text()
	}
	return strings.Join(texts, ", ")
}

// Conditions reads what follows with or without: a name, NAME: WORD, or a list of
// these.
func (r *Reader) Conditions(n ast.Node, not bool) Conditions {
	var out Conditions
	for _, each := range r.Nodes(n) {
		pairs, isMap := r.Pairs(each)
		if !isMap {
			out = append(out, Condition{Name: r.Whole(each), Not: not})
			continue
		}
		for _, pair := range pairs {
			out = append(out, Condition{Name: pair.Key.GetToken().Value, Is: r.Text(pair.Value), Not: not})
		}
	}
	return out
}

// Condition checks that with and without name something that can be empty, or a word that
// a choice can be.
func (c *Checker) Condition(section Section, step *Step, cond Condition) {
	name := cond.Name
	c.used[name] = true
	setting, isSetting := c.P.Setting(name)
	_, packed := c.P.Pack(name)
	_, has := c.Captures[name]
	g, isGiven := givenOf(name)
	switch {
	case cond.Is != "" && setting.Kind != value.Choice:
		c.FaultAt(step, name, "name a setting of the kind choice", "%s compares %q, which is not a choice",
			cond.Text(), name)
	case cond.Is != "" && !slices.Contains(setting.Choices, cond.Is):
		c.FaultAt(step, cond.Is, "write one of "+strings.Join(setting.Choices, ", "), "%q is never %q", name, cond.Is)
	case isSetting, packed, has:
	case isGiven && c.reached(section, name):
	case isGiven:
		c.FaultAt(step, name, "use it in a later section", "%q is not there before the section %s", name, g.from)
	default:
		c.FaultAt(step, name, "name one of "+strings.Join(append(c.P.settingNames(), KeyAgain), ", "),
			"with and without name %q, which is not a setting, a pack or a captured value", name)
	}
}
