package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
)

// The line to a box breaks at moments of a replacement, in the middle of commands,
// files and dialogs. It ends sealed, reverted or with a question to a person, who takes the way
// back; whichever it says is true on the wire and on the box.
func TestTheLineToABoxMayBreakAtAnyMoment(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures",
		quickFamilies(t, "manager-by-menu", "network-gear", "server-to-be-stopped", "plant-controller", "bare-host",
			"collector", "staged-by-menu", "dashboard-of-nodes"))
	s.login()
	for _, c := range []struct {
		family, setting string
		box             standin.Box
	}{
		{"manager-by-menu", "menu_password=", standin.Box{Kind: standin.MenuManager, Restart: 200 * time.Millisecond}},
		{"network-gear", "secret_word=", standin.Box{Kind: standin.NetworkGear}},
		{"server-to-be-stopped", "", standin.Box{Kind: standin.StopServer, Restart: 200 * time.Millisecond}},
		{"plant-controller", "", standin.Box{Kind: standin.PlantRoom, Restart: 200 * time.Millisecond}},
		{"bare-host", "", standin.Box{Kind: standin.BareHost, Restart: 200 * time.Millisecond}},
		{"bare-host", "own_key=yes", standin.Box{Kind: standin.BareHost, Restart: 200 * time.Millisecond}},
		{"collector", "", standin.Box{Kind: standin.Collector, Restart: 200 * time.Millisecond}},
		{"staged-by-menu", "", standin.Box{Kind: standin.StagedVault, Restart: 200 * time.Millisecond}},
		{"dashboard-of-nodes", "", standin.Box{Kind: standin.Dashboard, Restart: 200 * time.Millisecond}},
	} {
		once := func(t *testing.T, at int) []string {
			s := *s
			s.t = t
			device := fmt.Sprintf("%s-%d.saltmere.tidewrack.example", c.family, at+1)
			k := &killer{at: at}
			b := c.box
			b.Watch = k.watch
			box := kind(t, b)
			k.kill = box.Drop
			more := []string{}
			if strings.HasSuffix(c.setting, "=") {
				more = []string{"--setting", c.setting + box.Secret}
			} else if c.setting != "" {
				device = "own-" + device
				more = []string{"--setting", c.setting}
			}
			s.addKind(device, "quick-"+c.family, box, more...)
			s.ok("replace", device+"/web", "--signer", "bench", "--watch") // the first goes well
			before := s.show(device + "/web")
			k.arm(true)
			var r struct{ ID string }
			if out := s.run("", "replace", device+"/web", "--signer", "bench", "--as",
				"json"); json.Unmarshal([]byte(out.stdout), &r) != nil || r.ID == "" {
				t.Fatal(out.stdout, out.stderr)
			}
			state := s.rests(r.ID, "sealed", "held", "reverted")
			k.arm(false)
			if at < 0 {
				if state != "sealed" {
					t.Fatalf("without any fault it is %s:\n%s", state, s.ok("replacement", "show", r.ID))
				}
				return k.seen
			}
			if state == "held" && strings.Contains(s.ok("replacement", "show", r.ID), "finally, step") {
				s.run("", "replacement", "resume", r.ID, "--step", "repeat")
				state = s.rests(r.ID, "sealed", "reverted")
			}
			if state == "held" {
				s.run("", "replacement", "cancel", r.ID)
				if state = s.rests(r.ID, "held", "cancelled", "reverted"); state == "held" {
					s.run("", "replacement", "revert", r.ID, "--yes")
					state = s.rests(r.ID, "reverted", "cancelled")
				}
			}
			s.leftWhole(box, device, before, state)
			return nil
		}
		for at, what := range once(t, -1) {
			if at%6 != 1 || !every(at/6) {
				continue
			}
			t.Run(fmt.Sprintf("%s %d %s", c.family, at, shorten(what)), func(t *testing.T) {
				t.Parallel()
				once(t, at)
			})
		}
	}
}
