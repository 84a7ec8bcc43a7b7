package procedure_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/core/language/library"
	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
	"freshseal/core/language/verb"
)

// An undo says what it puts back, or when it is sent; "the one before" alone is refused.
func TestAnUndoSaysWhatItPutsBackOrWhenItIsSent(t *testing.T) {
	const head = "procedure: ours\ntitle: Ours\nlinks: [ssh]\nsettings: {tool: {kind: command, about: x, default: " +
		"boxctl}}\ntraits: {key_types: [rsa-2048], key_made_by: service}\nsteps:\n"
	for _, c := range []struct{ name, steps, says string }{
		{"the one before", "  activate:\n    - {run: boxctl use, undo: boxctl previous}\n",
			"does not say what it puts back"},
		{"guarded", "  activate:\n    - {run: boxctl use, undo: {run: boxctl previous, when: {wire: new}}}\n", ""},
		{"harmless", "  activate:\n    - {run: boxctl use, undo: {run: boxctl discard, when: always}}\n", ""},
		{"by a captured id", "  backup:\n    - {run: boxctl show, capture: old}\n  activate:\n    - {run: boxctl " +
			"use, undo: \"boxctl use {{old}}\"}\n", ""},
		{"by its own name", "  activate:\n    - {run: \"boxctl add {{replacement}}\", undo: \"boxctl drop " +
			"{{replacement}}\"}\n", ""},
		{"by a setting, which names nothing that stood", "  activate:\n    - {run: boxctl use, undo: \"{{tool}} " +
			"previous\"}\n", "does not say what it puts back"},
		{"staged, without a look at it", "  install:\n    - {run: boxctl stage, undo: {run: boxctl unstage, when: " +
			"{wire: new}}}\n  activate: [{run: boxctl go, undo: again}]\n", "does not look at what is staged"},
		{"staged, with a look", "  look:\n    - {run: boxctl show, capture: {next: \"n (.*)\"}}\n  install:\n    - " +
			"{run: boxctl stage, undo: {run: boxctl unstage, when: {wire: before, next: new}}}\n  activate: [{run: " +
			"boxctl go, undo: again}]\n", ""},
		{"a look that nothing captures", "  activate:\n    - {run: boxctl use, undo: {run: boxctl previous, when: " +
			"{now: new}}}\n", "nothing captures it"},
		{"a word that no look reads", "  activate:\n    - {run: boxctl use, undo: {run: boxctl previous, when: " +
			"{wire: other}}}\n", `"other" is not known here`},
		{"something else that is looked at", "  look:\n    - {run: boxctl show, capture: {colour: \"c (.*)\"}}\n  " +
			"activate:\n    - {run: boxctl use, undo: again}\n", "is not a look"},
		{"a look that changes something", "  look:\n    - {file: /etc/x, holds: leaf}\n  activate:\n    - {run: " +
			"boxctl use, undo: again}\n", "changes nothing"},
		{"by itself, in no time", "  activate:\n    - {run: boxctl use, undo: itself}\n",
			"undo: itself and within belong together"},
		{"by itself", "  activate:\n    - {run: boxctl use, undo: itself, within: 5m}\n", ""},
		{"when outside of an undo", "  activate:\n    - {run: boxctl use, undo: again, when: {wire: new}}\n",
			`has no key "when"`},
		{"what is made is not served", "  request:\n    - {run: boxctl make, undo: {run: boxctl drop, when: {wire: " +
			"new}}}\n  activate: [{run: boxctl go, undo: again}]\n", "which a request does not change"},
		{"a list", "  activate:\n    - {run: boxctl use, undo: [{run: boxctl a, when: {wire: new}}, {run: boxctl " +
			"b, when: always}]}\n", ""},
		{"a refusal without an exit code",
			"  activate:\n    - {run: boxctl use, undo: again, refused: {match: no}}\n", "with which exit code"},
		{"an old word of netconf", "  activate:\n    - {run: boxctl use, undo: again, refused: allowed}\n",
			"expect is not a mapping"},
	} {
		_, faults := procedure.Parse([]byte(head + c.steps))
		said := ""
		for _, f := range faults {
			if !f.Warning {
				said += f.Error() + "\n"
			}
		}
		if c.says == "" && said != "" || !strings.Contains(said, c.says) {
			t.Errorf("%s: want %q, and it says\n%s", c.name, c.says, said)
		}
	}
}

// What an earlier program stored is read with the meaning that is safe: an undo that says nothing is sent where the new
// certificate is served, and what is only staged is left to a person.
func TestTheSecondEditionIsReadSafely(t *testing.T) {
	read := func(name string) library.Source {
		text, err := os.ReadFile(filepath.Join("testdata/second", name+".procedure.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		if _, faults := procedure.Parse([]byte(strings.Replace(string(text), "procedure: "+name, "procedure: ours",
			1))); !procedure.Refused(faults) {
			t.Errorf("%s is not refused as new", name)
		}
		source, err := library.Read(string(text))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		return source
	}
	item := func(p library.Source, section procedure.Section) procedure.UndoItem {
		for _, step := range p.Steps[section] {
			if len(step.Undo.Items) > 0 {
				return step.Undo.Items[0]
			}
		}
		t.Fatalf("%s has no undo in %s", p.Name, section)
		return procedure.UndoItem{}
	}
	if got := item(read("wan-controller"), procedure.Activate); got.Hold || got.When[look.Wire] != look.New {
		t.Errorf("a step back in activate: %+v", got)
	}
	if got := item(read("voice-manager"), procedure.Install); !got.Hold || len(got.When) > 0 {
		t.Errorf("a step back in install: %+v", got)
	}
	if steps := read("router-by-netconf").Steps[procedure.Revert]; len(steps) != 4 ||
		!steps[0].Do.(*verb.RPC).Refused {
		t.Errorf("refused: allowed is lost: %+v", steps)
	}
}

// A rehearsal shows what encloses the visit, in order, and when each undo is sent.
func TestARehearsalShowsTheWayBack(t *testing.T) {
	p, faults := procedure.Parse([]byte(`procedure: ours
title: Ours
links: [ssh, person]
around:
  - {enter: {step: shell on, person: Switch it on.}, leave: {step: shell off, person: Switch it off.}, for: contact}
  - {enter: boxctl maintenance on, leave: boxctl maintenance off, for: change}
traits: {key_types: [rsa-2048], key_made_by: service}
steps:
  survey: [{step: ask, run: boxctl state}]
  look: [{step: look, run: boxctl show, capture: {now: "n (.*)"}}]
  activate:
    - {step: use it, run: boxctl use, undo: {step: step back, run: boxctl previous, when: {wire: new, now: new}}}
    - {step: reload, run: boxctl reload, undo: again}
`))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p, Work: "/w"}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	steps, err := rehearsal.Of(p, scope)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, s := range steps {
		text := string(s.Section) + " " + s.Name
		if s.When != "" {
			text += " [" + s.When + "]"
		}
		got = append(got, text)
	}
	want := `around shell on
survey ask
look look
around boxctl maintenance on
activate use it
activate reload
around boxctl maintenance off
around boxctl maintenance on
revert step back [when wire: new, now: new; what it restores is known to the device alone]
revert again: reload [if something was undone]
around boxctl maintenance off
around shell off`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("it shows\n%s", text)
	}
}
