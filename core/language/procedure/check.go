package procedure

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// checker looks at what the form alone does not show: that every value is there
// by then and fits its place, that every change has its way back, that every step
// has its link.
type checker struct {
	*reader
	p        *Procedure
	captures map[string]captured
	used     map[string]bool
}

// captured is a value that a step before captures.
type captured struct {
	kind    Kind
	secret  bool
	when    Conditions // of its step
	on      string
	byHand  bool // a person gives it back
	section Section
	at      ast.Node
}

// requested is the capture that a device's own request is.
const requested = "request"

func (r *reader) check(p *Procedure) {
	c := &checker{r, p, map[string]captured{}, map[string]bool{}}
	if p.As != "" {
		c.used[p.As] = true
	}
	for _, section := range append([]Section{Session}, Sections...) {
		c.section(section)
		if section == Backup {
			c.section(Look)
		}
	}
	c.lookedAt()
	c.enclosed()
	c.section(SignOut)
	c.sessionHeaders()
	if p.Traits.WebSignIn != BySteps && !p.Uses(HTTPS) {
		c.reader.fault(nil, "add https to links, or leave web_sign_in out", "web_sign_in belongs to the link https")
	}
	if p.Traits.SignsItself {
		c.signedByDevice()
	} else if got, has := c.captures[requested]; !has && !p.Traits.KeyGiven && !r.broken[Request] &&
		len(p.Traits.KeyTypes) > 0 {
		var at ast.Node
		if len(p.Steps[Request]) > 0 {
			at = c.place(&p.Steps[Request][0])
		}
		r.fault(at, "let one step fetch or print it with capture: request", "the section request captures no request")
	} else if has && p.Traits.KeyEither && !slices.ContainsFunc(got.when, func(each Condition) bool {
		return c.ofSetting(each.Name)
	}) {
		r.fault(got.at, "write with: and the setting beside the steps, or leave key_made_by out",
			"key_made_by says either, and the request is always captured")
	}
	if len(p.Steps[Install])+len(p.Steps[Activate]) == 0 && p.Steps != nil && !r.broken[Install] &&
		!r.broken[Activate] {
		r.fault(nil, "add a section activate with the steps that put the certificate in use",
			"no step puts the new certificate onto the device")
	}
	c.warnUnused()
	for i := range p.Settings {
		p.Settings[i].bare = c.inCommands(p.Settings[i].Name)
	}
}

// Issuer names the value in which a device that is its own signer tells the
// certificate of its authority.
const Issuer = "issuer"

// signedByDevice sees that a family without requests makes none, and that its proof can
// be made: by which authority the new certificate is signed.
func (c *checker) signedByDevice() {
	if steps := c.p.Steps[Request]; len(steps) > 0 {
		c.fault(&steps[0], "move the step to activate, or leave signer out", "no request is made where the device "+
			"is its own signer")
	}
	if len(c.p.Packs) > 0 {
		c.reader.fault(c.names[c.p.Packs[0].Name], "leave packs out", "nothing is sent to a device that is its "+
			"own signer")
	}
	got, has := c.captures[Issuer]
	if !has && !c.broken[Survey] && !c.broken[Activate] {
		c.reader.fault(nil, "let a step in survey or activate print or fetch it with capture: issuer",
			"nothing captures the certificate of the device's authority, so it cannot be proven who signed the new "+
				"certificate")
	} else if has && len(got.when) > 0 {
		c.reader.fault(got.at, "leave with and without out", "the certificate of the device's authority is "+
			"captured only sometimes")
	}
}

func (c *checker) place(step *Step) ast.Node {
	if n, ok := c.places[step]; ok {
		return n
	}
	return c.at(step)
}

func (c *checker) fault(step *Step, instead, format string, args ...any) {
	c.reader.fault(c.place(step), instead, format, args...)
}

func (c *checker) faultAt(step *Step, fragment, instead, format string, args ...any) {
	c.faultIn(c.place(step), fragment, instead, format, args...)
}

func (c *checker) section(section Section) {
	names := map[string]int{}
	for i := range c.p.Steps[section] {
		step := &c.p.Steps[section][i]
		if names[step.Name]++; names[step.Name] > 1 {
			c.fault(step, "give each a name of its own with step: the journal tells steps apart by it",
				"two steps of %s are called %q", section, step.Name)
		}
		c.step(section, step)
		if section == Look {
			continue // its captures are looks, and no values
		}
		for _, capture := range step.Capture {
			c.capture(section, step, capture)
		}
	}
}

func (c *checker) capture(section Section, step *Step, capture Capture) {
	_, setting := c.p.Setting(capture.Name)
	_, packed := c.p.Pack(capture.Name)
	before, again := c.captures[capture.Name]
	alternative := again && before.when.excludes(step.When)
	if setting || packed || again && !alternative {
		c.faultAt(step, capture.Name, "choose another name", "%q is taken by a setting, a pack or another capture",
			capture.Name)
	}
	kind := step.Do.Gives()
	if capture.part() {
		kind = Text
	}
	if capture.Name == "request" || capture.Name == Issuer && c.p.Traits.SignsItself {
		kind = Content
		c.used[capture.Name] = true
	}
	made := captured{kind: kind, secret: capture.Secret, when: step.When, on: step.On,
		byHand: step.Do.Link() == Person, section: section, at: c.place(step)}
	if alternative { // two steps, one of which is done
		made.when = made.when.shared(before.when)
	}
	c.captures[capture.Name] = made
	if capture.Keep {
		c.used[capture.Name] = true
	}
}

func (c *checker) step(section Section, step *Step) {
	if link := step.Do.Link(); link != "" && !c.p.Uses(link) {
		c.fault(step, "add it to links", "%s needs the link %s", step.Do.Word(), link)
	}
	if (section == Session || section == SignOut) && step.Do.Link() != HTTPS {
		c.fault(step, "use http", "a session consists of calls over the link https")
	}
	if section == Survey && step.Do.Changes() == KnowsWay {
		c.fault(step, "move the step to request or install", "survey only looks and may not change the device")
	}
	c.undone(section, step)
	c.helped(section, step)
	for _, each := range step.When {
		c.condition(section, step, each)
	}
	if step.Each != "" {
		c.list(section, step)
	}
	for _, u := range step.Do.uses() {
		c.text(section, step, step, u)
	}
	if step.Expect.Same != "" {
		c.value(section, step, step, step.Expect.Same, inWhole)
	}
	for _, beside := range step.Beside() {
		if beside.Do == nil {
			continue
		}
		if link := beside.Do.Link(); link != "" && !c.p.Uses(link) {
			c.fault(step, "add it to links", "%s needs the link %s", beside.Do.Word(), link)
		}
		for _, u := range beside.Do.uses() {
			c.text(section, step, beside, u)
		}
	}
	c.ways(section, step)
	step.Do.check(c, section, step)
}

func (c *checker) ofSetting(name string) bool {
	_, ok := c.p.Setting(name)
	return ok
}

// undone sees that a change has a way back.
func (c *checker) undone(section Section, step *Step) {
	if step.Do.Changes() != AsksWay || step.Undo.Kind != UndoUnsaid {
		return
	}
	needs := slices.Contains(changing, section) && len(c.p.Steps[Revert]) == 0
	if section == Request && len(c.p.Steps[Cancel]) == 0 {
		w, ok := step.Do.(interface{ UsesWork() bool })
		needs = ok && !w.UsesWork()
	}
	if needs {
		c.fault(step, "write undo: with the command that takes it back; undo: again (nothing to put back, done "+
			"once more at the end), undo: nothing (it changes nothing), or undo: none with because:",
			"the step “%s” may change the device and does not say how it is undone", step.Name)
	}
}

func (c *checker) list(section Section, step *Step) {
	c.used[step.Each] = true
	kind, ok := Kind(""), false
	if s, has := c.p.Setting(step.Each); has {
		kind, ok = s.Kind, true
	} else if g, has := givenOf(step.Each); has {
		kind, ok = g.kind, c.reached(section, step.Each)
	}
	if !ok || kind != List {
		c.faultAt(step, step.Each, "name a setting of the kind list, or one of names, dns_names, ip_names, "+
			"slots, nodes", "each names %q, which is not a list", step.Each)
	}
}

// text checks every value of a text.
func (c *checker) text(section Section, step, owner *Step, u use) {
	for _, name := range named(u.text) {
		c.value(section, step, owner, name, u.place)
	}
	if u.place != inCommand {
		return
	}
	if f := checkCommand(u.text, c.kind, c.filled); f != nil {
		c.faultAt(step, f.fragment, f.instead, "%s", f.what)
	}
}

// kind is the kind of a value by its name; text where there is none.
func (c *checker) kind(name string) Kind {
	if s, ok := c.p.Setting(name); ok {
		if s.Kind == Pattern {
			return Text // once it is filled in
		}
		return s.Kind
	}
	if g, ok := givenOf(name); ok {
		return g.kind
	}
	if got, ok := c.captures[name]; ok {
		return got.kind
	}
	if _, ok := c.p.Pack(name); ok {
		return Content
	}
	return Text
}

// filled says that a value of the kind command is never empty: it has a default.
func (c *checker) filled(name string) bool {
	s, ok := c.p.Setting(name)
	return ok && s.Default != ""
}

// secret says that a value must never be shown.
func (c *checker) secret(name string) bool {
	s, _ := c.p.Setting(name)
	g, _ := givenOf(name)
	made, _ := c.p.Pack(name)
	return s.Kind == Secret || g.kind == Secret || g.secret || g.name == "new_key" || made.Secret() ||
		c.captures[name].secret
}

// value sees that a value is there by then and fits its place.
func (c *checker) value(section Section, step, owner *Step, name string, where place) {
	fragment := name
	if name == item {
		if step.Each == "" {
			c.faultAt(step, fragment, "write each: LIST beside the step", "{{item}} is there only beside each")
		}
		return
	}
	c.used[name] = true
	g, isGiven := givenOf(name)
	made, packed := c.p.Pack(name)
	_, setting := c.p.Setting(name)
	got, has := c.captures[name]
	switch {
	case isGiven && !has && c.p.Traits.SignsItself && slices.Index(Sections, g.from) >= slices.Index(Sections, Backup):
		c.faultAt(step, fragment, "leave it out", "{{%s}} is never there where the device is its own signer", name)
		return
	case (g.secret || made.Secret()) && c.p.Traits.KeyEither && !c.captures[requested].when.excludes(step.When):
		c.faultAt(step, fragment, "leave the step out where a step captures the request: use the opposite of “"+
			c.captures[requested].when.Text()+"”", "{{%s}} is there only where Fresh Seal makes the key", name)
		return
	case name == "new_key" && c.captures[requested].on != "" && !c.captures[requested].when.excludes(step.When):
		c.faultAt(step, fragment, "fetch the key from the helper with a capture that is secret, and name that",
			"{{new_key}} is on the helper, not on the device")
		return
	case (g.secret || made.Secret()) && !c.p.Traits.KeyGiven && !c.p.Traits.KeyEither:
		c.faultAt(step, fragment, "write key_made_by: service among the traits, or leave it out",
			"{{%s}} is there only where Fresh Seal makes the key", name)
		return
	case packed && !c.reached(section, "leaf"):
		c.faultAt(step, fragment, "use it in a later section", "the pack {{%s}} is not there before the "+
			"section backup", name)
		return
	case has && !got.when.within(step.When):
		c.faultAt(step, fragment, "write the same with or without beside this step", "{{%s}} is captured only "+
			"where “%s” holds", name, got.when.Text())
		return
	case has && beside(step, owner) && got.at == c.place(step):
	case isGiven && !has && !c.reached(section, name):
		c.faultAt(step, fragment, "use it in a later section", "{{%s}} is not there before the section %s", name,
			g.from)
		return
	case !isGiven && !packed && !setting && !has:
		all := append(c.p.settingNames(), givenNames()...)
		for captured := range c.captures {
			all = append(all, captured)
		}
		instead := "name a setting, a captured value, or one of " + strings.Join(givenNames(), ", ")
		if near := nearest(name, all); near != "" {
			instead = "write {{" + near + "}}"
		}
		c.faultAt(step, fragment, instead, "nothing is called {{%s}} here", name)
		return
	}
	c.fits(step, name, where)
}

func beside(step, owner *Step) bool { return step != owner }

// fits sees that a value may stand in its place.
func (c *checker) fits(step *Step, name string, where place) {
	kind, secret := c.kind(name), c.secret(name)
	switch where {
	case inCommand:
		switch {
		case secret:
			c.faultAt(step, name, "give it with stdin:, or put it into a file", "{{%s}} is secret and may not be "+
				"part of a command, where the device's process list shows it", name)
		case kind == Content:
			c.faultAt(step, name, "give it with stdin:, or put it into a file", "{{%s}} is a file's content and "+
				"may not be part of a command", name)
		}
	case inPath:
		if secret || kind != Path && kind != Text && kind != Number && kind != Choice {
			c.faultAt(step, name, "name a path or a text", "{{%s}} is of the kind %s and cannot stand in a path",
				name, kind)
		}
	case inRule:
		if secret || kind == Content || kind == List || kind == Command {
			c.faultAt(step, name, "name a path or a text", "{{%s}} is of the kind %s and cannot stand in a line "+
				"of a file", name, kind)
		}
	case inWords:
		if secret {
			c.faultAt(step, name, "leave it out", "{{%s}} is secret and may not be shown", name)
		}
	case inAnswer:
		if kind == Content {
			c.faultAt(step, name, "give it with paste:", "{{%s}} is a file's content and is no line of a dialog", name)
		}
	case inURL:
		if secret || kind == Content {
			c.faultAt(step, name, "send it in a header or the body", "{{%s}} is of the kind %s and may not be part "+
				"of an address, which servers log", name, kind)
		}
	case inHeader:
		if kind == Content {
			c.faultAt(step, name, "send it in the body", "{{%s}} is a file's content and is no header", name)
		}
	case inWhole:
		if kind != Content && kind != Text {
			c.faultAt(step, name, "name a file's content", "{{%s}} is of the kind %s and is not a file's content",
				name, kind)
		}
	}
}

// reached says that a given value is there in this section. Ways back can run
// before anything was signed, so they may not lean on what comes from the signer.
func (c *checker) reached(section Section, name string) bool {
	g, _ := givenOf(name)
	if section == Revert || section == Cancel {
		return slices.Index(Sections, g.from) <= slices.Index(Sections, Request)
	}
	return position(section) >= position(g.from)
}

// warnUnused tells of settings, packs and captures that nothing uses.
func (c *checker) warnUnused() {
	warn := func(at ast.Node, what, name string) {
		if at == nil || c.used[name] || len(c.broken) > 0 {
			return
		}
		c.reader.fault(at, "use it or leave it out", "nothing uses the %s %q", what, name)
		c.faults[len(c.faults)-1].Warning = true
	}
	for _, s := range c.p.Settings {
		warn(c.names[s.Name], "setting", s.Name)
	}
	for _, p := range c.p.Packs {
		warn(c.names[p.Name], "pack", p.Name)
	}
	for name, got := range c.captures {
		warn(got.at, "capture", name)
	}
}

// inCommands says that a setting's text becomes part of a command or a line.
func (c *checker) inCommands(name string) bool {
	for _, step := range c.p.everyStep() {
		for _, s := range append(step.Beside(), &step) {
			if s.Do == nil {
				continue
			}
			for _, u := range s.Do.uses() {
				if (u.place == inCommand || u.place == inRule) && slices.Contains(named(u.text), name) {
					return true
				}
			}
		}
	}
	return false
}

// Passing is the step of survey that captures a value which a restart makes wrong, by the value's name.
func (p Procedure) Passing(name string) (Step, bool) {
	for _, step := range p.Steps[Survey] {
		for _, c := range step.Capture {
			if c.Passing && c.Name == name {
				return step, true
			}
		}
	}
	return Step{}, false
}

// Names are the values that a step names.
func (s Step) Names() []string {
	var out []string
	for _, u := range s.Do.uses() {
		out = append(out, named(u.text)...)
	}
	return out
}

// everyStep are all steps of the procedure but those of its session.
func (p Procedure) everyStep() []Step {
	var out []Step
	for _, section := range append([]Section{Look}, Sections...) {
		out = append(out, p.Steps[section]...)
	}
	for _, a := range p.Arounds {
		out = append(append(out, a.Enter...), a.Leave...)
	}
	return out
}
