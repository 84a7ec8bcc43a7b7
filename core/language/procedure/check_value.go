package procedure

import (
	"slices"
	"strings"

	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Text checks every value of a text.
func (c *Checker) Text(section Section, step, owner *Step, u Use) {
	for _, name := range value.Named(u.Text) {
		c.value(section, step, owner, name, u.Place)
	}
	if u.Place != InCommand {
		return
	}
	if f := value.CheckCommand(u.Text, c.Kind, c.filled); f != nil {
		c.FaultAt(step, f.Fragment, f.Instead, "%s", f.What)
	}
}

// Kind returns the kind of a value by its name; text if there is none.
func (c *Checker) Kind(name string) value.Kind {
	if s, ok := c.P.Setting(name); ok {
		if s.Kind == value.Pattern {
			return value.Text // once it is filled in
		}
		return s.Kind
	}
	if g, ok := givenOf(name); ok {
		return g.kind
	}
	if got, ok := c.Captures[name]; ok {
		return got.kind
	}
	if _, ok := c.P.Pack(name); ok {
		return value.Content
	}
	return value.Text
}

// filled reports whether a value of the kind command is never empty: it has a default.
func (c *Checker) filled(name string) bool {
	s, ok := c.P.Setting(name)
	return ok && s.Default != ""
}

// Secret reports whether a value must never be shown.
func (c *Checker) Secret(name string) bool {
	s, _ := c.P.Setting(name)
	g, _ := givenOf(name)
	made, _ := c.P.Pack(name)
	return s.Kind == value.Secret || g.kind == value.Secret || g.secret || g.name == "new_key" || made.Secret() ||
		c.Captures[name].secret
}

// value checks that a value is there by then and fits its place.
// revive:disable-next-line:cyclomatic a table of rules
func (c *Checker) value(section Section, step, owner *Step, name string, where Place) {
	fragment := name
	if name == Item {
		if step.Each == "" {
			c.FaultAt(step, fragment, "write each: LIST beside the step", "{{item}} is there only beside each")
		}
		return
	}
	c.used[name] = true
	g, isGiven := givenOf(name)
	made, packed := c.P.Pack(name)
	_, setting := c.P.Setting(name)
	got, has := c.Captures[name]
	switch {
	case isGiven && !has && c.P.Traits.SignsItself && slices.Index(Sections, g.from) >= slices.Index(Sections, Backup):
		c.FaultAt(step, fragment, "leave it out", "{{%s}} is never there where the device is its own signer", name)
		return
	case (g.secret || made.Secret()) && c.P.Traits.KeyEither && !c.Captures[requested].when.excludes(step.When):
		c.FaultAt(step, fragment, "leave the step out where a step captures the request: use the opposite of “"+
			c.Captures[requested].when.Text()+"”", "{{%s}} is there only where Fresh Seal makes the key", name)
		return
	case name == "new_key" && c.Captures[requested].on != "" && !c.Captures[requested].when.excludes(step.When):
		c.FaultAt(step, fragment, "fetch the key from the helper with a capture that is secret, and name that",
			"{{new_key}} is on the helper, not on the device")
		return
	case (g.secret || made.Secret()) && !c.P.Traits.KeyGiven && !c.P.Traits.KeyEither:
		c.FaultAt(step, fragment, "write key_made_by: service among the traits, or leave it out",
			"{{%s}} is there only where Fresh Seal makes the key", name)
		return
	case packed && !c.reached(section, "leaf"):
		c.FaultAt(step, fragment, "use it in a later section", "the pack {{%s}} is not there before the "+
			"section backup", name)
		return
	case has && !got.when.within(step.When):
		c.FaultAt(step, fragment, "write the same with or without beside this step", "{{%s}} is captured only "+
			"where “%s” holds", name, got.when.Text())
		return
	case has && beside(step, owner) && got.at == c.Place(step):
	case isGiven && !has && !c.reached(section, name):
		c.FaultAt(step, fragment, "use it in a later section", "{{%s}} is not there before the section %s", name,
			g.from)
		return
	case !isGiven && !packed && !setting && !has:
		all := append(c.P.settingNames(), givenNames()...)
		for captured := range c.Captures {
			all = append(all, captured)
		}
		instead := "name a setting, a captured value, or one of " + strings.Join(givenNames(), ", ")
		if near := value.Nearest(name, all); near != "" {
			instead = "write {{" + near + "}}"
		}
		c.FaultAt(step, fragment, instead, "nothing is called {{%s}} here", name)
		return
	}
	c.fits(step, name, where)
}

func beside(step, owner *Step) bool { return step != owner }

// fits checks that a value may stand in its place.
// revive:disable-next-line:cyclomatic a table of places
func (c *Checker) fits(step *Step, name string, where Place) {
	kind, secret := c.Kind(name), c.Secret(name)
	switch where {
	case InCommand:
		switch {
		case secret:
			c.FaultAt(step, name, "give it with stdin:, or put it into a file", "{{%s}} is secret and may not be "+
				"part of a command, where the device's process list shows it", name)
		case kind == value.Content:
			c.FaultAt(step, name, "give it with stdin:, or put it into a file", "{{%s}} is a file's content and "+
				"may not be part of a command", name)
		}
	case InPath:
		if secret || kind != value.Path && kind != value.Text && kind != value.Number && kind != value.Choice {
			c.FaultAt(step, name, "name a path or a text", "{{%s}} is of the kind %s and cannot stand in a path",
				name, kind)
		}
	case InRule:
		if secret || kind == value.Content || kind == value.List || kind == value.Command {
			c.FaultAt(step, name, "name a path or a text", "{{%s}} is of the kind %s and cannot stand in a line "+
				"of a file", name, kind)
		}
	case InWords:
		if secret {
			c.FaultAt(step, name, "leave it out", "{{%s}} is secret and may not be shown", name)
		}
	case InAnswer:
		if kind == value.Content {
			c.FaultAt(step, name, "give it with paste:", "{{%s}} is a file's content and is no line of a dialog", name)
		}
	case InURL:
		if secret || kind == value.Content {
			c.FaultAt(step, name, "send it in a header or the body", "{{%s}} is of the kind %s and may not be part "+
				"of an address, which servers log", name, kind)
		}
	case InHeader:
		if kind == value.Content {
			c.FaultAt(step, name, "send it in the body", "{{%s}} is a file's content and is no header", name)
		}
	case InWhole:
		if kind != value.Content && kind != value.Text {
			c.FaultAt(step, name, "name a file's content", "{{%s}} is of the kind %s and is not a file's content",
				name, kind)
		}
	}
}

// reached reports whether a given value is there in this section. Ways back can run
// before anything was signed, so they may not lean on what comes from the signer.
func (c *Checker) reached(section Section, name string) bool {
	g, _ := givenOf(name)
	if section == Revert || section == Cancel {
		return slices.Index(Sections, g.from) <= slices.Index(Sections, Request)
	}
	return position(section) >= position(g.from)
}

// warnUnused tells of settings, packs and captures that nothing uses.
func (c *Checker) warnUnused() {
	warn := func(at ast.Node, what, name string) {
		if at == nil || c.used[name] || len(c.broken) > 0 {
			return
		}
		c.Reader.Fault(at, "use it or leave it out", "nothing uses the %s %q", what, name)
		c.Faults[len(c.Faults)-1].Warning = true
	}
	for _, s := range c.P.Settings {
		warn(c.names[s.Name], "setting", s.Name)
	}
	for _, p := range c.P.Packs {
		warn(c.names[p.Name], "pack", p.Name)
	}
	for name, got := range c.Captures {
		warn(got.at, "capture", name)
	}
}

// inCommands reports whether a setting's text becomes part of a command or a line.
func (c *Checker) inCommands(name string) bool {
	for _, step := range c.P.everyStep() {
		for _, s := range append(step.Beside(), &step) {
			if s.Do == nil {
				continue
			}
			for _, u := range s.Do.Uses() {
				if (u.Place == InCommand || u.Place == InRule) && slices.Contains(value.Named(u.Text), name) {
					return true
				}
			}
		}
	}
	return false
}
