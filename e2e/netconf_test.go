package e2e

import (
	"bytes"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
)

// addRouter adds a router, which is signed in to by NETCONF.
func (s *server) addRouter(name, family string, box *standin.Running, more ...string) {
	s.t.Helper()
	host, port, _ := net.SplitHostPort(box.SSHAddr)
	_, slot, _ := net.SplitHostPort(box.TLSAddr)
	s.okWith(box.Password,
		append([]string{"device", "add", name, "--address", host, "--family", family, "--user", box.User, "--port",
			port, "--password-file", "-", "--pin", box.HostKey(), "--slot", "web=" + slot}, more...)...)
}

// A router takes key and certificates into its keystore and commits them on trial; what the wire
// does not prove is taken back, and a commit that says ok and changes nothing is no success.
func TestARouterByNETCONF(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "router-by-netconf"))
	s.login()
	for _, c := range []webCase{
		{name: "sealed", state: "sealed"},
		{name: "refuses", faults: standin.Faults{FailTest: true}, state: "reverted", says: "the certificate " +
			"was refused"},
		{name: "changes-nothing", faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "instead of the new leaf"},
		{name: "third", faults: standin.Faults{ThirdCertificate: true}, state: "reverted",
			says: "instead of the new leaf"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			box := kind(t, standin.Box{Kind: standin.Router, Faults: c.faults})
			name, before := c.name+".northholm.tidewrack.example", leafAt(t, box.TLSAddr)
			s.addRouter(name, familyFor("router-by-netconf", c.state), box)
			if said := s.ok("device", "try", name); !strings.Contains(said, "4 capabilities") {
				t.Errorf("the try says\n%s", said)
			}
			s.comesTo(name+"/web", c.state, c.says, "--signer", "bench")
			if changed := !bytes.Equal(leafAt(t, box.TLSAddr), before); changed != (c.state == "sealed") {
				t.Errorf("%s, and the certificate on the wire changed: %v", c.state, changed)
			}
			if shown := s.ok("replacement", "show", "--as", "json", s.newest(name)); strings.Contains(shown,
				"cleartext-private-key>MIG") {
				t.Errorf("the journal shows the key:\n%s", shown)
			}
			if c.state != "sealed" {
				return
			}
			s.ok("replacement", "revert", s.newest(name), "--yes")
			if !bytes.Equal(leafAt(t, box.TLSAddr), before) {
				t.Error("reverted, and the certificate from before is not served")
			}
		})
	}
}

// The service is killed, or the line is cut, at each moment; in the end it is sealed or back.
// Where nobody comes back, the router goes back by itself.
func TestARouterMayBeLostAtAnyMoment(t *testing.T) {
	t.Parallel()
	once := func(t *testing.T, at int, kill bool) []string {
		return lostAt(t, at, kill, func(watch standin.Watch) (*standin.Running, func(*server)) {
			box := kind(t, standin.Box{Kind: standin.Router, Watch: watch})
			return box, func(s *server) { s.addRouter(name, "quick-router-by-netconf", box) }
		})
	}
	for at, what := range once(t, -1, false) {
		if !strings.Contains(what, "rpc") || strings.Contains(what, "close-session") {
			continue
		}
		if at%4 == 0 {
			t.Run(fmt.Sprintf("killed at %d %s", at, what), func(t *testing.T) { t.Parallel(); once(t, at, true) })
			t.Run(fmt.Sprintf("cut at %d %s", at, what), func(t *testing.T) { t.Parallel(); once(t, at, false) })
		}
	}
}

// Killed for good after the commit on trial: nobody confirms it, and the router goes back.
func TestARouterGoesBackByItself(t *testing.T) {
	t.Parallel()
	committed := make(chan struct{})
	var s *server
	box := kind(t, standin.Box{Kind: standin.Router, Watch: func(what string, done bool) bool {
		if done && what == "rpc commit" {
			s.kill()
			close(committed)
		}
		return true
	}})
	s = start(t, "serve", t.TempDir())
	s.login()
	s.addRouter(name, "router-by-netconf", box, "--setting", "confirm=2")
	before := leafAt(t, box.TLSAddr)
	s.run("", "replace", name+"/web", "--signer", "bench")
	<-committed
	if bytes.Equal(leafAt(t, box.TLSAddr), before) {
		t.Error("the commit changed nothing")
	}
	time.Sleep(3 * time.Second)
	if !bytes.Equal(leafAt(t, box.TLSAddr), before) {
		t.Error("nobody confirmed the commit, and the router did not go back")
	}
}
