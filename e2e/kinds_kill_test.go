package e2e

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
	"freshseal/standin/kinds/gear"
	"freshseal/standin/parts"
)

// Kinds of boxes whose steps are not safe to repeat: the service is killed at moments
// of a replacement. In the end it is sealed or a person is asked, who takes the way back;
// either is true on the wire and on the box, also after the box was off, and no server is
// left stopped.
func TestKindsMayBeKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	all := newAbreast(t, 3)
	defer all.Wait()
	for _, c := range []struct {
		family, setting string
		box             standin.Box
	}{
		{"manager-by-menu", "menu_password=", standin.Box{Kind: standin.MenuManager, Restart: 300 * time.Millisecond}},
		{"network-gear", "secret_word=", standin.Box{Kind: standin.NetworkGear}},
		{"bare-host", "", standin.Box{Kind: standin.BareHost, Restart: 300 * time.Millisecond}},
		{"server-to-be-stopped", "", standin.Box{Kind: standin.StopServer, Restart: 300 * time.Millisecond}},
		{"collector", "", standin.Box{Kind: standin.Collector, Restart: 200 * time.Millisecond}},
		{"staged-by-menu", "", standin.Box{Kind: standin.StagedVault, Restart: 200 * time.Millisecond}},
		{"dashboard-of-nodes", "", standin.Box{Kind: standin.Dashboard, Restart: 200 * time.Millisecond}},
	} {
		var once func(t *testing.T, at int) []string
		once = func(t *testing.T, at int) []string {
			k := &killer{at: at, before: at%2 == 0}
			b := c.box
			b.Watch = k.watch
			box := kind(t, b)
			listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
			folder := quickFamilies(t, c.family)
			s := startAt(t, "serve", t.TempDir(), listen, "--procedures", folder)
			s.login()
			more := []string{}
			if c.setting != "" {
				more = []string{"--setting", c.setting + box.Secret}
			}
			s.addKind(name, "quick-"+c.family, box, more...)
			s.ok("replace", name+"/web", "--signer", "bench", "--watch") // the first goes well; the second is killed
			before := s.show(name + "/web")
			k.kill = s.kill
			k.arm(true)
			s.run("", "replace", name+"/web", "--signer", "bench")
			if at < 0 {
				s.await("r2", "sealed")
				k.arm(false)
				return k.seen
			}
			select {
			case <-s.gone:
			case <-time.After(20 * time.Second):
				return once(t, earlier(t, at))
			}
			again := startAt(t, "serve", s.dir, listen, "--procedures", folder)
			again.config = s.config
			state := again.toAnEnd("r2")
			k.arm(false)
			again.leftWhole(box, name, before, state)
			return nil
		}
		moments := once(t, -1)
		if len(moments) < 12 {
			t.Fatalf("%s: only %d moments: %v", c.family, len(moments), moments)
		}
		for at, what := range moments {
			if at%11 != 5 && at != len(moments)-1 || !everything && at%33 != 5 {
				continue
			}
			all.run(fmt.Sprintf("%s %d %s", c.family, at, shorten(what)), func(t *testing.T) { once(t, at) })
		}
	}
}

// leftWhole checks that a box was left running, out of maintenance, with what it keeps through a reboot, and with the
// new certificate only where the replacement is sealed.
func (s *server) leftWhole(box *standin.Running, device string, before slot, state string) {
	s.t.Helper()
	if parts.IsOff(box) || box.InMaintenance() {
		s.t.Errorf("its server is left stopped: %v; it is left in maintenance: %v", parts.IsOff(box),
			box.InMaintenance())
	}
	if box.Kind == standin.NetworkGear {
		if err := gear.Reboot(box); err != nil {
			s.t.Fatal(err)
		}
	}
	s.run("", "read", device+"/web")
	after := s.show(device + "/web")
	if changed := after.Certificate.SHA256 != before.Certificate.SHA256; changed != (state == "sealed") {
		s.t.Errorf("it is %s, and the certificate on the wire changed: %v", state, changed)
	}
}

// toAnEnd waits until a replacement is sealed or has gone back; where it is held, a person
// takes the way back.
func (s *server) toAnEnd(id string) string {
	s.t.Helper()
	state := s.rests(id, "sealed", "held", "reverted")
	if state == "held" {
		s.run("", "replacement", "cancel", id)
		if state = s.rests(id, "held", "cancelled", "reverted"); state == "held" {
			s.run("", "replacement", "revert", id, "--yes")
			state = s.rests(id, "reverted", "cancelled", "held")
		}
		if state == "held" { // every state has an exit
			s.ok("replacement", "close", id, "--as", "old", "--reason", "the wire shows the old certificate")
		}
	}
	return state
}

// rests waits until a replacement stands still in one of some states.
func (s *server) rests(id string, states ...string) string {
	s.t.Helper()
	var r progress
	// a box that hangs lets each command wait for its limit, and once more after a kill
	if within(14*time.Minute, func() bool { r = s.progress(id); return slices.Contains(states, r.State) }) {
		return r.State
	}
	s.t.Fatalf("%s does not come to rest; it is %s: %s\n%s", id, r.State, r.Why, s.ok("replacement", "show", id))
	return ""
}
