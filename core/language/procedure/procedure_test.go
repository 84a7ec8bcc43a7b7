package procedure_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"freshseal/core/language/draft"
	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
	"freshseal/core/language/value"
	"freshseal/core/language/verb"
	"freshseal/core/pki/request"
)

// frame is a whole procedure around the steps of its section request.
func frame(steps string) string {
	return "procedure: ours\ntitle: Ours\nlinks: [ssh]\nsettings:\n  folder: {kind: path, about: where, default: " +
		"/etc/x}\n  label: {about: a text, default: y}\n  as: {kind: command, about: before}\n  pin: {kind: " +
		"secret, about: x}\n" +
		"traits:\n  key_types: [rsa-2048]\nsteps:\n  request:\n" + steps +
		"    - step: print it\n      run: \"{{as}} cat {{folder}}/{{label}}\"\n      stdin: pin\n      undo: " +
		"nothing\n      capture: request\n  activate:\n    - {file: /etc/y, holds: leaf}\n"
}

// first is the line of the first of those steps.
const first = 13

func TestFaultsAreFoundWithTheirPlaceAndTheirRemedy(t *testing.T) {
	run := func(command string) string {
		return "    - step: a\n      undo: nothing\n      run: " + command + "\n"
	}
	for _, c := range []struct {
		about, step string
		line, col   int // from the first step on
		what        string
	}{
		{"a mistyped verb", "    - step: a\n      rum: true\n", 1, 7,
			`has no key "rum"; write run; the keys that fit here are `},
		{"an unknown key", run("true") + "      colour: red\n", 3, 7, "the keys that fit here are because, capture,"},
		{"a key of another verb", "    - {step: a, file: /x, holds: leaf, stdin: label}\n", 0, 40,
			`has no key "stdin"`},
		{"an unknown value", run("echo {{labl}}"), 2, 19, "write {{label}}"},
		{"a value in double quotes", run(`echo "{{label}}"`), 2, 18, "leave the quotes out"},
		{"a value in single quotes", run("echo '{{label}}'"), 2, 18, "leave the quotes out"},
		{"a value in a comment", "    - step: a\n      undo: nothing\n      run: |\n        true # {{label}}\n", 3,
			16, "inside a comment"},
		{"a value behind a dollar", run("echo ${{label}}"), 2, 18, "dollar"},
		{"a value behind a backslash", run(`echo \{{label}}`), 2, 18, "backslash"},
		{"a value behind a variable", run("echo $x{{label}}"), 2, 19, "write ${name}"},
		{"backquotes", run("echo `id {{label}}`"), 2, 17, "backquotes"},
		{"a here-document", "    - step: a\n      undo: nothing\n      run: |\n        cat <<E\n        " +
			"{{label}}\n        E\n", 4, 9, "here-document"},
		{"arithmetic", run("echo $(( {{label}} ))"), 2, 21, "arithmetic"},
		{"no shell command", run("echo ((("), 2, 12, "a POSIX shell cannot read this"},
		{"a program that is a value", run(`"{{label}} -x"`), 2, 13, "reads the program's name"},
		{"a secret in a command", run("echo {{pin}}"), 2, 19, "secret and may not be part of a command"},
		{"a file in a command", run("echo {{request_config}}"), 2, 19, "give it with stdin:"},
		{"words in a path", "    - file: /x/{{as}}\n      holds: request_config\n", 0, 18, "cannot stand in a path"},
		{"a relative path", "    - file: x/y\n      holds: request_config\n", 0, 13, "not an absolute path"},
		{"a value without quotes", "    - file: {{folder}}/x\n      holds: request_config\n", 0, 13,
			"put the whole text into double quotes"},
		{"a lone value without quotes", "    - fetch: {{folder}}\n", 0, 14, "put the whole text into double quotes"},
		{"the chain before it is there", "    - file: /x\n      holds: leaf_first\n", 1, 14,
			"not there before the section backup"},
		{"two verbs", "    - step: a\n      run: true\n      fetch: /x\n", 0, 11, "two verbs"},
		{"two steps of one name", "    - step: print it\n      run: true\n      undo: nothing\n", 3, 11,
			"give each a name of its own"},
		{"an alias", "    - step: a\n      run: *x\n", 1, 12, "anchors and aliases"},
		{"an anchor", "    - step: &x a\n      run: \"true\"\n      undo: nothing\n", 0, 13, "anchors and aliases"},
		{"a key twice", run("id") + "      run: id\n", 3, 7, `has the key "run" twice`},
		{"a tab", "    - step: a\n\trun: id\n", 1, 1, "a tab in the indentation"},
		{"an expectation of a file", "    - file: /x\n      holds: label\n      expect: {exit: 0}\n", 0, 11,
			"means nothing beside file"},
		{"a capture of a file", "    - file: /x\n      holds: label\n      capture: x\n", 0, 11, "nothing to capture"},
		{"one file of many", "    - {step: a, run: \"cat {{item}}\", undo: nothing, each: dns_names, capture: {x: " +
			"{keep: true}}}\n", 0, 7, "one file that the device gives"},
		{"a file that a person keeps", "    - {person: save it, ask: what it gave, capture: {x: {keep: true}}}\n", 0,
			7, "one file that the device gives"},
		{"a change without a way back", "    - {step: a, run: boxctl drop}\n", 0, 7, "does not say how it is undone"},
		{"no way back without a reason", "    - {step: a, run: boxctl drop, undo: none}\n", 0, 7,
			"because belong together"},
		{"an undo of what undoes itself", "    - {file: /x, holds: label, undo: rm /x}\n", 0, 38, "needs no undo"},
		{"a step for each text", run("echo {{item}}") + "      each: label\n", 3, 13, "is not a list"},
		{"an item without a list", run("echo {{item}}"), 2, 19, "only beside each"},
		{"a condition on no choice", run("id") + "      with: {label: blue}\n", 3, 14, "is not a choice"},
		{"a step on no device", run("id") + "      on: label\n", 3, 11, "not a setting of the kind device"},
		{"an unknown condition", run("id") + "      with: lable\n", 3, 13, "is not a setting"},
		{"a value that is captured only sometimes", "    - {step: a, run: id, undo: nothing, with: label, capture: " +
			"who}\n    - {step: b, run: \"echo {{who}}\", undo: nothing}\n", 1, 30, "captured only where “with: " +
			"label” holds"},
		{"an unknown part", "    - use: key-and-request-by-openss\n", 0, 12, "write key-and-request-by-openssl"},
		{"a rule that does two things", "    - edit: /x\n      rules:\n        - {set: a, to: b, line: c}\n", 2, 11,
			"a rule does one thing"},
		{"a faulty pattern", "    - fetch: /x\n      capture: {a: \"(\"}\n", 1, 20, "not a regular expression"},
		{"a store without its key", "packs:\n  box: {about: x, encoding: pkcs12}\n", -first + 2, 3, "no key is wanted"},
		{"a pack of a value's name", "packs:\n  leaf: {about: x}\n", -first + 2, 3, "every procedure has"},
		{"a pack before it is there", "packs:\n  box: {about: x}\n    - file: /x\n      holds: box\n", 3, 14,
			"not there before the section backup"},
		{"a key that the device made", "packs:\n  box: {about: x, key: before}\n    - file: /x\n      holds: box\n",
			3, 14, "only where Fresh Seal makes the key"},
	} {
		packs, step := "", c.step
		if strings.HasPrefix(step, "packs:") { // they stand at the beginning of the file
			lines := strings.SplitAfterN(step, "\n", 3)
			packs, step = lines[0]+lines[1], lines[2]
		}
		_, faults := procedure.Parse([]byte(packs + frame(step)))
		if !slices.ContainsFunc(faults, func(f procedure.Fault) bool {
			return f.Line == first+c.line && f.Column == c.col && strings.Contains(f.Error(), c.what) && !f.Warning
		}) {
			t.Errorf("%s: want line %d, column %d, %q; found %v", c.about, first+c.line, c.col, c.what, faults)
		}
	}
	if _, faults := procedure.Parse([]byte(frame(""))); len(faults) > 0 {
		t.Errorf("a procedure without fault: %v", faults)
	}
}

// An author corrects a file once, not once for each fault.
func TestAllFaultsAreToldInOneGo(t *testing.T) {
	text := strings.Replace(frame("    - {step: a, rum: true}\n    - {step: b, run: \"echo {{nobody}}\", undo: "+
		"nothing, limt: 3s}\n    - {fetch: x/y}\n"), "procedure: ours", "procedure: web-files-ssh", 1)
	_, faults := procedure.Parse([]byte(text))
	for _, want := range []string{"a built-in procedure is called web-files-ssh", `no key "rum"`,
		"nothing is called {{nobody}}", `no key "limt"`, "not an absolute path"} {
		if !strings.Contains(fmt.Sprint(faults), want) {
			t.Errorf("%q is missing in %v", want, faults)
		}
	}
	_, faults = procedure.Parse([]byte("\xef\xbb\xbf" + frame("")))
	if len(faults) != 1 || !strings.Contains(faults[0].What, "byte order mark") {
		t.Errorf("a byte order mark: %v", faults)
	}
	idle := strings.Replace(frame("    - {step: a, run: id, undo: nothing, capture: who}\n"), "settings:\n",
		"settings:\n  idle: {about: nothing}\n", 1)
	_, faults = procedure.Parse([]byte(idle))
	if len(faults) != 2 || procedure.Refused(faults) || !strings.Contains(fmt.Sprint(faults), `the setting "idle"`) ||
		!strings.Contains(fmt.Sprint(faults), `the capture "who"`) {
		t.Errorf("what nothing uses is a warning: %v", faults)
	}
}

func parsed(t testing.TB, steps string) procedure.Procedure {
	t.Helper()
	p, faults := procedure.Parse([]byte(frame(steps)))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	return p
}

func scopeOf(t testing.TB, p procedure.Procedure, own map[string]string) *procedure.Scope {
	t.Helper()
	scope, err := procedure.NewScope(procedure.Material{Procedure: p, Replacement: "r1", Work: "/var/work/r1",
		Plan: request.Plan{Key: request.ECDSAP256, Names: []string{"a.example", "192.0.2.1"}}}, own, nil)
	if err != nil {
		t.Fatal(err)
	}
	return scope
}

// act brings the first step of the section request into its final form.
func act(t testing.TB, p procedure.Procedure, scope *procedure.Scope) (string, error) {
	t.Helper()
	ready, err := p.Steps[procedure.Request][0].Expand(procedure.Request, "", scope)
	if err != nil {
		return "", err
	}
	return ready.Act.Line(), nil
}

func TestAPathStaysInItsFolder(t *testing.T) {
	p := parsed(t, "    - fetch: \"{{folder}}/{{label}}.pem\"\n")
	scope := scopeOf(t, p, map[string]string{"folder": "/etc/tls"})
	for text, ok := range map[string]bool{"gate": true, "a b": true, "..": false, "../x": false, "a/b": false,
		"": false, "a\nb": false} {
		line, err := act(t, p, scope.With("label", value.TextValue(text)))
		if (err == nil) != ok {
			t.Errorf("%q: %q, error %v", text, line, err)
		}
	}
	for _, bad := range []string{"etc/tls", "/etc/../root", "/etc//tls", "/etc/tls/", "/etc/my tls"} {
		if _, err := procedure.NewScope(procedure.Material{Procedure: p}, map[string]string{"folder": bad},
			nil); err == nil {
			t.Errorf("the path %q is taken", bad)
		}
	}
}

func TestTheBuiltInProcedureRehearsesInEveryVariant(t *testing.T) {
	p := library.Builtin()["web-files-ssh"]
	steps, err := rehearsal.Of(p.Procedure, scopeOf(t, p.Procedure,
		map[string]string{"as": "sudo -n", "chain_file": "/etc/web/chain.pem", "reload": "web-reload --all"}))
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, s := range steps {
		all = append(all, fmt.Sprint(s.Section, " ", s.Text, " ", s.Content, " ", s.Undo))
	}
	for _, want := range []string{
		"sudo -n web-reload --all", "done again at the end of the way back", "sudo -n test -f /etc/web/chain.pem",
		"‹the intermediates in order, or the root where there are none, PEM›",
		"revert /etc/webui/tls/key.pem", "revert sudo -n web-reload --all", "copy of /var/work/r1/key.pem",
		"the old file is kept before and put back",
	} {
		if !slices.ContainsFunc(all, func(s string) bool { return strings.Contains(s, want) }) {
			t.Errorf("no step has %q:\n%s", want, strings.Join(all, "\n"))
		}
	}
}

// Every built-in family is short: what an author has to learn from.
func TestBuiltInFamiliesHaveAtMostFortyLines(t *testing.T) {
	for name, source := range library.Builtin() {
		lines, about := 0, false
		for line := range strings.Lines(source.YAML) {
			trimmed := strings.TrimSpace(line)
			if about = about && (strings.HasPrefix(line, "  ") || trimmed == "") ||
				strings.HasPrefix(line, "about:"); about {
				continue
			}
			if trimmed != "" && trimmed[0] != '#' {
				lines++
			}
		}
		if lines > 40 {
			t.Errorf("%s has %d lines", name, lines)
		}
	}
	for _, link := range []string{procedure.SSH, procedure.HTTPS} {
		text, err := draft.New("quay-gateway", link)
		if err != nil {
			t.Fatal(err)
		}
		if _, faults := procedure.Parse([]byte(text)); len(faults) > 0 {
			t.Errorf("the draft for %s: %v", link, faults)
		}
	}
}

func TestASecretIsNeverShown(t *testing.T) {
	p := parsed(t, "    - file: /x/y\n      holds: \"user=a pin={{pin}}\\n\"\n")
	scope := scopeOf(t, p, map[string]string{"pin": "hunter2"})
	steps, err := rehearsal.Of(p, scope)
	if err != nil || strings.Contains(fmt.Sprint(steps), "hunter2") ||
		!strings.Contains(fmt.Sprint(steps), "user=a pin=••••••") {
		t.Errorf("%v %v", steps, err)
	}
	ready, err := p.Steps[procedure.Request][0].Expand(procedure.Request, "", scope)
	if err != nil || string(ready.Act.(*verb.FileAct).Content) != "user=a pin=hunter2\n" {
		t.Errorf("the file does not hold it: %v", err)
	}
	if !slices.Contains(scope.Secrets(), "hunter2") {
		t.Error("the scope does not know its secret")
	}
}

func TestAStepForEachItemAndSeveralCaptures(t *testing.T) {
	p := parsed(t, `    - step: ask
      each: names
      run: boxctl names add {{item}}
      undo: {run: "boxctl names drop {{item}}", when: always}
      expect: {exit: [0, 3], not_match: "(?i)refused", errors: "^$"}
      capture: {version: "v([0-9.]+)", warned: {match: "W: .*", from: errors}}
    - {step: tell, run: "echo {{version}}", undo: nothing}
    - {step: tell more, run: "logger {{warned}}", undo: nothing}
`)
	step, scope := p.Steps[procedure.Request][0], scopeOf(t, p, nil)
	items, err := step.Items(scope)
	if err != nil || !slices.Equal(items, []string{"a.example", "192.0.2.1"}) {
		t.Fatal(items, err)
	}
	undo, err := step.UndoReady(0, items[1], scope)
	if err != nil || undo.Act.Line() != "boxctl names drop 192.0.2.1" || undo.Name() != "undo of “ask”: 192.0.2.1" {
		t.Errorf("%+v %v", undo, err)
	}
	got, err := step.Captured([]byte("box v4.2 ready\n"), []byte("W: slow\n"), nil)
	if err != nil || got["version"].Text != "4.2" || got["warned"].Text != "W: slow" {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := step.Captured([]byte("nothing"), nil, nil); err == nil {
		t.Error("a pattern that matches nothing captures something")
	}
	for _, c := range []struct {
		exit           int
		stdout, stderr string
		ok             bool
	}{{0, "fine", "", true}, {3, "fine", "", true}, {1, "fine", "", false}, {0, "Refused", "", false},
		{0, "fine", "oops", false}} {
		if err := step.Expect.Met(c.exit, c.stdout, c.stderr, ""); (err == nil) != c.ok {
			t.Errorf("%+v: %v", c, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(library.Builtin()["web-files-ssh"].YAML))
	f.Add([]byte(frame("    - step: a\n      run: echo \"{{label}}\"\n")))
	f.Add([]byte("a: &x [*x, {b: *x}]\n---\n? !!binary x"))
	f.Add([]byte(frame("    - edit: /x\n      rules: [{set: a, to: \"{{label}}\"}, {remove: x}]\n")))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, faults := procedure.Parse(text)
		for _, fault := range faults {
			if fault.Line < 1 || fault.Column < 1 || fault.What == "" {
				t.Errorf("a fault without place: %+v", fault)
			}
		}
		if procedure.Refused(faults) {
			return
		}
		if scope, err := procedure.NewScope(procedure.Material{Procedure: p, Work: "/w"}, nil, nil); err == nil {
			rehearsal.Of(p, scope)
		}
	})
}
