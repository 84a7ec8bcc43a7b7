// Package procedure is the language in which a family of devices is described:
// a YAML file that says how such a device makes its key and request, takes its
// chain and is restarted.
//
//	file  →  Parse  →  Procedure  →  Check (faults with line and column)
//	                       │
//	settings + values  →  Expand  →  the final text of each step
//
// Values stand in steps as {{name}}. What becomes of them depends on the place
// alone: in a command they are quoted for the shell, in a path they must stay
// in their folder. Authors need not remember it and cannot turn it off.
package procedure

import (
	"fmt"
	"regexp"
	"slices"
	"time"

	"freshseal/core/pack"
	"freshseal/core/request"
)

// MaxSize is the most bytes that are taken for one procedure.
const MaxSize = 64 << 10

// maxSteps bounds a procedure; the longest in use has about forty.
const maxSteps = 200

// Section is a part of a procedure that holds steps: a stage of the
// replacement, or one of the ways back.
type Section string

// The sections, in the order in which they are carried out; Revert puts back
// what Backup kept, Cancel clears away what Request left.
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

// Verb is what a step does.
type Verb string

// The verbs.
const (
	Run   Verb = "run"     // a command over SSH
	Put   Verb = "put"     // a file to the device, whole or not at all
	Fetch Verb = "fetch"   // a file from the device
	Wait  Verb = "wait"    // let time pass
	Hand  Verb = "person"  // a person does it by hand, guided
	Own   Verb = "service" // Fresh Seal does it to itself
)

var verbs = []Verb{Run, Put, Fetch, Wait, Hand, Own}

// HandLimit is how long a person may take where the step does not say; and the
// most that it may say is maxHandLimit.
const (
	HandLimit    = 3 * 24 * time.Hour
	maxLimit     = 2 * time.Hour
	maxHandLimit = 60 * 24 * time.Hour
)

// The links.
const (
	SSH    = "ssh"
	Person = "person"
	Itself = "service"
)

var links = []string{SSH, Person, Itself}

// What Fresh Seal does to its own certificate; the texts of the verb service.
const (
	MakeRequest = "make-request"
	Keep        = "keep"
	LayDown     = "install"
	Serve       = "activate"
	PutBack     = "put-back"
	ClearAway   = "clear"
)

var ownActs = []string{MakeRequest, Keep, LayDown, Serve, PutBack, ClearAway}

// Procedure describes one family.
type Procedure struct {
	Name     string
	Title    string
	About    string
	Links    []string
	Settings []Setting
	Traits   Traits
	Packs    []Pack
	Steps    map[Section][]Step
}

// Setting is something that differs between devices of the family.
type Setting struct {
	Name    string
	Kind    Kind
	About   string
	Default string
}

// Pack is a file in a form of its family's own, made of the new chain. Steps name
// it as a value.
type Pack struct {
	Name  string
	About string
	Form  pack.Form
	Dress pack.Dress
}

// Secret says that the pack holds the private key.
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
	KeyTypes     []request.KeyType
	Form         pack.Form
	KeyGiven     bool          // the device cannot make its key: Fresh Seal makes it and gives it away once
	RestartLimit time.Duration // how long the slot may be away after activate
}

// Step is one thing done on the device.
type Step struct {
	Name      string
	Verb      Verb
	Text      string // run: the command; put, fetch: the path on the device; person: what to do
	Content   string // put: the name of the value that the file gets
	Mode      uint32 // put: permission bits
	Pause     time.Duration
	Copy      []Labelled // person: values to copy into the device's pages
	Files     []Labelled // person: files to carry to the device; Text names the value that each gets
	Ask       string     // person: what must be given back, as captured; empty: only that it is done
	Seen      Sight      // person: what on the wire shows that it is done
	Capture   string     // the name under which the output is kept
	When      Condition
	Expect    Expect
	Limit     time.Duration
	Repeat    bool   // may be done again when nobody knows whether it was done
	Secret    bool   // what it prints is not kept
	Otherwise string // what to do when it fails, for people
}

// Labelled is something that a person is given, with its label or file name.
type Labelled struct {
	Label string
	Text  string
}

// Sight is what must be seen on the wire for a person's step to count as done.
type Sight string

// The sights.
const (
	NotSeen Sight = ""    // the person says so
	SeenNew Sight = "new" // the new leaf is served
	SeenOld Sight = "old" // the leaf that was served before is served again
)

// Condition lets a step be left out: it is done when the named setting (or
// KeyAgain) is filled, or with Not, when it is empty.
type Condition struct {
	Setting string
	Not     bool
}

// Expect is what counts as success.
type Expect struct {
	Exit  int
	Match *regexp.Regexp // somewhere in standard output
	Same  string         // a value that the output must equal, blanks at the ends aside
}

// Fault is something wrong in a procedure's text.
type Fault struct {
	Line    int    `json:"line" required:"true"`
	Column  int    `json:"column" required:"true"`
	What    string `json:"what" required:"true"`
	Instead string `json:"instead,omitempty"`
}

func (f Fault) Error() string {
	text := fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.What)
	if f.Instead != "" {
		text += "; " + f.Instead
	}
	return text
}

// KeyAgain is what when names, besides settings: that the key in use is to be used again.
const KeyAgain = "same_key"

// TakesKeyAgain says that the family can use the key in use again.
func (p Procedure) TakesKeyAgain() bool {
	return slices.ContainsFunc(p.Steps[Request], func(s Step) bool { return s.When.Setting == KeyAgain && !s.When.Not })
}

// Uses says whether the procedure needs a link.
func (p Procedure) Uses(link string) bool { return slices.Contains(p.Links, link) }

// Setting finds a setting by its name.
func (p Procedure) Setting(name string) (Setting, bool) {
	i := slices.IndexFunc(p.Settings, func(s Setting) bool { return s.Name == name })
	if i < 0 {
		return Setting{}, false
	}
	return p.Settings[i], true
}
