package device_test

import (
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	_ "freshseal/standin/kinds"
)

// A menu is talked through, its screen is shown while it works, and its password stands
// nowhere.
func TestADialogIsHeldAndShown(t *testing.T) {
	box := startBoxLike(t, standin.Box{Kind: standin.MenuManager, Secret: "hunter2", Restart: 1500 * time.Millisecond})
	r, scope, book := runner(t, box, `  activate:
    - dialog: trustdesk
      talk: [{see: "Password: $", say: "{{pin}}"}, {see: "Choice: $", say: "1"}, {see: "Choice: $", say: "3"}, {see: "nothing to go back", say: b}, {see: "Choice: $", say: q}]
      capture: {said: "There is (.*) to go back"}
      undo: nothing
`)
	after, err := r.Run(t.Context(), "activate", scope)
	if err != nil {
		t.Fatal(err)
	}
	if said, err := after.Value("said"); err != nil || said.Text != "nothing" {
		t.Errorf("captured %+v, %v", said, err)
	}
	if text := book.texts() + strings.Join(book.screens, "\n") + book.ended[0].Output; strings.Contains(text,
		"hunter2") || !strings.Contains(text, "leave") {
		t.Errorf("the journal says\n%s", text)
	}
}

// Whatever was not foreseen stops a dialog, and what stood on the screen is told.
func TestADialogNeverGuesses(t *testing.T) {
	for _, c := range []struct {
		name   string
		box    standin.Box
		secret string
		want   []string
		still  bool // the program may still be running
	}{
		{"the prompt never comes", standin.Box{Faults: standin.Faults{Silent: true}}, "hunter2",
			[]string{`"Password: $" did not appear within 1s`, "Pelorus Manager"}, true},
		{"the prompt is worded otherwise", standin.Box{Faults: standin.Faults{OtherPrompt: true}}, "hunter2",
			[]string{"did not appear", "Kennwort?"}, true},
		{"the password is wrong", standin.Box{}, "another", []string{"the menu does not know us: Not recognised"},
			false},
		{"the program is not there", standin.Box{Kind: standin.BareHost}, "hunter2",
			[]string{"does not let it talk on a terminal"}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.box.Secret = c.secret
			if c.box.Kind == "" {
				c.box.Kind = standin.MenuManager
			}
			r, scope, _ := runner(t, startBoxLike(t, c.box), `  activate:
    - dialog: trustdesk
      talk: [{see: "Password: $", say: "{{pin}}", limit: 1s}, {see: "Choice: $", say: q, limit: 1s}]
      meanwhile: [{see: Not recognised, fail: the menu does not know us}]
      undo: nothing
`)
			_, err := r.Run(t.Context(), "activate", scope)
			for _, want := range c.want {
				if err == nil || !strings.Contains(err.Error(), want) {
					t.Errorf("it says %v, not %q", err, want)
				}
			}
			if err != nil && strings.Contains(err.Error(), "may still be running") != c.still {
				t.Errorf("whether it still runs: %v", err)
			}
		})
	}
}
