package procedure_test

import (
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"freshseal/core/procedure"
)

// frame is a whole procedure around the steps of its section request.
func frame(steps string) string {
	return "procedure: ours\ntitle: Ours\nlinks: [ssh]\nsettings:\n  folder: {kind: path, about: where, default: /etc/x}\n  label: {about: a text, default: y}\n  as: {kind: words, about: before}\n" +
		"traits:\n  key_types: [rsa-2048]\nsteps:\n  request:\n" + steps +
		"    - step: print it\n      run: cat request\n      capture: request\n  backup: []\n  activate: []\n  revert: []\n"
}

func TestFaultsAreFoundWithTheirPlaceAndTheirRemedy(t *testing.T) {
	for _, c := range []struct {
		about, step string
		line, col   int
		what        string
	}{
		{"a mistyped verb", "    - step: a\n      rum: true\n", 13, 7, `has no key "rum"; write run`},
		{"an unknown value", "    - step: a\n      run: echo {{labl}}\n", 13, 17, "write {{label}}"},
		{"a value in double quotes", "    - step: a\n      run: echo \"{{label}}\"\n", 13, 18, "leave the quotes out"},
		{"a value in single quotes", "    - step: a\n      run: echo '{{label}}'\n", 13, 18, "leave the quotes out"},
		{"a value in a comment", "    - step: a\n      run: |\n        true # {{label}}\n", 14, 16, "inside a comment"},
		{"a value behind a dollar", "    - step: a\n      run: echo ${{label}}\n", 13, 18, "dollar"},
		{"a value behind a backslash", "    - step: a\n      run: echo \\{{label}}\n", 13, 17, "backslash"},
		{"backquotes", "    - step: a\n      run: echo `id {{label}}`\n", 13, 17, "backquotes"},
		{"a here-document", "    - step: a\n      run: |\n        cat <<E\n        {{label}}\n        E\n", 14, 13, "here-document"},
		{"arithmetic", "    - step: a\n      run: echo $(( {{label}} ))\n", 13, 17, "arithmetic"},
		{"a value that is read twice", "    - step: a\n      run: sh -c {{label}}\n", 13, 12, "second time"},
		{"eval", "    - step: a\n      run: true && eval {{label}}\n", 13, 20, "second time"},
		{"words in a path", "    - step: a\n      put: /x/{{as}}\n      content: \"{{request_config}}\"\n", 13, 15, "cannot stand in a path"},
		{"a text as a file", "    - step: a\n      put: /x\n      content: \"{{label}}\"\n", 14, 17, "no file's content"},
		{"the chain before it is there", "    - step: a\n      put: /x\n      content: \"{{leaf_first}}\"\n", 14, 17, "not there before the section backup"},
		{"two verbs", "    - step: a\n      run: true\n      fetch: /x\n", 14, 14, "two verbs"},
		{"two steps of one name", "    - step: print it\n      run: true\n", 14, 11, "give each a name of its own"},
		{"an alias", "    - step: a\n      run: *x\n", 13, 12, ""},
		{"a store without its key", "packs:\n  box: {about: x, encoding: pkcs12}\n", 2, 3, "no key is wanted"},
		{"a chain in DER", "packs:\n  box: {about: x, encoding: der}\n", 2, 3, "DER holds one thing"},
		{"a pack of a value's name", "packs:\n  leaf: {about: x}\n", 2, 3, "every procedure has"},
		{"a pack before it is there", "packs:\n  box: {about: x}\n    - step: a\n      put: /x\n      content: \"{{box}}\"\n", 16, 17, "not there before the section backup"},
		{"a key that the device made", "packs:\n  box: {about: x, key: before}\n    - step: a\n      put: /x\n      content: \"{{box}}\"\n", 16, 17, "only where Fresh Seal makes the key"},
	} {
		packs, step := "", c.step
		if strings.HasPrefix(step, "packs:") { // they stand at the beginning of the file
			lines := strings.SplitAfterN(step, "\n", 3)
			packs, step = lines[0]+lines[1], lines[2]
		}
		_, faults := procedure.Parse([]byte(packs + frame(step)))
		if len(faults) == 0 {
			t.Errorf("%s is not found", c.about)
			continue
		}
		f := faults[0]
		if f.Line != c.line || f.Column != c.col || !strings.Contains(f.Error(), c.what) {
			t.Errorf("%s: %v; want line %d, column %d, %q", c.about, f, c.line, c.col, c.what)
		}
	}
	if _, faults := procedure.Parse([]byte(frame(""))); len(faults) > 0 {
		t.Errorf("a procedure without fault: %v", faults)
	}
}

// hostile are values that try to become something else than one word.
var hostile = []string{
	"plain", "two words", "it's", `a"b`, "$HOME", "`id`", "$(id)", "a;b", "a|b", "a&b", "a>b", "*", "~", "#no", "\\", `\'`, "'", "''", "'; id; '",
	"a\nb", "a\tb", "{a,b}", "!x", "PATH=/x", "if", "2", "é", "\xff\xfe",
}

// expand puts a value into a command, as a procedure would.
func expand(t testing.TB, command, value string) (string, error) {
	t.Helper()
	p, faults := procedure.Parse([]byte(frame("    - step: a\n      run: " + command + "\n")))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	scope, err := p.Fill(nil)
	if err != nil {
		t.Fatal(err)
	}
	ready, err := procedure.ExpandStep(procedure.Request, p.Steps[procedure.Request][0], scope.With("label", procedure.TextValue(value)))
	return ready.Text, err
}

// The judge is the real shell: whatever the value, it arrives as one word,
// unchanged, at the beginning, in the middle and in a substitution.
func TestNoValueCanLeaveItsWord(t *testing.T) {
	for _, command := range []string{"printf '[%s]' {{label}}", "printf '[%s]' {{label}}{{label}}", "printf '[%s]' $(printf %s x{{label}}) >&1", "for x in {{label}}; do printf '[%s]' x; done"} {
		for _, value := range hostile {
			text, err := expand(t, command, value)
			if err != nil {
				t.Fatal(err)
			}
			out, err := exec.Command("sh", "-f", "-c", "IFS=; "+text).Output()
			if err != nil {
				t.Fatalf("%s: %v", text, err)
			}
			want := map[string]string{
				"printf '[%s]' {{label}}":                      "[" + value + "]",
				"printf '[%s]' {{label}}{{label}}":             "[" + value + value + "]",
				"printf '[%s]' $(printf %s x{{label}}) >&1":    "[x" + value + "]",
				"for x in {{label}}; do printf '[%s]' x; done": "[x]",
			}[command]
			if string(out) != want {
				t.Errorf("%s\n printed %q, want %q", text, out, want)
			}
		}
	}
	for _, value := range []string{"-rf", "a\x00b"} {
		if text, err := expand(t, "rm {{label}}", value); err == nil {
			t.Errorf("%q was taken: %s", value, text)
		}
	}
}

func TestAPathStaysInItsFolder(t *testing.T) {
	p, faults := procedure.Parse([]byte(frame("    - step: a\n      fetch: \"{{folder}}/{{label}}.pem\"\n")))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	scope, err := p.Fill(map[string]string{"folder": "/etc/tls"})
	if err != nil {
		t.Fatal(err)
	}
	for value, ok := range map[string]bool{"gate": true, "a b": true, "..": false, "../x": false, "a/b": false, "": false, "a\nb": false} {
		r, err := procedure.ExpandStep(procedure.Request, p.Steps[procedure.Request][0], scope.With("label", procedure.TextValue(value)))
		if (err == nil) != ok {
			t.Errorf("%q: %q, error %v", value, r.Text, err)
		}
	}
	for _, bad := range []string{"etc/tls", "/etc/../root", "/etc//tls", "/etc/tls/"} {
		if _, err := p.Fill(map[string]string{"folder": bad}); err == nil {
			t.Errorf("the path %q is taken", bad)
		}
	}
}

func TestTheBuiltInProcedureRehearsesInEveryVariant(t *testing.T) {
	p := procedure.Builtin["web-files-ssh"]
	scope, err := p.Fill(map[string]string{"as": "sudo -n", "chain_file": "/etc/web/chain.pem", "reload": `sh-reload "two words"`})
	if err != nil {
		t.Fatal(err)
	}
	steps, err := p.Rehearse(scope)
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, s := range steps {
		all = append(all, fmt.Sprint(s.Section, " ", s.Text, " ", s.Content))
	}
	for _, want := range []string{
		"sudo -n sh-reload 'two words'",
		"sudo -n test -f /etc/web/chain.pem",
		"‹the intermediates in order, PEM›",
	} {
		if !slices.ContainsFunc(all, func(s string) bool { return strings.Contains(s, want) }) {
			t.Errorf("no step has %q", want)
		}
	}
}

func TestASecretIsNeverPartOfACommandNorShown(t *testing.T) {
	p, _ := procedure.Parse([]byte(frame("    - step: a\n      put: /x/y\n      content: \"{{request_config}}\"\n")))
	scope, err := p.Fill(nil)
	if err != nil {
		t.Fatal(err)
	}
	secret := procedure.ContentValue([]byte("hunter2"))
	secret.Secret = true
	steps, err := p.Rehearse(scope.With("request_config", secret))
	if err != nil || strings.Contains(fmt.Sprint(steps), "hunter2") {
		t.Errorf("%v %v", steps, err)
	}
	run := procedure.Step{Name: "a", Verb: procedure.Run, Text: "echo {{request_config}}"}
	if r, err := procedure.ExpandStep(procedure.Request, run, scope.With("request_config", secret)); err == nil {
		t.Errorf("a secret in a command: %s", r.Text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(procedure.Builtin["web-files-ssh"].YAML))
	f.Add([]byte(frame("    - step: a\n      run: echo \"{{label}}\"\n")))
	f.Add([]byte("a: &x [*x, {b: *x}]\n---\n? !!binary x"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, faults := procedure.Parse(text)
		for _, fault := range faults {
			if fault.Line < 1 || fault.Column < 1 || fault.What == "" {
				t.Errorf("a fault without place: %+v", fault)
			}
		}
		if scope, err := p.Fill(nil); len(faults) == 0 && err == nil {
			p.Rehearse(scope)
		}
	})
}

func FuzzQuote(f *testing.F) {
	for _, value := range hostile {
		f.Add(value)
	}
	f.Fuzz(func(t *testing.T, value string) {
		if strings.Contains(value, "\x00") || len(value) > 1000 {
			return
		}
		out, err := exec.Command("sh", "-c", "printf %s "+procedure.Quote(value)).Output()
		if strings.HasPrefix(value, "-") {
			return // expansion refuses these before it quotes
		}
		if err != nil || string(out) != value {
			t.Errorf("%q became %q, error %v", value, out, err)
		}
	})
}
