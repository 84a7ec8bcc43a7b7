package e2e

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/device"
	"freshseal/device/ssh"
	"freshseal/standin/daemon"
)

// talking is a runner on a real sshd whose one step talks to a script.
func talking(t *testing.T, menu, talk string) (r *device.Runner, scope *procedure.Scope, book *notebook, dir string) {
	t.Helper()
	dir = t.TempDir()
	b := box{dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
		keyFile: filepath.Join(dir, "ssh", "id")}
	b.startSSH(t)
	script(t, filepath.Join(dir, "menu"), strings.ReplaceAll(menu, "DIR", dir))
	p, faults := procedure.Parse([]byte("procedure: menu\ntitle: x\nlinks: [ssh]\nsettings: {word: {kind: secret, " +
		"about: x}}\ntraits: {key_types: [ecdsa-p256], key_made_by: service}\nsteps:\n  install:\n    - {step: " +
		"menu, dialog: " + filepath.Join(dir, "menu") + ", undo: nothing, limit: 20s, talk: " + talk + "}\n"))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p, Work: filepath.Join(dir, "work/r1-x")},
		map[string]string{"word": "salt and tar"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	book = &notebook{}
	target := b.target(t)
	r = &device.Runner{Dial: (&net.Dialer{}).DialContext, SSH: func(context.Context) (ssh.Target, error) {
		return target, nil
	}, Procedure: p, Work: filepath.Join(dir, "work/r1-x"), Journal: book}
	t.Cleanup(r.Close)
	return r, scope, book, dir
}

// A real terminal: a password without echo, a menu of the shell, one that draws with
// escapes, a progress that is written over itself, and an exit code.
func TestADialogOnARealTerminal(t *testing.T) {
	t.Parallel()
	r, scope, book, dir := talking(t, `stty -echo; printf 'Word: '; read -r w; stty echo; echo
[ "$w" = "salt and tar" ] || { echo refused; exit 3; }
printf '\033[2J\033[3;5H1) keys\033[4;5H2) leave\033[6;1HChoice: '; read -r c
echo "took $c" > DIR/log
for i in 10 60 100; do printf '\r%3d%%' $i; sleep 0.2; done
echo; printf 'Name: '; read -r n; echo "name $n" >> DIR/log; echo done`,
		`[{see: "Word: $", say: "{{word}}"}, {see: "2. leave(?s:.*)Choice: $", say: "1"}, {see: "100%"}, {see: "Name: $", say: "one; rm -rf two"}, {see: done}]`)
	if _, err := r.Run(t.Context(), procedure.Install, scope); err != nil {
		t.Fatal(err)
	}
	if log := read(t, filepath.Join(dir, "log")); log != "took 1\nname one; rm -rf two\n" {
		t.Errorf("the script was told %q", log)
	}
	if out := book.ended[0]; strings.Contains(out.Output, "salt and tar") || !strings.Contains(out.Output, "done") {
		t.Errorf("the journal holds %+v", out)
	}
}

// A program that echoes a secret, across the end of a line even, does not get it into the
// journal.
func TestAnEchoedSecretIsNotShown(t *testing.T) {
	t.Parallel()
	r, scope, book, _ := talking(t,
		`stty echo; printf '%74s' 'Word: '; read -r w; echo; echo "you said $w"; echo done`,
		`[{see: "Word: $", say: "{{word}}"}, {see: done}]`)
	if _, err := r.Run(t.Context(), procedure.Install, scope); err != nil {
		t.Fatal(err)
	}
	shown := book.ended[0].Output
	if text := strings.ReplaceAll(shown, "\n", ""); strings.Contains(text, "salt and tar") ||
		!strings.Contains(text, "••••••") {
		t.Errorf("the journal holds\n%s", shown)
	}
}

// What a wait begins with may take as long as the step, and is ended for certain when it
// takes longer.
func TestWhatAWaitBeginsIsEnded(t *testing.T) {
	t.Parallel()
	r, scope, _, dir := talking(t, "trap '' TERM; while :; do sleep 0.3; date >> DIR/mark; done", "[{see: x}]")
	menu := filepath.Join(dir, "menu")
	p, faults := procedure.Parse([]byte("procedure: menu\ntitle: x\nlinks: [ssh]\ntraits: {key_types: " +
		"[ecdsa-p256], key_made_by: service}\nsteps:\n  install:\n    - {step: menu, wait: {first: " + menu +
		", command: date, match: never}, undo: nothing, limit: 2s}\n"))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	r.Procedure = p
	if _, err := r.Run(t.Context(), procedure.Install, scope); err == nil ||
		strings.Contains(err.Error(), "may still be running") {
		t.Errorf("it says %v", err)
	}
	if out, _ := exec.Command("pgrep", "-f", menu).Output(); len(out) > 0 {
		t.Errorf("still there: %s", out)
	}
}

// A program that got stuck is ended for certain, whatever it does against that, before
// anything else is done.
func TestAStuckProgramIsEnded(t *testing.T) {
	t.Parallel()
	for name, menu := range map[string]string{
		"waits":        "printf 'Other: '; read -r x",
		"ignores":      "trap '' HUP TERM INT; printf 'Other: '; while :; do sleep 0.3; date >> DIR/mark; done",
		"background":   "(trap '' HUP; while :; do sleep 0.3; date >> DIR/mark; done) & printf 'Other: '; read -r x",
		"after it all": "printf 'Word: '; read -r x; trap '' HUP; while :; do sleep 0.3; date >> DIR/mark; done",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r, scope, _, dir := talking(t, menu, `[{see: "Word: $", say: "x", limit: 5s}, {see: never, limit: 2s}]`)
			_, err := r.Run(t.Context(), procedure.Install, scope)
			if err == nil || strings.Contains(err.Error(), "may still be running") ||
				!strings.Contains(err.Error(), "did not appear") {
				t.Errorf("it says %v", err)
			}
			if out, _ := exec.Command("pgrep", "-f", filepath.Join(dir, "menu")).Output(); len(out) > 0 {
				t.Errorf("still there: %s", out)
			}
			before, _ := os.ReadFile(filepath.Join(dir, "mark"))
			time.Sleep(700 * time.Millisecond)
			if after, _ := os.ReadFile(filepath.Join(dir, "mark")); len(after) > len(before) {
				t.Error("something of it still writes")
			}
		})
	}
}

// The service is stopped in the middle of a dialog: the program is ended, nothing is
// done twice, and a person is asked; one that never began is known for that.
func TestADialogThatIsCutOff(t *testing.T) {
	t.Parallel()
	r, scope, book, dir := talking(t, "echo begun >> DIR/log; trap '' HUP; printf 'Word: '; read -r x; while :; do "+
		"sleep 0.3; date >> DIR/mark; done", `[{see: "Word: $", say: "x"}, {see: never}]`)
	hard, cut := context.WithCancel(t.Context())
	r.Hard = hard
	go func() {
		for range 400 {
			if _, err := os.Stat(filepath.Join(dir, "mark")); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		cut()
	}()
	if _, err := r.Run(t.Context(), procedure.Install, scope); err == nil || !book.ended[0].Unknown {
		t.Fatalf("a dialog that was cut off: %v %+v", err, book.ended)
	}
	two := &device.Runner{Dial: r.Dial, SSH: r.SSH, Procedure: r.Procedure, Work: r.Work, Journal: book}
	defer two.Close()
	if err := two.Recover(t.Context(), 1, procedure.Install, "menu", false, scope); err == nil ||
		!strings.Contains(err.Error(), "its program was ended") {
		t.Errorf("found out afterwards: %v", err)
	}
	before := read(t, filepath.Join(dir, "mark"))
	time.Sleep(700 * time.Millisecond)
	if after := read(t, filepath.Join(dir, "mark")); len(after) > len(before) {
		t.Error("it still runs")
	}
	if err := two.Recover(t.Context(), 7, procedure.Install, "menu", false, scope); err != nil ||
		book.ended[6].Why != "it was not begun" {
		t.Errorf("%v %+v", err, book.ended[6])
	}
	if log := read(t, filepath.Join(dir, "log")); log != "begun\n" {
		t.Errorf("it was begun otherwise than once: %q", log)
	}
}

// A program that never stops writing is cut off before it fills the memory, and ended; so
// is one that writes what its dialog waits for again and again.
func TestADialogWithoutEndIsCutOff(t *testing.T) {
	t.Parallel()
	for name, menu := range map[string]string{"floods": "while :; do echo tide tide tide tide tide tide tide; done",
		"pages for ever": "while :; do printf '%s\\n' '--more-- tide'; done"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r, scope, book, dir := talking(t, menu, `[{see: never}], meanwhile: [{see: "--more--", press: space}]`)
			begun := time.Now()
			_, err := r.Run(t.Context(), procedure.Install, scope)
			if err == nil || strings.Contains(err.Error(), "may still be running") {
				t.Errorf("it says %v after %s", err, time.Since(begun))
			}
			if n := len(book.ended[0].Output); n > 10<<10 {
				t.Errorf("%d bytes are journalled", n)
			}
			if out, _ := exec.Command("pgrep", "-f", filepath.Join(dir, "menu")).Output(); len(out) > 0 {
				t.Errorf("still there: %s", out)
			}
		})
	}
}
