package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
)

// killer watches a box and ends the service at one moment: when the box is
// asked for the n-th time, before it does what it is asked or after.
type killer struct {
	lock   sync.Mutex
	at     int  // which moment; a negative one never comes
	before bool // and whether the box then still does it
	seen   []string
	armed  bool
	kill   func()
}

func (k *killer) watch(what string, done bool) bool {
	k.lock.Lock()
	defer k.lock.Unlock()
	if !k.armed {
		return true
	}
	k.seen = append(k.seen, fmt.Sprintf("%v %s", done, what))
	if len(k.seen)-1 != k.at {
		return true
	}
	k.armed = false
	k.kill()
	return done || !k.before
}

// earlier is the moment to try where one did not come: readings of the wire differ in number from run to run.
func earlier(t *testing.T, at int) int {
	t.Helper()
	if at < 3 {
		t.Fatalf("moment %d does not come", at)
	}
	return at - 3
}

// everything means that no sample is taken: each kind meets each fault, at each moment that a test names.
var everything = os.Getenv("FRESHSEAL_KINDS") == "all"

// every is which moments are tried: one of five, or each.
func every(at int) bool { return everything || at%5 == 0 }

// killOnce lets a replacement run, kills the service at one moment, starts it
// again and returns what the box was asked, and how it ended.
func killOnce(t *testing.T, faults standin.Faults, at int, want string) []string {
	t.Helper()
	k := &killer{at: at, before: at%4 == 0}
	box := simulated(t, standin.Box{Faults: faults, Watch: k.watch})
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", t.TempDir(), listen)
	s.login()
	s.addSimulated(name, box, "correct horse")
	before := s.show(name + "/web")
	k.kill = s.kill
	k.arm(true)
	s.run("", "replace", name+"/web", "--signer", "bench") // the client may lose its service
	if at < 0 {
		s.await("r1", want)
	} else {
		select {
		case <-s.gone:
		case <-time.After(20 * time.Second):
			return killOnce(t, faults, earlier(t, at), want)
		}
		again := startAt(t, "serve", s.dir, listen)
		again.config = s.config
		again.await("r1", want)
		s = again
	}
	k.arm(false)
	after := s.show(name + "/web")
	if changed := after.Certificate.SHA256 != before.Certificate.SHA256; changed != (want == "sealed") {
		t.Errorf("the box serves %+v", after)
	}
	if left, _ := filepath.Glob(filepath.Join(box.Dir, "root/etc/webui/tls/*")); len(left) != 2 {
		t.Errorf("on the box lie %v", left)
	}
	var r struct {
		Steps []struct{ Name, Stage, Outcome string }
	}
	s.json(&r, "replacement", "show", "r1")
	done := map[string]int{}
	for _, step := range r.Steps {
		if step.Outcome == "done" {
			done[step.Stage+"/"+step.Name]++
		}
	}
	for step, times := range done {
		if times > 1 {
			t.Errorf("%q is journalled as done %d times", step, times)
		}
	}
	return k.seen
}

func (k *killer) arm(on bool) {
	k.lock.Lock()
	defer k.lock.Unlock()
	k.armed = on
}

// Kill the service at every moment that a box can see: it goes on where it was,
// does nothing twice that was done, and comes to the same end.
func TestTheServiceMayBeKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	for end, faults := range map[string]standin.Faults{"sealed": {}, "reverted": {FailTest: true}} {
		moments := killOnce(t, faults, -1, end)
		if len(moments) < 30 {
			t.Fatalf("only %d moments: %v", len(moments), moments)
		}
		for at, what := range moments {
			if end == "reverted" && at < len(moments)-16 {
				continue // the way there is the same
			}
			if !every(at) {
				continue
			}
			t.Run(fmt.Sprintf("%s %d %s", end, at, shorten(what)), func(t *testing.T) {
				t.Parallel()
				killOnce(t, faults, at, end)
			})
		}
	}
}

// Asked again for another request, the service is killed at every moment that the
// box can see: in the end there is one request, for the one key that the box has.
func TestAskingAgainMayBeKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	again := func(t *testing.T, at int) []string {
		k := &killer{at: at, before: at%2 == 0}
		box := simulated(t, standin.Box{Watch: k.watch})
		listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
		s := startAt(t, "serve", t.TempDir(), listen)
		s.login()
		s.addSimulated(name, box, "correct horse")
		s.ok("replace", name+"/web", "--signer", "desk")
		s.await("r1", "waiting")
		first := packed(t, s, "desk")[0]
		k.kill = s.kill
		k.arm(true)
		s.run("", "replacement", "ask-again", "r1", "--reason", "a name was forgotten", "--name",
			"lamp.tidewrack.example")
		if at >= 0 {
			select {
			case <-s.gone:
			case <-time.After(20 * time.Second):
				t.Fatalf("moment %d does not come: %v", at, k.seen)
			}
			restarted := startAt(t, "serve", s.dir, listen)
			restarted.config = s.config
			s = restarted
		}
		s.until("r1", "waiting for signer", "replacement", "show", "r1")
		k.arm(false)
		second := packed(t, s, "desk")[0]
		key := must(t, "", "openssl", "pkey", "-in", filepath.Join(work(t, box, "r1"), "key.pem"), "-pubout")
		if asked := must(t, "", "openssl", "req", "-in", second, "-noout", "-pubkey"); asked != key ||
			asked == must(t, "", "openssl", "req", "-in", first, "-noout", "-pubkey") {
			t.Error("the request is not for the key that the box has now")
		}
		if text := must(t, "", "openssl", "req", "-in", second, "-noout", "-text"); !strings.Contains(text,
			"DNS:lamp.tidewrack.example") {
			t.Errorf("the name is forgotten again:\n%s", text)
		}
		if left, _ := filepath.Glob(filepath.Join(box.Dir, "root/var/lib/freshseal/*")); len(left) != 1 {
			t.Errorf("on the box lie %v", left)
		}
		return k.seen
	}
	for at, what := range again(t, -1) {
		t.Run(fmt.Sprintf("%d %s", at, shorten(what)), func(t *testing.T) {
			t.Parallel()
			again(t, at)
		})
	}
}

func shorten(text string) string {
	if len(text) > 40 {
		return text[:40]
	}
	return text
}

// Asked to stop, the service lets the step in hand come to its end first.
func TestAStopWaitsForTheStepInHand(t *testing.T) {
	t.Parallel()
	reached, release := make(chan struct{}), make(chan struct{})
	var once sync.Once
	box := simulated(t, standin.Box{Watch: func(what string, done bool) bool {
		if strings.Contains(what, "genpkey") && !done {
			once.Do(func() { close(reached); <-release })
		}
		return true
	}})
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", t.TempDir(), listen)
	s.login()
	s.addSimulated(name, box, "correct horse")
	go s.run("", "replace", name+"/web", "--signer", "bench")
	select {
	case <-reached:
	case <-time.After(20 * time.Second):
		t.Fatalf("the key is never made:\n%s", s.log)
	}
	stopped := make(chan struct{})
	go func() { s.stop(); close(stopped) }()
	for range 200 { // the port closes first
		if conn, err := net.Dial("tcp", listen); err != nil {
			break
		} else {
			conn.Close()
		}
	}
	close(release)
	<-stopped
	again := startAt(t, "serve", s.dir, listen)
	again.config = s.config
	again.await("r1", "sealed")
	if text := again.ok("replacement", "show", "r1"); strings.Count(text, "make the key") != 1 ||
		strings.Contains(text, "failed") {
		t.Errorf("the step in hand did not come to its end:\n%s", text)
	}
}
