package procedure_test

import (
	"fmt"
	"strings"
	"testing"

	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
	"freshseal/core/language/verb"
)

const terminal = "procedure: menu\ntitle: x\nlinks: [ssh]\nsettings:\n  word: {kind: secret, about: x}\n  many: " +
	"{kind: list, about: x}\ntraits: {key_types: [ecdsa-p256], key_made_by: service}\nsteps:\n  activate:\n    - "

// What is wrong with a dialog or a wait is told before a device is touched, with what to
// write instead.
func TestTheCheckOfDialogsAndWaits(t *testing.T) {
	for step, want := range map[string]string{
		`{dialog: menu, undo: nothing}`:                                                               "dialog has no talk",
		`{dialog: menu, talk: [{see: "x: $", say: "{{word}}"}]}`:                                      "does not say how it is undone",
		`{dialog: menu, undo: nothing, talk: [{say: "y"}]}`:                                           `lacks the key "see"`,
		`{dialog: menu, undo: nothing, talk: [{see: "x*", say: "y"}]}`:                                "also matches an empty text",
		`{dialog: menu, undo: nothing, talk: [{see: x, say: "y", press: q}]}`:                         "either says or presses",
		`{dialog: menu, undo: nothing, talk: [{see: x, press: f13}]}`:                                 `no key is called "f13"`,
		`{dialog: menu, undo: nothing, talk: [{see: x}], meanwhile: [{see: "y"}]}`:                    "the line does nothing",
		`{dialog: menu, undo: nothing, talk: [{see: x}], meanwhile: [{see: '\d+%', progress: true}]}`: "does not say where the number is",
		`{dialog: menu, undo: nothing, talk: [{see: x, say: "{{leaf}}"}]}`:                            "is a file's content and is no line of a dialog",
		`{dialog: menu, undo: nothing, talk: [{see: x, say: "{{item}}"}]}`:                            "{{item}} is there only beside each",
		`{dialog: menu, undo: nothing, talk: [{see: x, each: word, say: "{{item}}"}]}`:                "which is not a list",
		`{dialog: menu, undo: nothing, limit: 1m, talk: [{see: x, limit: 5m}]}`:                       "longer than the step's",
		`{dialog: "menu; {{word}}", undo: nothing, talk: [{see: x}]}`:                                 "secret and may not be part of a command",
		`{wait: {port: "x:1", page: "http://x/"}}`:                                                    "wait waits for one thing",
		`{wait: {command: gatectl state}}`:                                                            "does not say what the command has to answer",
		`{wait: {command: gatectl state, match: up, after: 5s}}`:                                      "after and then belong together",
		`{wait: {first: gatectl stop, command: gatectl state, match: down}}`:                          "does not say how it is undone",
		`{wait: {port: "x:1", leads_to: x}}`:                                                          "status and leads_to belong to page",
	} {
		_, faults := procedure.Parse([]byte(terminal + step + "\n"))
		if text := fmt.Sprint(faults); !strings.Contains(text, want) {
			t.Errorf("%s\n  is told of as\n%s\n  and not as %q", step, text, want)
		}
	}
}

// A value beside other words is one plain word, since a command line may take it for
// more; one that answers alone may be any line, and a secret is never shown.
func TestWhatIsTypedInADialog(t *testing.T) {
	expand := func(say, word string, more ...string) (string, error) {
		p, faults := procedure.Parse([]byte(terminal + `{dialog: login, undo: nothing, talk: [{see: x, say: "` + say +
			`"` + strings.Join(more, "") + `}]}` + "\n"))
		if procedure.Refused(faults) {
			return "", faults[0]
		}
		scope, err := procedure.NewScope(procedure.Material{Procedure: p, Work: "/w/r1"},
			map[string]string{"word": word, "many": "a b"}, nil)
		if err != nil {
			return "", err
		}
		ready, err := p.Steps[procedure.Activate][0].Expand(procedure.Activate, "", scope)
		if err != nil {
			return "", err
		}
		act := ready.Act.(*verb.DialogAct)
		if strings.Contains(act.Detail()+act.Line(), word) {
			t.Errorf("the secret is shown: %s", act.Detail())
		}
		return string(act.Talk[0].Say), nil
	}
	if said, err := expand("{{word}}", "a; reload $(now) `x`"); err != nil || said != "a; reload $(now) `x`\r" {
		t.Errorf("alone: %q, %v", said, err)
	}
	for more, want := range map[string]string{"": "a, b\r", `, between: " "`: "a b\r", `, between: ";"`: "a;b\r",
		`, between: ""`: "ab\r"} {
		if said, err := expand("{{many}}", "plain", more); err != nil || said != want {
			t.Errorf("a list%s: %q, %v", more, said, err)
		}
	}
	for say, more := range map[string]string{"{{word}}": `, between: " "`, "yes": `, between: " "`,
		"{{many}} {{many}}": `, between: " "`, "{{item}}": `, each: many, between: " "`,
		"{{many}}": `, between: "\r"`} {
		if said, err := expand(say, "plain", more); err == nil {
			t.Errorf("%s%s is typed: %q", say, more, said)
		}
	}
	if said, err := expand("use {{word}}", "plain"); err == nil {
		t.Errorf("a secret among other words is typed: %q", said)
	}
	if said, err := expand("use {{many}}", "plain"); err == nil {
		t.Errorf("a list among other words is typed: %q", said)
	}
}

// A rehearsal shows a prompt as a person sees it, and not the pattern that matches it.
func TestARehearsalShowsPromptsAsTheyAreSeen(t *testing.T) {
	for pattern, want := range map[string]string{
		`Choice: $`: "“Choice:”", `certificates(?s:.*)Choice: $`: "“certificates…Choice:”",
		`(?i)password:\s*$`: "“PASSWORD:”", `Rolled back\.|It failed: .*`: "“Rolled back.” or “It failed: …”",
		`^quay\([a-z]+\)# $`: "“quay(…)#”", `Really \(y/n\)\? `: "“Really (y/n)?”", `([0-9]+)% done`: "“…% done”",
	} {
		p, faults := procedure.Parse([]byte("procedure: ours\ntitle: x\nlinks: [ssh]\ntraits: {key_types: " +
			"[ecdsa-p256], key_made_by: service}\nsteps:\n  activate:\n    - dialog: menu\n      undo: nothing\n   " +
			"   talk: [{see: '" + pattern + "', say: \"1\"}]\n"))
		if procedure.Refused(faults) {
			t.Fatalf("%s: %v", pattern, faults)
		}
		scope, err := procedure.NewScope(procedure.Material{Procedure: p}, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		source := library.Source{Procedure: p}
		steps, err := rehearsal.Of(source.Procedure, scope)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasPrefix(steps[0].Content, "see "+want+"  →") {
			t.Errorf("%s is shown as %q, want %s", pattern, steps[0].Content, want)
		}
	}
}

// A piece of dialog is written once and used by several steps; where the one value of a line is empty, something else
// is said.
func TestPiecesOfDialog(t *testing.T) {
	text := func(pieces, talk string) string {
		return "procedure: ours\ntitle: x\nlinks: [ssh]\nsettings: {team: {about: x}, word: {kind: secret, about: " +
			"x}}\ntraits: {key_types: [ecdsa-p256], key_made_by: service}\nsteps:\n  activate:\n    - {dialog: " +
			"menu, undo: nothing, talk: " + talk + "}\n    - {step: again, dialog: menu, undo: nothing, talk: " +
			"[{piece: enter}, {see: done}]}\npieces: " + pieces + "\n"
	}
	const enter = "{enter: [{see: 'PIN: $', say: '{{word}}'}, {see: 'Choice: $', say: '4'}]}"
	p, faults := procedure.Parse([]byte(text(enter, "[{piece: enter}, {see: 'Unit: $', say: '{{team}}', else: '-'}]")))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	for unit, want := range map[string]string{"": "-", "consoles": "consoles"} {
		scope, err := procedure.NewScope(procedure.Material{Procedure: p},
			map[string]string{"team": unit, "word": "salt"}, nil)
		if err != nil {
			t.Fatal(err)
		}
		ready, err := p.Steps[procedure.Activate][0].Expand(procedure.Activate, "", scope)
		if err != nil {
			t.Fatal(err)
		}
		talk := ready.Act.(*verb.DialogAct).Talk
		if len(talk) != 3 || string(talk[0].Say) != "salt\r" || string(talk[2].Say) != want+"\r" {
			t.Errorf("with the unit %q it says %+v", unit, talk)
		}
	}
	for said, source := range map[string]string{
		`no piece of dialog is called "entr"`: text(enter, "[{piece: entr}]"),
		`the piece of dialog "leave" is never used`: text("{enter: [{see: a, say: b}], leave: [{see: a, "+
			"say: b}]}", "[{see: a}]"),
		"else is what is said where the one value is empty": text(enter, "[{see: 'Unit: $', say: 'unit {{team}}', "+
			"else: '-'}]"),
		"is not a mapping of names to lists":   text("[enter]", "[{see: a}]"),
		`no piece of dialog is called "enter"`: text("{}", "[{see: a}]"),
	} {
		if _, faults := procedure.Parse([]byte(source)); !strings.Contains(fmt.Sprint(faults), said) {
			t.Errorf("%q is not said: %v", said, faults)
		}
	}
}
