package verb

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	"freshseal/core/language/procedure"

	"github.com/goccy/go-yaml/ast"
)

// Wait lets time pass, or waits until a command says something, a port is open, or a
// page answers:
//
//   - wait: 10s
//   - wait: {first: dockctl stop, command: dockctl state, match: "^stopped", after: 2m, then: dockctl stop --now}
//   - wait: {first: reboot, command: cat /proc/sys/kernel/random/boot_id, differs: true}
//   - wait: {port: "{{address}}:8443"}
//   - wait: {page: "http://{{address}}/", leads_to: "^https://"}
//   - wait: {page: "http://{{address}}/", closed: true}
//   - wait: {wire: "{{test_address}}:443", name: "{{common_name}}", leaf: "{{new_sha256}}"}
type Wait struct {
	procedure.PlainVerb
	Pause   time.Duration
	First   string // a command that is carried out before
	Command string // asked until its output matches
	Differs bool   // or until it is another one than before
	Match   *regexp.Regexp
	After   time.Duration // when it still does not, Then is carried out once
	Then    string
	Port    string // HOST:PORT
	Page    string // asked with GET until it answers as Status, Match and LeadsTo say
	Status  int
	LeadsTo *regexp.Regexp // of a redirect; "^$": to nowhere
	Closed  bool           // the page must not answer
	Wire    string         // HOST:PORT that is asked by TLS for Name until it serves the leaf with that SHA-256
	Name    string
	Leaf    string
	Every   time.Duration
}

// WaitAct is what is waited for, in its final form.
type WaitAct struct {
	Pause, After, Every  time.Duration
	First, Command, Then string
	Port, Page           string
	Wire, Name, Leaf     string
	Match, LeadsTo       *regexp.Regexp
	Status               int
	Closed, Differs      bool
}

var _ = procedure.Register("let time pass, or wait for a command's answer, a port or a page", func() procedure.Verb {
	return &Wait{}
})

func (*Wait) Word() string { return "wait" }

// Title returns what is waited for.
func (v *Wait) Title() string { return "wait " + v.act().what() }

// Link is SSH where a command is asked.
func (v *Wait) Link() string {
	if v.Command != "" || v.First != "" {
		return procedure.SSH
	}
	return ""
}

// Safe reports whether it may be done twice: where it begins something, it may not.
func (v *Wait) Safe() bool { return v.First == "" && v.Then == "" }

// Changes says that what it begins has to be undone.
func (v *Wait) Changes() procedure.Way {
	if v.Safe() {
		return procedure.Looks
	}
	return procedure.AsksWay
}

// defaultEvery is how often a command, a port or a page is asked.
const defaultEvery = 2 * time.Second

// revive:disable-next-line:cyclomatic reads a table of keys
func (v *Wait) Read(r *procedure.Reader, n ast.Node) {
	if _, isMap := r.Pairs(n); !isMap {
		v.Pause = r.Duration(n)
		return
	}
	v.Every = defaultEvery
	text := func(to *string) func(ast.Node) { return func(n ast.Node) { *to = strings.TrimSpace(r.Text(n)) } }
	r.Mapping(n, "wait", procedure.Keys{
		"wire": text(&v.Wire), "name": text(&v.Name), "leaf": text(&v.Leaf),
		"first": text(&v.First), "command": text(&v.Command), "then": text(&v.Then), "port": text(&v.Port),
		"page":     text(&v.Page),
		"match":    func(n ast.Node) { v.Match = r.Pattern(n) },
		"leads_to": func(n ast.Node) { v.LeadsTo = r.Pattern(n) },
		"differs":  func(n ast.Node) { v.Differs = r.Bool(n) },
		"closed":   func(n ast.Node) { v.Closed = r.Bool(n) },
		"status":   func(n ast.Node) { v.Status = r.Number(n, 100, 599) },
		"after":    func(n ast.Node) { v.After = r.Duration(n) },
		"every":    func(n ast.Node) { v.Every = r.Duration(n) },
	})
	kinds := 0
	for _, kind := range []string{v.Command, v.Port, v.Page, v.Wire} {
		if kind != "" {
			kinds++
		}
	}
	switch {
	case kinds != 1:
		r.Fault(n, "write one of command, port, page and wire", "wait waits for one thing, and this one for %d", kinds)
	case (v.Wire != "") != (v.Leaf != ""), v.Wire == "" && v.Name != "":
		r.Fault(n, "write wire: HOST:PORT, name: the server name, and leaf: \"{{new_sha256}}\"",
			"wire, name and leaf belong together")
	case v.Command != "" && v.Match == nil && !v.Differs:
		r.Fault(n, "add match: with a pattern for its output", "wait does not say what the command has to answer")
	case v.Differs && (v.First == "" || v.Match != nil):
		r.Fault(n, "write wait: {first: …, command: …, differs: true}", "differs compares what command answers "+
			"before first and after it")
	case (v.After > 0) != (v.Then != ""):
		r.Fault(n, "write after: TIME and then: COMMAND", "after and then belong together")
	case v.Command == "" && (v.First != "" || v.Then != ""):
		r.Fault(n, "leave them out", "first, after and then belong to command")
	case v.Closed && (v.Page == "" || v.Status > 0 || v.LeadsTo != nil || v.Match != nil):
		r.Fault(n, "write wait: {page: …, closed: true}", "closed belongs to a page, and says that it gives no answer")
	case v.Page == "" && (v.Status > 0 || v.LeadsTo != nil), v.Port != "" && v.Match != nil:
		r.Fault(n, "leave them out", "status and leads_to belong to page, and match to command and page")
	}
}

func (v *Wait) Uses() []procedure.Use {
	var out []procedure.Use
	for _, command := range []string{v.First, v.Command, v.Then} {
		if command != "" {
			out = append(out, procedure.Use{Text: command, Place: procedure.InCommand})
		}
	}
	return append(out, procedure.Use{Text: v.Port, Place: procedure.InRule},
		procedure.Use{Text: v.Page, Place: procedure.InRule}, procedure.Use{Text: v.Wire, Place: procedure.InRule},
		procedure.Use{Text: v.Name, Place: procedure.InRule},
		procedure.Use{Text: v.Leaf, Place: procedure.InRule})
}

// Limits leave room for the pause itself.
func (v *Wait) Limits() (usual, most time.Duration) {
	return v.Pause + procedure.DefaultLimit, 3 * time.Hour
}

// UsesWork reports whether one of its commands names the work folder.
func (v *Wait) UsesWork() bool {
	for _, command := range []string{v.First, v.Command, v.Then} {
		if (&Run{Command: command}).UsesWork() {
			return true
		}
	}
	return false
}

func (v *Wait) act() *WaitAct {
	return &WaitAct{Pause: v.Pause, After: v.After, Every: v.Every, First: v.First, Command: v.Command, Then: v.Then,
		Port: v.Port, Page: v.Page, Match: v.Match, LeadsTo: v.LeadsTo, Status: v.Status, Closed: v.Closed,
		Differs: v.Differs, Wire: v.Wire, Name: v.Name, Leaf: v.Leaf}
}

// Expand returns a *WaitAct.
func (v *Wait) Expand(scope *procedure.Scope) (procedure.Act, error) {
	a := v.act()
	var err error
	for _, command := range []*string{&a.First, &a.Command, &a.Then} {
		if *command, err = procedure.ExpandCommand(*command, scope); err != nil {
			return nil, err
		}
	}
	for _, place := range []*string{&a.Port, &a.Page, &a.Wire, &a.Name, &a.Leaf} {
		if *place, err = expandRule(*place, scope); err != nil {
			return nil, err
		}
	}
	if a.Page != "" && !strings.Contains(a.Page, "‹") {
		if u, err := url.Parse(a.Page); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" ||
			u.User != nil {
			return nil, fmt.Errorf("%q is not the address of a page; write http:// or https:// with a host", a.Page)
		}
	}
	return a, nil
}

func (a *WaitAct) what() string {
	switch {
	case a.Differs:
		return fmt.Sprintf("until “%s” answers something else than before", a.Command)
	case a.Command != "":
		return fmt.Sprintf("until “%s” answers %s", a.Command, a.Match)
	case a.Port != "":
		return "until " + a.Port + " is open"
	case a.Wire != "":
		return "until " + strings.TrimSpace(a.Wire+" "+a.Name) + " serves " + a.Leaf
	case a.Page != "":
		if a.Closed {
			return "until " + a.Page + " gives no answer"
		}
		text := "until " + a.Page + " answers"
		if a.Status > 0 {
			text += fmt.Sprintf(" with %d", a.Status)
		}
		if a.Match != nil {
			text += fmt.Sprintf(" with %s", a.Match)
		}
		if a.LeadsTo != nil {
			if a.LeadsTo.String() == "^$" {
				return text + " and leads nowhere"
			}
			text += fmt.Sprintf(" and leads to %s", a.LeadsTo)
		}
		return text
	}
	return a.Pause.String()
}

// Line returns what is waited for.
func (a *WaitAct) Line() string {
	if a.First != "" {
		return a.First + ", " + a.what()
	}
	return a.what()
}

// Detail returns what is done when it takes too long.
func (a *WaitAct) Detail() string {
	if a.Then == "" {
		return ""
	}
	return fmt.Sprintf("after %s, once: %s", a.After, a.Then)
}
