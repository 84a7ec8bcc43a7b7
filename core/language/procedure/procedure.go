// Package procedure is the language in which a family of devices is described:
// a YAML file that says how such a device makes its key and request, takes its
// chain and is restarted.
//
//	file  →  Parse  →  Procedure and its faults, with line and column
//	                       │
//	Scope (settings, captures, what is given)  →  Expand  →  the final form of a step
//
// Steps only go forward. Beside a step that changes something stands how it is
// undone; the verbs file and edit know it themselves.
//
// A verb is a type with a file of its own (verb_run.go, verb_file.go, …); the
// rest of the package, the runner and the documents ask it. What Fresh Seal
// brings to every procedure is one table (given.go).
package procedure

import (
	"maps"
	"slices"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/language/answer"
	"freshseal/core/language/value"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"
)

// MaxSize is the largest procedure that is read, in bytes.
const MaxSize = 64 << 10

// Edition is the edition of the language that replacements begin in. What an earlier program stored is read as the
// second.
const Edition = 3

// maxSteps bounds a procedure; the longest in use has about forty.
const maxSteps = 200

// Section is a part of a procedure that holds steps: a stage of the
// replacement, or one of the ways back.
type Section string

// The sections, in the order in which they are carried out. Revert and Cancel
// are for devices with a way back of their own; the undoing of each step needs
// no section.
const (
	Survey   Section = "survey"
	Request  Section = "request"
	Backup   Section = "backup"
	Trust    Section = "trust"
	Install  Section = "install"
	Trial    Section = "trial"
	Activate Section = "activate"
	Prove    Section = "prove"
	Mirror   Section = "mirror"
	Seal     Section = "seal"
	Revert   Section = "revert"
	Cancel   Section = "cancel"
)

// Sections are all sections in their order.
var Sections = []Section{Survey, Request, Backup, Trust, Install, Trial, Activate, Prove, Mirror, Seal, Revert, Cancel}

// Changing are the sections whose steps change what the device serves.
var Changing = []Section{Trust, Install, Trial, Activate, Mirror}

// The links.
const (
	SSH     = "ssh"
	NETCONF = "netconf"
	HTTPS   = "https"
	Person  = "person"
	Itself  = "service"
)

// ports are the usual ports of the links over which devices are signed in to.
var ports = map[string]int{SSH: 22, NETCONF: 830, HTTPS: 443}

// SignedIn returns the links over which devices are signed in to, by name.
func SignedIn() []string { return slices.Sorted(maps.Keys(ports)) }

// UsualPort returns the port of a link if none is given; 0: it has none.
func UsualPort(link string) int { return ports[link] }

var links = []string{SSH, HTTPS, NETCONF, Person, Itself}

// Session is the section of the steps that sign in to the device's web interface, each time
// that it is opened; SignOut are those that sign out again, however it ends.
const (
	Session Section = "session"
	SignOut Section = "sign out"
)

// position returns where a section is in the order in which values come to be there.
func position(s Section) int {
	switch s {
	case Session, SignOut, Enclosure:
		return 0
	case Look:
		s = Backup
	}
	return slices.Index(Sections, s)
}

// Procedure describes one family.
type Procedure struct {
	Name     string
	Title    string
	About    string
	Links    []string
	As       string // a setting of the kind command that stands before file work which needs more rights; empty: none
	Settings []Setting
	Traits   Traits
	Lost     answer.Answer     // how the device answers to who is not signed in
	Headers  []answer.Labelled // that each call of a session carries
	Packs    []Pack
	Steps    map[Section][]Step
	Arounds  []Around         // outermost first
	Marks    []discovery.Mark // by what its devices are recognized on the wire
}

// Setting is something that differs between devices of the family.
type Setting struct {
	Name    string
	Kind    value.Kind
	About   string
	Default string
	Choices []string // of the kind choice

	bare bool // it stands in a command, so its text must be one plain word
}

// Pack is a file in a form of its family's own, made of the new chain. Steps name
// it as a value.
type Pack struct {
	Name  string
	About string
	Form  pack.Form
	Dress pack.Options
}

// Secret reports whether the pack holds the private key.
func (p Pack) Secret() bool { return p.Dress.HoldsKey() }

// Pack finds a pack by its name.
func (p Procedure) Pack(name string) (Pack, bool) {
	i := slices.IndexFunc(p.Packs, func(each Pack) bool { return each.Name == name })
	if i < 0 {
		return Pack{}, false
	}
	return p.Packs[i], true
}

// Traits are what Fresh Seal must know of the family to plan and to wait.
type Traits struct {
	KeyTypes []request.KeyType
	Form     pack.Form
	KeyGiven bool // Fresh Seal makes the key and gives it away once
	// by setting: the device makes the key where a step captures its request, else Fresh Seal; KeyGiven says so once
	// the settings are known
	KeyEither    bool
	SignsItself  bool          // the device, or its manager, makes and signs the certificate itself: no request leaves
	WebSignIn    WebSignIn     // how each call over the link https says who makes it
	RestartLimit time.Duration // how long the slot may be away after activate
	RollsBack    time.Duration // for how long after a switch the device may take it back by itself
	LocksOut     bool          // once its certificate has expired nobody can sign in to replace it
}

// WebSignIn is how a call says who makes it.
type WebSignIn string

// The ways; by a form or a token of its own is said with steps.
const (
	BySteps  WebSignIn = ""
	ByBasic  WebSignIn = "basic"  // RFC 7617
	ByDigest WebSignIn = "digest" // RFC 7616
)

// TakesKeyAgain reports whether the family can use the key in use again. A helper does not have it.
func (p Procedure) TakesKeyAgain() bool {
	return slices.ContainsFunc(p.Steps[Request], func(s Step) bool {
		return s.On == "" && slices.Contains(s.When, Condition{Name: KeyAgain})
	})
}

// Helpers returns the settings that name devices on which steps are done.
func (p Procedure) Helpers() []string {
	var out []string
	for _, s := range p.Settings {
		if s.Kind == value.OtherDevice {
			out = append(out, s.Name)
		}
	}
	return out
}

// Uses reports whether the procedure needs a link.
func (p Procedure) Uses(link string) bool { return slices.Contains(p.Links, link) }

// HasFolder reports whether a work folder is made on the device: not where all is typed into
// a command line of its own.
func (p Procedure) HasFolder() bool {
	for _, steps := range p.Steps {
		for _, step := range steps {
			if step.Do.Link() == SSH && step.Do.Folder() {
				return true
			}
		}
	}
	return false
}

// Setting finds a setting by its name.
func (p Procedure) Setting(name string) (Setting, bool) {
	i := slices.IndexFunc(p.Settings, func(s Setting) bool { return s.Name == name })
	if i < 0 {
		return Setting{}, false
	}
	return p.Settings[i], true
}

// OneWay returns the steps that nothing undoes, with their reason; whoever starts a
// replacement must agree to them.
func (p Procedure) OneWay() []Step {
	var out []Step
	for _, section := range Sections {
		for _, step := range p.Steps[section] {
			if step.Undo.Kind == NoUndo {
				out = append(out, step)
			}
		}
	}
	return out
}
