package procedure

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// check looks at what the form alone does not show: that every value named is
// there by then, and that a device is never left half changed.
func (r *reader) check(p *Procedure) {
	known := map[string]Kind{}
	for _, s := range p.Settings {
		known[s.Name] = s.Kind
	}
	for _, pack := range p.Packs {
		if _, taken := known[pack.Name]; taken {
			r.fault(nil, "choose another name", "a setting is called %q as well as a pack", pack.Name)
		}
		known[pack.Name] = Content
	}
	for _, section := range Sections {
		names := map[string]bool{}
		for i := range p.Steps[section] {
			step := &p.Steps[section][i]
			if names[step.Name] {
				r.fault(r.places[step], "give each a name of its own: the journal knows steps by it", "two steps of %s are called %q", section, step.Name)
			}
			names[step.Name] = true
			r.checkValues(*p, section, step, known)
			if step.Capture == "" {
				continue
			}
			_, given := Given[step.Capture]
			if _, setting := p.Setting(step.Capture); setting || given && step.Capture != "request" {
				r.fault(r.places[step], "choose another name", "%q is taken by a setting or a value that every procedure has", step.Capture)
			}
			known[step.Capture] = Content
		}
		if section == Request && known["request"] == "" && !p.Traits.KeyGiven {
			r.fault(r.at(p.Steps[Request]), "let one step fetch or print it with capture: request", "the section request captures no request")
		}
	}
	r.checkLinks(p)
	for i := range p.Steps[Survey] {
		if step := &p.Steps[Survey][i]; step.Verb == Put {
			r.fault(r.places[step], "move the step to request or install", "survey only looks and may not put files")
		}
	}
}

// checkLinks sees that every step has its link. Giving up must need nobody.
func (r *reader) checkLinks(p *Procedure) {
	for _, section := range Sections {
		for i := range p.Steps[section] {
			step := &p.Steps[section][i]
			needed := SSH
			switch step.Verb {
			case Wait:
				continue
			case Hand:
				needed = Person
			case Own:
				needed = Itself
			}
			if !p.Uses(needed) {
				r.fault(r.places[step], "add it to links", "the verb %s needs the link %s", step.Verb, needed)
			}
			if step.Verb == Hand && section == Cancel {
				r.fault(r.places[step], "leave it out", "giving up may not need a person: nothing live was changed")
			}
		}
	}
}

func (r *reader) at(steps []Step) ast.Node {
	if len(steps) == 0 {
		return nil
	}
	return r.places[&steps[0]]
}

// checkValues sees that every value of a step exists by then and fits its place.
func (r *reader) checkValues(p Procedure, section Section, step *Step, known map[string]Kind) {
	at := r.places[step]
	use := func(name, fragment, place string) {
		made, packed := p.Pack(name)
		if (Given[name].Secret || made.Secret()) && !p.Traits.KeyGiven {
			r.faultIn(at, fragment, "write key_made_by: service among the traits, or leave it out", "{{%s}} is there only where Fresh Seal makes the key", name)
			return
		}
		if packed && !reached(section, "leaf") {
			r.faultIn(at, fragment, "use it in a later section", "the pack {{%s}} is not there before the section %s", name, availableFrom["leaf"])
			return
		}
		kind, ok := known[name]
		if given, isGiven := Given[name]; !ok && isGiven {
			kind, ok = given.Kind, reached(section, name)
			if !ok {
				r.faultIn(at, fragment, "use it in a later section", "{{%s}} is not there before the section %s", name, availableFrom[name])
				return
			}
		}
		switch {
		case !ok:
			instead := "name a setting, a captured value, or one of " + strings.Join(givenNames(), ", ")
			if near := nearest(name, append(keysOf(known), givenNames()...)); near != "" {
				instead = "write {{" + near + "}}"
			}
			r.faultIn(at, fragment, instead, "nothing is called {{%s}} here", name)
		case place == "path" && kind != Path && kind != Text && kind != Number:
			r.faultIn(at, fragment, "name a path or a text", "{{%s}} is of the kind %s and cannot stand in a path", name, kind)
		case place == "file" && kind != Content:
			r.faultIn(at, fragment, "name one of "+strings.Join(contents(known), ", "), "{{%s}} is of the kind %s and is no file's content", name, kind)
		}
	}
	place := "command"
	switch step.Verb {
	case Put, Fetch:
		place = "path"
	case Hand:
		place = "words"
	}
	for _, each := range step.Copy {
		for _, m := range placeholder.FindAllStringSubmatch(each.Text, -1) {
			use(m[1], m[0], place)
		}
	}
	for _, each := range step.Files {
		if made, _ := p.Pack(each.Text); Given[each.Text].Secret || made.Secret() {
			r.faultIn(at, each.Text, "let a step put it over a link", "{{%s}} is secret and may not pass through a person's hands", each.Text)
		}
		use(each.Text, "{{"+each.Text+"}}", "file")
	}
	for _, m := range placeholder.FindAllStringSubmatch(step.Text, -1) {
		use(m[1], m[0], place)
	}
	if step.Content != "" {
		use(step.Content, "{{"+step.Content+"}}", "file")
	}
	if step.Expect.Same != "" {
		use(step.Expect.Same, "{{"+step.Expect.Same+"}}", "file")
	}
	if name := step.When.Setting; name != "" {
		_, setting := p.Setting(name)
		if _, made := p.Pack(name); !setting && !made && name != KeyAgain {
			r.faultIn(at, name, "name one of "+strings.Join(append(p.settingNames(), KeyAgain), ", "), "when names %q, which is no setting", name)
		}
	}
}

// reached says that a given value is there in this section. Ways back can run
// before anything was signed, so they may not lean on what comes from the signer.
func reached(section Section, name string) bool {
	from, late := availableFrom[name]
	if !late {
		return name != "request" || section != Survey
	}
	if section == Revert || section == Cancel {
		return false
	}
	return slices.Index(Sections, section) >= slices.Index(Sections, from)
}

func givenNames() []string {
	var names []string
	for name := range Given {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func contents(known map[string]Kind) []string {
	var names []string
	for name, v := range Given {
		if v.Kind == Content {
			names = append(names, name)
		}
	}
	for name, kind := range known {
		if kind == Content && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func keysOf(m map[string]Kind) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	return out
}
