package device_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/device"
	"freshseal/standin"
)

// eyes see what a file of the box says: which certificate it serves, as a word.
type eyes struct {
	box   *standin.Running
	after time.Duration // for how long a change does not show yet
}

func (e eyes) Wire(context.Context, string) (look.Word, string, error) {
	file := filepath.Join(e.box.Dir, "root/etc/serves")
	info, err := os.Stat(file)
	if err != nil {
		return look.Unknown, "nothing", nil
	}
	text, err := os.ReadFile(file)
	words := strings.Fields(string(text))
	word := words[len(words)-1]
	if time.Since(info.ModTime()) < e.after && len(words) > 1 {
		word = words[len(words)-2]
	}
	return look.Word(word), "it serves " + word, err
}

func (eyes) Told(string, string) look.Word { return look.Unknown }

// A step back is sent only where the new certificate is seen, and never twice because the box is slow; what is seen
// outranks what the journal says.
func TestAStepBackFollowsWhatIsSeen(t *testing.T) {
	const steps = `  activate:
    - {step: use it, run: "cat /etc/order > /etc/serves", undo: {step: step back, run: "echo before >> /etc/serves && mkdir /etc/stepped", when: {wire: new}}}
    - {step: fail, run: "false", undo: nothing}
`
	for _, c := range []struct {
		name, order string
		slow        time.Duration
		stepped     bool
		held        bool
	}{
		{"the box took it", "before new", 0, true, false},
		{"the box took it, and is slow to go back", "before new", 1500 * time.Millisecond, true, false},
		{"the box dropped it in silence", "before", 0, false, false},
		{"the box serves a third one", "before other", 0, false, true},
		{"nothing can be read, and the step was seen to succeed", "before unknown", 0, true, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			box := startBox(t)
			at := func(name string) string { return filepath.Join(box.Dir, "root/etc", name) }
			if err := os.WriteFile(at("order"), []byte(c.order+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			r, scope, book := runner(t, box, steps)
			r.Sights, r.Edition = eyes{box, c.slow}, procedure.Edition
			r.Procedure.Traits.RestartLimit = 2 * time.Second
			if _, err := r.Run(t.Context(), procedure.Activate, scope); err == nil {
				t.Fatal("nothing failed")
			}
			err := r.Back(t.Context(), procedure.Revert, procedure.Backup, scope)
			var held *device.HeldError
			if errors.As(err, &held) != c.held || err != nil && !c.held {
				t.Errorf("the way back says %v", err)
			}
			if _, err := os.Stat(at("stepped")); (err == nil) != c.stepped {
				t.Errorf("stepped back: %v, want %v\n%s", err == nil, c.stepped, book.texts())
			}
			if n := strings.Count(book.texts(), "mkdir /etc/stepped"); n > 1 {
				t.Errorf("it was sent %d times:\n%s", n, book.texts())
			}
		})
	}
}

// A file is put back only where it holds what the replacement wrote; a third content is left alone, and the reload is
// not done again if nothing was undone.
func TestAFileThatSomebodyElseWroteIsLeftAlone(t *testing.T) {
	box := startBox(t)
	at := func(name string) string { return filepath.Join(box.Dir, "root/etc", name) }
	for name, text := range map[string]string{"ours": "old\n", "theirs": "old\n"} {
		if err := os.WriteFile(at(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	r, scope, book := runner(t, box, `  activate:
    - {file: /etc/ours, holds: "new\n"}
    - {file: /etc/theirs, holds: "new\n"}
    - {file: /etc/fresh, holds: "new\n"}
    - {step: reload, run: "true", undo: again}
`)
	r.Edition = procedure.Edition
	if _, err := r.Run(t.Context(), procedure.Activate, scope); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at("theirs"), []byte("somebody else's\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	err := r.Back(t.Context(), procedure.Revert, procedure.Backup, scope)
	var held *device.HeldError
	if !errors.As(err, &held) || !strings.Contains(err.Error(), "/etc/theirs was not put back") {
		t.Errorf("the way back says %v", err)
	}
	for name, want := range map[string]string{"ours": "old\n", "theirs": "somebody else's\n", "fresh": ""} {
		if got, _ := os.ReadFile(at(name)); string(got) != want {
			t.Errorf("%s holds %q, want %q", name, got, want)
		}
	}
	if strings.Count(book.texts(), "true\n") != 2 {
		t.Errorf("the reload is not done again:\n%s", book.texts())
	}

	// Nothing that was begun changed anything: the second runner has only a refusal behind it.
	r, scope, book = runner(t, box, `  activate:
    - {step: upload, run: "echo not accepted >&2; exit 2", refused: {exit: 2, errors: not accepted}, undo: "mkdir {{work}}/undone"}
    - {step: reload, run: "true", undo: again}
`)
	if _, err := r.Run(t.Context(), procedure.Activate, scope); err == nil {
		t.Fatal("it is not refused")
	}
	if err := r.Back(t.Context(), procedure.Revert, procedure.Backup, scope); err != nil || len(book.begun) != 1 {
		t.Errorf("%v; something was done after a refusal:\n%s", err, book.texts())
	}
}

// A process id is wrong after a restart: a step that names it asks for it again in each stretch of work.
func TestAValueThatARestartMakesWrongIsCapturedAnew(t *testing.T) {
	box := startBox(t)
	pid := filepath.Join(box.Dir, "root/etc/pid")
	if err := os.WriteFile(pid, []byte("100\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	const steps = `  survey:
    - {step: find it, run: cat /etc/pid, capture: {pid: {match: "^([0-9]+)", until: restart}}}
  activate:
    - {step: tell it, run: "mkdir /etc/told-{{pid}}", undo: again}
`
	r, scope, book := runner(t, box, steps)
	scope, err := r.Run(t.Context(), procedure.Survey, scope)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(pid, []byte("200\n"), 0o600); err != nil { // it was restarted meanwhile, and so were we
		t.Fatal(err)
	}
	later, _, _ := runner(t, box, steps)
	later.Journal = book
	if _, err := later.Run(t.Context(), procedure.Activate, scope); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(box.Dir, "root/etc/told-200")); err != nil {
		t.Errorf("the old process id is used:\n%s", book.texts())
	}
}
