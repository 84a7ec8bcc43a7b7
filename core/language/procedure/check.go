package procedure

import (
	"slices"

	"freshseal/core/language/value"

	"github.com/goccy/go-yaml/ast"
)

// Checker looks at what the form alone does not show: that every value is there
// by then and fits its place, that every change has its way back, that every step
// has its link.
type Checker struct {
	*Reader
	P        *Procedure
	Captures map[string]captured
	used     map[string]bool
}

// captured is a value that a step before captures.
type captured struct {
	kind    value.Kind
	secret  bool
	when    Conditions // of its step
	on      string
	ByHand  bool // a person gives it back
	section Section
	at      ast.Node
}

// requested is the capture that a device's own request is.
const requested = "request"

func (r *Reader) check(p *Procedure) {
	c := &Checker{r, p, map[string]captured{}, map[string]bool{}}
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
		c.Reader.Fault(nil, "add https to links, or leave web_sign_in out", "web_sign_in belongs to the link https")
	}
	if p.Traits.SignsItself {
		c.signedByDevice()
	} else if got, has := c.Captures[requested]; !has && !p.Traits.KeyGiven && !r.broken[Request] &&
		len(p.Traits.KeyTypes) > 0 {
		var at ast.Node
		if len(p.Steps[Request]) > 0 {
			at = c.Place(&p.Steps[Request][0])
		}
		r.Fault(at, "let one step fetch or print it with capture: request", "the section request captures no request")
	} else if has && p.Traits.KeyEither && !slices.ContainsFunc(got.when, func(each Condition) bool {
		return c.ofSetting(each.Name)
	}) {
		r.Fault(got.at, "write with: and the setting beside the steps, or leave key_made_by out",
			"key_made_by says either, and the request is always captured")
	}
	if len(p.Steps[Install])+len(p.Steps[Activate]) == 0 && p.Steps != nil && !r.broken[Install] &&
		!r.broken[Activate] {
		r.Fault(nil, "add a section activate with the steps that put the certificate in use",
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

// signedByDevice checks that a family without requests makes none, and that its proof can
// be made: by which authority the new certificate is signed.
func (c *Checker) signedByDevice() {
	if steps := c.P.Steps[Request]; len(steps) > 0 {
		c.Fault(&steps[0], "move the step to activate, or leave signer out", "no request is made where the device "+
			"is its own signer")
	}
	if len(c.P.Packs) > 0 {
		c.Reader.Fault(c.names[c.P.Packs[0].Name], "leave packs out", "nothing is sent to a device that is its "+
			"own signer")
	}
	got, has := c.Captures[Issuer]
	if !has && !c.broken[Survey] && !c.broken[Activate] {
		c.Reader.Fault(nil, "let a step in survey or activate print or fetch it with capture: issuer",
			"nothing captures the certificate of the device's authority, so it cannot be proven who signed the new "+
				"certificate")
	} else if has && len(got.when) > 0 {
		c.Reader.Fault(got.at, "leave with and without out", "the certificate of the device's authority is "+
			"captured only sometimes")
	}
}

func (c *Checker) Place(step *Step) ast.Node {
	if n, ok := c.Places[step]; ok {
		return n
	}
	return c.at(step)
}

func (c *Checker) Fault(step *Step, instead, format string, args ...any) {
	c.Reader.Fault(c.Place(step), instead, format, args...)
}

func (c *Checker) FaultAt(step *Step, fragment, instead, format string, args ...any) {
	c.faultIn(c.Place(step), fragment, instead, format, args...)
}

func (c *Checker) section(section Section) {
	names := map[string]int{}
	for i := range c.P.Steps[section] {
		step := &c.P.Steps[section][i]
		if names[step.Name]++; names[step.Name] > 1 {
			c.Fault(step, "give each a name of its own with step: the journal tells steps apart by it",
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

func (c *Checker) capture(section Section, step *Step, capture Capture) {
	_, setting := c.P.Setting(capture.Name)
	_, packed := c.P.Pack(capture.Name)
	before, again := c.Captures[capture.Name]
	alternative := again && before.when.excludes(step.When)
	if setting || packed || again && !alternative {
		c.FaultAt(step, capture.Name, "choose another name", "%q is taken by a setting, a pack or another capture",
			capture.Name)
	}
	kind := step.Do.Gives()
	if capture.Part() {
		kind = value.Text
	}
	if capture.Name == "request" || capture.Name == Issuer && c.P.Traits.SignsItself {
		kind = value.Content
		c.used[capture.Name] = true
	}
	made := captured{kind: kind, secret: capture.Secret, when: step.When, on: step.On,
		ByHand: step.Do.Link() == Person, section: section, at: c.Place(step)}
	if alternative { // two steps, one of which is done
		made.when = made.when.shared(before.when)
	}
	c.Captures[capture.Name] = made
	if capture.Keep {
		c.used[capture.Name] = true
	}
}

func (c *Checker) step(section Section, step *Step) {
	if link := step.Do.Link(); link != "" && !c.P.Uses(link) {
		c.Fault(step, "add it to links", "%s needs the link %s", step.Do.Word(), link)
	}
	if (section == Session || section == SignOut) && step.Do.Link() != HTTPS {
		c.Fault(step, "use http", "a session consists of calls over the link https")
	}
	if section == Survey && step.Do.Changes() == KnowsWay {
		c.Fault(step, "move the step to request or install", "survey only looks and may not change the device")
	}
	c.undone(section, step)
	c.helped(section, step)
	for _, each := range step.When {
		c.Condition(section, step, each)
	}
	if step.Each != "" {
		c.List(section, step)
	}
	for _, u := range step.Do.Uses() {
		c.Text(section, step, step, u)
	}
	if step.Expect.Same != "" {
		c.value(section, step, step, step.Expect.Same, InWhole)
	}
	for _, beside := range step.Beside() {
		if beside.Do == nil {
			continue
		}
		if link := beside.Do.Link(); link != "" && !c.P.Uses(link) {
			c.Fault(step, "add it to links", "%s needs the link %s", beside.Do.Word(), link)
		}
		for _, u := range beside.Do.Uses() {
			c.Text(section, step, beside, u)
		}
	}
	c.ways(section, step)
	step.Do.Check(c, section, step)
}

func (c *Checker) ofSetting(name string) bool {
	_, ok := c.P.Setting(name)
	return ok
}

// undone checks that a change has a way back.
func (c *Checker) undone(section Section, step *Step) {
	if step.Do.Changes() != AsksWay || step.Undo.Kind != UndoUnsaid {
		return
	}
	needs := slices.Contains(Changing, section) && len(c.P.Steps[Revert]) == 0
	if section == Request && len(c.P.Steps[Cancel]) == 0 {
		w, ok := step.Do.(interface{ UsesWork() bool })
		needs = ok && !w.UsesWork()
	}
	if needs {
		c.Fault(step, "write undo: with the command that takes it back; undo: again (nothing to put back, done "+
			"once more at the end), undo: nothing (it changes nothing), or undo: none with because:",
			"the step “%s” may change the device and does not say how it is undone", step.Name)
	}
}

func (c *Checker) List(section Section, step *Step) {
	c.used[step.Each] = true
	kind, ok := value.Kind(""), false
	if s, has := c.P.Setting(step.Each); has {
		kind, ok = s.Kind, true
	} else if g, has := givenOf(step.Each); has {
		kind, ok = g.kind, c.reached(section, step.Each)
	}
	if !ok || kind != value.List {
		c.FaultAt(step, step.Each, "name a setting of the kind list, or one of names, dns_names, ip_names, "+
			"slots, nodes", "each names %q, which is not a list", step.Each)
	}
}

// Passing returns the step of survey that captures a value which a restart makes wrong, by the value's name.
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

// Names returns the values that a step names.
func (s Step) Names() []string {
	var out []string
	for _, u := range s.Do.Uses() {
		out = append(out, value.Named(u.Text)...)
	}
	return out
}

// everyStep returns all steps of the procedure but those of its session.
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
