package host

import (
	"strings"
	"testing"

	"freshseal/cli"
	"freshseal/core/next"
)

// Every action that the service can name is a command that exists.
func TestEveryActionHasItsCommand(t *testing.T) {
	root := cli.Root(Commands)
	for _, do := range next.All {
		said := cli.Advice("", []next.Action{do.On("x")})
		words, isCommand := strings.CutPrefix(said, "see: freshseal ")
		if !isCommand {
			if !strings.HasPrefix(said, "see: --") {
				t.Errorf("%s: %q", do, said)
			}
			continue
		}
		found, _, err := root.Find(strings.Fields(words))
		if err != nil || !found.Runnable() {
			t.Errorf("%s: no command %q: %v", do, words, err)
		}
		for _, word := range strings.Fields(words) {
			if flag, ok := strings.CutPrefix(word, "--"); ok && found.Flags().Lookup(flag) == nil {
				t.Errorf("%s: %s has no flag --%s", do, found.CommandPath(), flag)
			}
		}
	}
	if said := cli.Advice("look at the device",
		[]next.Action{next.ResumeDone.On("r3"), next.Revert.On("r3")}); said != "look at the device: freshseal "+
		"replacement resume r3 --step done, or: freshseal replacement revert r3" {
		t.Error(said)
	}
}
