package device_test

import (
	"context"
	"crypto/rand"
	"crypto/x509/pkix"
	"errors"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/device"
	"freshseal/device/links"
	"freshseal/device/ssh"
	"freshseal/standin"
)

// notebook is a journal in memory.
type notebook struct {
	screens []string
	begun   []device.Entry
	ended   []device.Outcome
	at      map[int64]time.Time
}

func (n *notebook) Done(section procedure.Section, name, text string) (map[string]value.Value, bool) {
	for i, e := range n.begun {
		if e.Section == section && e.Name == name && e.Text == text && i < len(n.ended) && n.ended[i].OK {
			return n.ended[i].Captured, true
		}
	}
	return nil, false
}

func (n *notebook) Fate(section procedure.Section, name string) (f device.Fate) {
	for i, e := range n.begun {
		if e.Section != section || e.Name != name {
			continue
		}
		f.Begun, f.Last = true, int64(i+1)
		if i < len(n.ended) && n.ended[i].OK {
			f.Done, f.LastDone, f.Ended = true, int64(i+1), n.at[int64(i+1)]
		}
		f.Refused = i < len(n.ended) && n.ended[i].Refused
	}
	return f
}

func (n *notebook) Begin(_ context.Context, e device.Entry) (int64, error) {
	n.begun = append(n.begun, e)
	return int64(len(n.begun)), nil
}

func (n *notebook) Show(_ context.Context, _ int64, screen string, _ int) {
	n.screens = append(n.screens, screen)
}

func (n *notebook) End(_ context.Context, id int64, o device.Outcome) error {
	for int64(len(n.ended)) < id {
		n.ended = append(n.ended, device.Outcome{})
	}
	n.ended[id-1] = o
	if n.at == nil {
		n.at = map[int64]time.Time{}
	}
	n.at[id] = time.Now()
	return nil
}

func (n *notebook) texts() string {
	var b strings.Builder
	for i, e := range n.begun {
		b.WriteString(e.Text)
		if i < len(n.ended) && !n.ended[i].OK {
			b.WriteString(" FAILED " + n.ended[i].Why)
		}
		b.WriteString("\n")
	}
	return b.String()
}

func startBox(t *testing.T) *standin.Running { return startBoxLike(t, standin.Box{}) }

func startBoxLike(t *testing.T, b standin.Box) *standin.Running {
	t.Helper()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Brinewell appliance"},
		Ends: time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := standin.Lay(dir, certificate, key); err != nil {
		t.Fatal(err)
	}
	b.Dir, b.User, b.Password, b.Address = dir, "keeper", "correct horse", "127.20.79.1"
	box, err := standin.Start(b)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	return box
}

// family is a procedure whose steps are those given, with the scope of a device.
func family(t *testing.T, work, steps string) (procedure.Procedure, *procedure.Scope) {
	t.Helper()
	p, faults := procedure.Parse([]byte("procedure: ours\ntitle: Ours\nlinks: [ssh]\nsettings:\n  pin: {kind: " +
		"secret, about: a secret}\n  folder: {kind: path, about: x, default: /etc}\ntraits: {key_types: " +
		"[rsa-2048], key_made_by: service}\nsteps:\n" + steps))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p, Work: work},
		map[string]string{"pin": "hunter2", procedure.WorkFolder: filepath.Dir(work)}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return p, scope
}

func runner(t *testing.T, box *standin.Running, steps string) (*device.Runner, *procedure.Scope, *notebook) {
	t.Helper()
	book, work := &notebook{}, "/var/lib/freshseal/r1-test"
	p, scope := family(t, work, steps)
	r := &device.Runner{Dial: (&net.Dialer{}).DialContext, Journal: book, Procedure: p, Work: work,
		SSH: func(context.Context) (ssh.Target, error) {
			return ssh.Target{Address: box.SSHAddr, User: "keeper", Password: "correct horse",
				HostKey: box.HostKey()}, nil
		}}
	t.Cleanup(r.Close)
	return r, scope, book
}

func TestTheRunnerKnowsEveryVerb(t *testing.T) {
	words, _ := procedure.Verbs()
	for _, word := range words {
		if !device.Carries(word) {
			t.Errorf("the verb %s has no part in the runner", word)
		}
	}
	if !slices.Contains(words, "edit") || len(words) < 7 {
		t.Errorf("the verbs are %v", words)
	}
}

func TestStepsAreCarriedOutJournalledAndUndone(t *testing.T) {
	box := startBox(t)
	at := func(name string) string { return filepath.Join(box.Dir, "root", name) }
	if err := os.WriteFile(at("etc/box.conf"), []byte("tls = off\n# port = 1\n"), 0o604); err != nil {
		t.Fatal(err)
	}
	r, scope, book := runner(t, box, `  install:
    - {file: "{{folder}}/motd", holds: "hello {{pin}}\n", mode: 0640}
    - {edit: "{{folder}}/box.conf", rules: [{set: tls, to: "on"}, {set: port, to: "2"}]}
    - {step: read it, fetch: "{{folder}}/motd", capture: {whole: {secret: true, match: "(?s).*"}}}
    - {step: compare, run: cat /etc/motd, expect: {same: whole}, undo: nothing}
    - {step: show a key, run: cat /etc/webui/tls/key.pem, undo: nothing}
    - {step: shut, run: "mkdir {{work}}/shut", undo: {run: rm -r /var/lib/freshseal/r1-test/shut, when: always}}
  activate:
    - {step: leave a mark, run: mkdir /etc/marked, undo: {run: rm -r /etc/marked, when: always}, finally: {run: mkdir -p /etc/always}}
    - {step: reload, run: webui reload, undo: again}
`)
	for _, section := range []procedure.Section{procedure.Install, procedure.Activate} {
		if _, err := r.Run(t.Context(), section, scope); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{"etc/motd": "hello hunter2\n", "etc/box.conf": "tls = on\nport = 2\n"} {
		if got, err := os.ReadFile(at(name)); err != nil || string(got) != want {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	if info, err := os.Stat(at("etc/motd")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("%v %v", info, err)
	}
	if info, err := os.Stat(at("etc/box.conf")); err != nil || info.Mode().Perm() != 0o604 {
		t.Errorf("the edited file's mode: %v %v", info, err)
	}
	if !strings.Contains(book.ended[1].Output, "-# port = 1\n+tls = on\n") {
		t.Errorf("the difference is not journalled: %q", book.ended[1].Output)
	}
	all := ""
	for i := range book.ended {
		all += book.begun[i].Text + book.ended[i].Output + book.ended[i].Why
	}
	if strings.Contains(all, "hunter2") || strings.Contains(all, "BEGIN") ||
		!strings.Contains(all, "a private key stood here") {
		t.Errorf("a secret stands in the journal:\n%s", all)
	}

	if err := r.Back(t.Context(), procedure.Revert, procedure.Request, scope); err != nil {
		t.Fatal(err)
	}
	for _, gone := range []string{"etc/motd", "etc/marked", "var/lib/freshseal/r1-test/shut"} {
		if _, err := os.Stat(at(gone)); err == nil {
			t.Errorf("%s is still there after the way back", gone)
		}
	}
	if got, _ := os.ReadFile(at("etc/box.conf")); string(got) != "tls = off\n# port = 1\n" {
		t.Errorf("the configuration is not put back: %q", got)
	}
	if _, err := os.Stat(at("etc/always")); err != nil {
		t.Error("what is always done was not done")
	}
	texts := book.texts()
	if at := strings.LastIndex(texts, "webui reload"); at < strings.LastIndex(texts, "/etc/box.conf") ||
		strings.Count(texts, "webui reload") != 2 {
		t.Errorf("the reload is not done again at the end of the way back:\n%s", texts)
	}
	if err := r.Tidy(t.Context(), false, scope); err != nil {
		t.Fatal(err)
	}
	if left, _ := os.ReadDir(at("var/lib/freshseal")); len(left) > 0 {
		t.Errorf("left in the work folder: %v", left)
	}
}

// Every undo is tried, even where another fails.
func TestAFailingUndoDoesNotStopTheOthers(t *testing.T) {
	box := startBox(t)
	r, scope, book := runner(t, box, `  activate:
    - {step: one, run: mkdir /etc/one, undo: {run: rm -r /etc/one, when: always}}
    - {step: two, run: mkdir /etc/two, undo: {run: nosuchprogram, when: always}}
    - {step: three, run: mkdir /etc/three, undo: {run: rm -r /etc/three, when: always}}
    - {step: four, run: nosuchprogram again, undo: {run: rm /etc/four, when: always}}
`)
	if _, err := r.Run(t.Context(), procedure.Activate, scope); err == nil {
		t.Fatal("a program that is not there succeeds")
	}
	err := r.Back(t.Context(), procedure.Revert, procedure.Request, scope)
	if err == nil || strings.Count(err.Error(), "not found") != 1 ||
		!strings.Contains(err.Error(), "undo of “two”") || !strings.Contains(err.Error(), "undo of “four”") {
		t.Errorf("%v", err)
	}
	for _, name := range []string{"one", "three"} {
		if _, err := os.Stat(filepath.Join(box.Dir, "root/etc", name)); err == nil {
			t.Errorf("%s was not undone:\n%s", name, book.texts())
		}
	}
}

func TestAFailingStepSaysWhatToDo(t *testing.T) {
	box := startBox(t)
	for about, c := range map[string]struct {
		step, want string
		unknown    bool
	}{
		"a wrong exit code": {"{step: a, run: cat /nothing, undo: nothing, otherwise: make it}",
			"exit code 1 instead of 0: cat: ", false},
		"an output": {"{step: a, run: echo tide, undo: nothing, expect: {match: ebb}}",
			"its output does not match ebb: tide", false},
		"nothing printed": {"{step: a, run: rmdirx || false, undo: nothing}", "not found", false},
		"no output at all": {"{step: a, run: \"false\", undo: nothing}", "exit code 1 instead of 0, and it " +
			"printed nothing", false},
		"a secret's output": {"{step: a, run: cat /nothing, secret: true, undo: nothing}", "its output is secret",
			false},
		"a pattern for nothing": {"{step: a, run: echo tide, undo: nothing, capture: {x: \"ebb\"}}",
			"nothing in the output matches ebb", false},
		"a missing file":     {"{fetch: /nothing, capture: x}", "reading /nothing", false},
		"an edit of nothing": {"{edit: /etc/none, rules: [{line: x}]}", "reading /etc/none", false},
		"an unknown value":   {"{step: a, file: /etc/x, holds: anchor}", "is not known yet", false},
		"a closed folder":    {"{file: /no/folder, holds: folder}", "writing /no/folder", false},
	} {
		r, scope, _ := runner(t, box, "  install:\n    - "+c.step+"\n")
		_, err := r.Run(t.Context(), procedure.Install, scope)
		var step *device.StepError
		if !errors.As(err, &step) || !strings.Contains(err.Error(), c.want) || step.Unknown() != c.unknown {
			t.Errorf("%s: %v", about, err)
			continue
		}
		if strings.Contains(c.step, "otherwise") != strings.Contains(err.Error(), "What to do: make it") {
			t.Errorf("%s: the remedy: %v", about, err)
		}
	}
}

// A step that hangs ends with its limit. Where the device cannot end a command,
// nobody knows what it still does.
func TestAStepThatHangsMayStillRun(t *testing.T) {
	box := startBox(t)
	for _, repeat := range []string{"", ", repeat: safe"} {
		r, scope, book := runner(t, box, "  install:\n    - {step: hang, run: echo x, undo: nothing, limit: 1s"+
			repeat+"}\n  survey:\n    - {step: look, run: \"true\", limit: 1s}\n")
		if _, err := r.Run(t.Context(), procedure.Survey, scope); err != nil { // the box answers until it hangs
			t.Fatal(err)
		}
		box.SetFaults(standin.Faults{Hang: true})
		_, err := r.Run(t.Context(), procedure.Install, scope)
		box.SetFaults(standin.Faults{})
		var step *device.StepError
		if !errors.As(err, &step) || !errors.Is(err, links.ErrTimeLimit) || len(book.ended) != 2 ||
			!book.ended[1].Unknown {
			t.Errorf("repeat %q: %v", repeat, err)
		}
		if !step.Unknown() {
			t.Errorf("repeat %q: it is taken for ended: %v", repeat, err)
		}
	}
}

// The line breaks in the middle of a command on a box that keeps no record of its commands.
// What is safe to repeat is done once more; where that line breaks too, or it is not safe, nobody
// knows what became of it and nothing goes on by itself.
func TestABrokenLineOnABoxThatKeepsNoRecord(t *testing.T) {
	for _, c := range []struct {
		about, repeat string
		breaks        int
		begun         int
		known         bool
	}{
		{"safe, and the line breaks once", ", repeat: safe", 1, 2, true},
		{"safe, and it breaks again", ", repeat: safe", 2, 2, false},
		{"not safe", "", 1, 1, false},
		{"safe, and nothing breaks", ", repeat: safe", 0, 1, true},
	} {
		t.Run(c.about, func(t *testing.T) {
			var box *standin.Running
			left := c.breaks
			box = startBoxLike(t, standin.Box{Watch: func(what string, done bool) bool {
				if strings.HasPrefix(what, "echo taken") && !done && left > 0 {
					left--
					box.Drop()
				}
				return true
			}})
			r, scope, book := runner(t, box, "  activate:\n    - {step: take, run: echo taken, undo: nothing, "+
				"limit: 10s"+c.repeat+"}\n")
			_, err := r.Run(t.Context(), procedure.Activate, scope)
			var step *device.StepError
			if c.known != (err == nil) || err != nil && (!errors.As(err, &step) || !step.Unknown()) {
				t.Errorf("it ends with %v", err)
			}
			if n := len(book.begun); n != c.begun {
				t.Errorf("it was begun %d times:\n%s", n, book.texts())
			}
		})
	}
}

// Some boxes ask for the password, and for other things besides.
func TestABoxThatAsksIsAnswered(t *testing.T) {
	box := startBoxLike(t, standin.Box{Asks: true})
	for password, ok := range map[string]bool{"correct horse": true, "wrong": false} {
		link, err := ssh.Open(t.Context(), (&net.Dialer{}).DialContext,
			ssh.Target{Address: box.SSHAddr, User: "keeper", Password: password, HostKey: box.HostKey()})
		if (err == nil) != ok || !ok && !errors.Is(err, links.ErrSignIn) {
			t.Errorf("%s: %v", password, err)
		}
		if link != nil {
			link.Close()
		}
	}
}

// A box of the old kind is spoken to only when that was said on purpose.
func TestOldAlgorithmsAreOfferedOnPurposeAlone(t *testing.T) {
	box := startBoxLike(t, standin.Box{Old: true})
	for old, ok := range map[bool]bool{true: true, false: false} {
		link, err := ssh.Open(t.Context(), (&net.Dialer{}).DialContext,
			ssh.Target{Address: box.SSHAddr, User: "keeper", Password: "correct horse", HostKey: box.HostKey(),
				OldSSH: old})
		if (err == nil) != ok {
			t.Errorf("old algorithms %v: %v", old, err)
		}
		if link != nil {
			link.Close()
		}
	}
}
