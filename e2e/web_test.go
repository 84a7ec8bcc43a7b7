package e2e

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/core/protocol"
	"freshseal/standin"
	"freshseal/standin/daemon"
	"freshseal/standin/kinds/hostmanager"
	"freshseal/wire"
)

// webKind starts a box with a web interface.
func webKind(t *testing.T, b standin.Box) *standin.Running {
	t.Helper()
	b.WebUser, b.WebPassword = "webkeeper", "salt & tar\"<'"
	if b.Restart == 0 {
		b.Restart = 300 * time.Millisecond
	}
	return kindAt(t, b, "127.20.83.1", b.TLSPort)
}

// addWeb adds a box that is worked on over its web interface alone.
func (s *server) addWeb(name, family string, box *standin.Running, more ...string) {
	s.t.Helper()
	host, port, _ := net.SplitHostPort(box.TLSAddr)
	pin := sha256.Sum256(leafAt(s.t, box.TLSAddr))
	s.okWith(box.WebPassword,
		append([]string{"device", "add", name, "--address", host, "--family", family, "--user", box.WebUser, "--port",
			port,
			"--password-file", "-", "--pin", hex.EncodeToString(pin[:]), "--slot", "web=" + port}, more...)...)
}

// webBox starts a box with a web interface and what belongs to it, and gives the flags with
// which it is added.
func webBox(t *testing.T, b standin.Box) (box *standin.Running, flags []string) {
	t.Helper()
	switch b.Kind {
	case standin.Firewall, standin.EncryptionAppliance, standin.LoadBalancer:
		standby := kindAt(t, standin.Box{}, "127.20.83.2", 0)
		_, port, _ := net.SplitHostPort(standby.TLSAddr)
		b.TLSPort, b.Hosts = number(t, port), func(string) *standin.Running { return standby }
		flags = append(flags, "--node", "standby.gannet-point.tidewrack.example=127.20.83.2")
	case standin.TraversalPeer:
		b.System = cmp.Or(b.System, name)
	case standin.AccessServer:
		b.Shared = radiusSecret
		node := kindAt(t, standin.Box{Kind: standin.AccessServer, Shared: radiusSecret,
			RADIUSPort: number(t, daemon.FreePort(t, "127.20.83.2")), Restart: 200 * time.Millisecond}, "127.20.83.2",
			0)
		_, port, _ := net.SplitHostPort(node.TLSAddr)
		_, radius, _ := net.SplitHostPort(node.RADIUSAddr)
		b.TLSPort, b.RADIUSPort, b.Hosts = number(t, port), number(t, radius), func(string) *standin.Running {
			return node
		}
		flags = append(flags, "--node", "second=127.20.83.2", "--slot", "eap="+radius+"/peap", "--radius-secret-file",
			write(t, t.TempDir()+"/shared", radiusSecret), "--setting", "export_word=salt of the export")
	}
	if b.Kind == standin.LoadBalancer {
		b.MorePort = number(t, daemon.FreePort(t, "127.20.83.1"))
	}
	box = webKind(t, b)
	switch b.Kind {
	case standin.EncryptionAppliance:
		flags = append(append(flags, "--setting", "export_word=salt of the export", "--second-password-file",
			write(t, t.TempDir()+"/word", box.Password)), both(box)...)
	case standin.LoadBalancer:
		flags = append(flags, "--setting", "test="+box.MoreAddr)
	case standin.VoiceManager, standin.SignOnServer:
		flags = append(both(box), "--second-password-file", write(t, t.TempDir()+"/word", box.Password))
	}
	return box, flags
}

const radiusSecret = "salt of the harbour"

// slotOfKind is the slot of a kind that is replaced.
func slotOfKind(kind standin.Kind) string {
	if kind == standin.AccessServer {
		return "eap"
	}
	return "web"
}

// leafOf is the leaf that the slot of a box serves.
func leafOf(t *testing.T, box *standin.Running) []byte {
	t.Helper()
	if box.Kind != standin.AccessServer {
		return leafAt(t, box.TLSAddr)
	}
	host, port, _ := net.SplitHostPort(box.RADIUSAddr)
	r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 10 * time.Second}.Read(t.Context(),
		wire.Target{Address: host, Port: number(t, port), Protocol: protocol.TTLS, Secret: []byte(radiusSecret)})
	if r.Why != nil {
		t.Fatal(r.Why)
	}
	return r.Leaf().Raw
}

// webCase is a box with a web interface, what goes wrong with it, and where that ends.
type webCase struct {
	name        string
	faults      standin.Faults
	state, says string
	changed     bool // the certificate on the wire, although it is not sealed
}

// everyWebKind are the faults of the web that every kind meets.
var everyWebKind = []webCase{
	{name: "sealed", state: "sealed"},
	{name: "refuses", faults: standin.Faults{FailTest: true}, state: "reverted", says: "refused"},
	{name: "dropped", faults: standin.Faults{KeepServing: true}, state: "reverted", says: "instead of the new leaf"},
}

// ofSessions are the faults of sessions and certificates that two kinds meet: one with forms, one
// with JSON.
var ofSessions = []webCase{
	{name: "session-lost", faults: standin.Faults{SessionLost: true}, state: "sealed"},
	{name: "server-error", faults: standin.Faults{ServerError: true}, state: "sealed"},
	{name: "gateway", faults: standin.Faults{Gateway: true}, state: "sealed"},
	{name: "third", faults: standin.Faults{ThirdCertificate: true}, state: "held", says: "has changed: pinned is",
		changed: true},
}

// webKindIs replaces a box of a kind, with each of its faults, and sees that what is said
// in the end is true on the wire, that nobody is left signed in, and that no secret is shown.
func webKindIs(t *testing.T, kind standin.Kind, family string, agree []string, cases ...webCase) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, family))
	s.login()
	for _, c := range everyWebKind {
		if !slices.ContainsFunc(cases, func(own webCase) bool { return own.name == c.name }) {
			cases = append(cases, c)
		}
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".gannet-point.tidewrack.example"
			var asked atomic.Pointer[[]string]
			box, more := webBox(t, standin.Box{Kind: kind, Faults: c.faults, Watch: seen(&asked)})
			slot, before := name+"/"+slotOfKind(kind), leafOf(t, box)
			s.addWeb(name, familyFor(family, c.state), box, more...)
			var rehearsed struct{ Steps []step }
			s.json(&rehearsed, append([]string{"replace", slot, "--signer", "bench", "--rehearse"}, agree...)...)
			asked.Store(&[]string{})
			s.comesTo(slot, c.state, c.says, append([]string{"--signer", "bench"}, agree...)...)
			if c.name == "sealed" {
				s.wasRehearsed(s.newest(name), rehearsed.Steps, *asked.Load())
			}
			after := leafOf(t, box)
			if changed := !bytes.Equal(after, before); changed != (c.state == "sealed" || c.changed) {
				t.Errorf("%s, and the certificate on the wire changed: %v", c.state, changed)
			}
			if n := box.Sessions(); n > 0 && !c.faults.ThirdCertificate {
				t.Errorf("%d sessions are left open", n)
			}
			shown := s.ok("replacement", "show", "--as", "json", s.newest(name))
			if strings.Contains(shown, `salt & tar`) || strings.Contains(shown, "salt %26 tar") ||
				strings.Contains(shown, `salt \u0026 tar`) || strings.Contains(shown, "salt of the export") ||
				strings.Contains(shown, radiusSecret) || strings.Contains(shown, "PRIVATE KEY") {
				t.Errorf("the journal shows the password:\n%s", shown)
			}
			if c.state != "sealed" || agree != nil {
				return
			}
			// The web interface shows another certificate now, and that is the pinned one.
			s.ok("device", "try", name)
			s.ok("replacement", "revert", s.newest(name), "--yes")
			if !bytes.Equal(leafOf(t, box), before) {
				t.Error("reverted, and the certificate from before is not served")
			}
			s.ok("device", "try", name)
		})
	}
}

// step is what a rehearsal or a journal says of a step.
type step struct{ Stage, Name, Verb, Text string }

// seen keeps which calls a box saw.
func seen(asked *atomic.Pointer[[]string]) standin.Watch {
	var lock sync.Mutex
	return func(what string, done bool) bool {
		lock.Lock()
		defer lock.Unlock()
		if all := asked.Load(); all != nil && done && what != "handshake" {
			more := append(slices.Clone(*all), what)
			asked.Store(&more)
		}
		return true
	}
}

// wasRehearsed checks that each call was made as it was rehearsed, and that the box saw those
// calls and no others.
func (s *server) wasRehearsed(id string, rehearsed []step, asked []string) {
	s.t.Helper()
	var r struct{ Steps []step }
	s.json(&r, "replacement", "show", id)
	texts, journal := map[string]string{}, map[string]bool{}
	for _, each := range rehearsed {
		texts[each.Stage+"/"+each.Name] = each.Text
	}
	for _, each := range r.Steps {
		if each.Verb == "http" {
			call, _, _ := strings.Cut(each.Text, ", until")
			call, _, _ = strings.Cut(call, "?")
			journal[call] = true
		}
		if text, ok := texts[each.Stage+"/"+each.Name]; each.Verb == "http" && each.Stage != "finally" &&
			(!ok || !strings.Contains(text, "‹") && text != each.Text) {
			s.t.Errorf("%s, %s: rehearsed was %q, and done was %q", each.Stage, each.Name, text, each.Text)
		}
	}
	for _, call := range asked {
		// a redirect is followed with GET
		if method, _, _ := strings.Cut(call, " "); slices.Contains([]string{"POST", "PUT", "PATCH", "DELETE"},
			method) && !journal[call] {
			s.t.Errorf("the box saw %s, which is not in the journal", call)
		}
	}
	if len(asked) < 4 {
		s.t.Errorf("the box saw %v", asked)
	}
}

// newest is the newest replacement of a device.
func (s *server) newest(device string) string {
	s.t.Helper()
	var list []struct{ ID string }
	s.json(&list, "replacement", "list", "--device", device)
	if len(list) == 0 {
		s.t.Fatalf("%s has no replacement", device)
	}
	return list[0].ID
}

// both are the flags for a box that is worked on over its web interface and over SSH.
func both(box *standin.Running) []string {
	host, port, _ := net.SplitHostPort(box.SSHAddr)
	return []string{"--second-link-address", host, "--second-port", port, "--second-user", box.User, "--second-pin",
		box.HostKey()}
}

func TestAVoiceManager(t *testing.T) {
	webKindIs(t, standin.VoiceManager, "voice-manager", nil, append(ofSessions,
		webCase{name: "refuses", faults: standin.Faults{FailTest: true}, state: "reverted", says: "Not accepted"},
		// it can discard nothing, and does not restart either
		webCase{name: "dropped", faults: standin.Faults{KeepServing: true}, state: "held",
			says: "“restart with what is staged” was sent twice"},
		webCase{name: "another-language", faults: standin.Faults{OtherPrompt: true}, state: "held", says: "Willkommen"},
		webCase{name: "stale-form", faults: standin.Faults{StaleToken: true}, state: "held",
			says: "The form has expired"},
	)...)
}

func TestAConferenceBridge(t *testing.T) {
	webKindIs(t, standin.ConferenceBridge, "conference-bridge", nil,
		webCase{name: "leaf-alone", faults: standin.Faults{LeafAlone: true}, state: "reverted", says: "chain"},
	)
}

func TestAWirelessManager(t *testing.T) {
	webKindIs(t, standin.WirelessManager, "wireless-manager", nil,
		// it does not say so
		webCase{name: "refuses", faults: standin.Faults{FailTest: true}, state: "reverted",
			says: "instead of the new leaf"},
	)
}

func TestAHostWithAPage(t *testing.T) {
	webKindIs(t, standin.HostWithPage, "host-with-page", nil)
}

// A sign-on server's processes start one after another, and all must run.
func TestASignOnServer(t *testing.T) {
	webKindIs(t, standin.SignOnServer, "sign-on-server", nil,
		webCase{name: "never-starts", faults: standin.Faults{NeverDone: true}, state: "reverted",
			says: "was not met within"},
		webCase{name: "gateway", faults: standin.Faults{Gateway: true}, state: "sealed"},
	)
}

// An appliance deploys what was staged to its nodes; one that was not reached is no success.
func TestAnEncryptionAppliance(t *testing.T) {
	webKindIs(t, standin.EncryptionAppliance, "encryption-appliance", nil,
		webCase{name: "refuses", faults: standin.Faults{FailTest: true}, state: "reverted", says: "/chain is"},
		webCase{name: "one-unreachable", faults: standin.Faults{OneNode: true}, state: "reverted",
			says: "1 of 2, 1 unreachable: standby"},
		webCase{name: "forgets-its-task", faults: standin.Faults{Forgets: true}, state: "reverted", says: "unknown"},
		webCase{name: "never-deployed", faults: standin.Faults{NeverDone: true}, state: "reverted",
			says: "was not met in time"},
	)
}

// A pair of load balancers: a test listener is read first, work on the standby is refused, and a
// pair that was not synchronised is seen.
func TestAPairOfLoadBalancers(t *testing.T) {
	webKindIs(t, standin.LoadBalancer, "load-balancer", nil,
		webCase{name: "on-the-standby", faults: standin.Faults{Silent: true}, state: "held",
			says: "the address of the active node"},
		webCase{name: "test-listener-fails", faults: standin.Faults{PlainStays: true}, state: "reverted",
			says: "the one of the web pages was not touched"},
		webCase{name: "not-synchronised", faults: standin.Faults{OneNode: true}, state: "reverted",
			says: "instead of the new leaf"},
	)
}

// The peers of a cluster are replaced one after another, and check each other strictly only once
// all have their certificates; a peer that is called otherwise is seen before anything is made.
func TestThePeersOfATraversalCluster(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "traversal-peer"))
	s.login()
	peers := map[string]*standin.Running{}
	for _, name := range []string{"first", "second"} {
		other := map[string]string{"first": "second", "second": "first"}[name]
		full := name + ".border.tidewrack.example"
		peers[name] = webKind(t, standin.Box{Kind: standin.TraversalPeer, System: full,
			Hosts: func(string) *standin.Running {
				return peers[other]
			}})
		s.addWeb(full, "traversal-peer", peers[name], "--cluster", "border", "--setting", "verification=strict")
	}
	s.ok("policy", "set", "fleet", "--cluster-names", "--name-prefix", "collab")
	// The first one cannot be strict before the second has its certificate, and goes back.
	s.comesTo("first.border.tidewrack.example/web", "reverted", "a peer has no certificate of an authority yet",
		"--signer", "bench")
	s.ok("device", "edit", "first.border.tidewrack.example", "--setting", "verification=leave")
	s.comesTo("first.border.tidewrack.example/web", "sealed", "", "--signer", "bench")
	s.comesTo("second.border.tidewrack.example/web", "sealed", "", "--signer", "bench")
	leaf, err := x509.ParseCertificate(leafAt(t, peers["second"].TLSAddr))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"first.border.tidewrack.example", "second.border.tidewrack.example",
		"border.border.tidewrack.example"} {
		if !slices.Contains(leaf.DNSNames, want) {
			t.Errorf("the names are %v, without %s", leaf.DNSNames, want)
		}
	}
	wrong := webKind(t, standin.Box{Kind: standin.TraversalPeer, System: "x.y",
		Faults: standin.Faults{OtherPrompt: true}})
	s.addWeb("third.border.tidewrack.example", "traversal-peer", wrong)
	s.comesTo("third.border.tidewrack.example/web", "held", "instead of", "--signer", "bench")
}

// A building controller's supervisor must trust the root, and nothing that it exports may
// hold its key.
func TestABuildingControllerAndItsSupervisor(t *testing.T) {
	webKindIs(t, standin.BuildingController, "building-controller", nil,
		webCase{name: "supervisor-does-not-trust", faults: standin.Faults{OneNode: true}, state: "reverted",
			says: "the supervisor does not trust the root"},
		webCase{name: "key-exported", faults: standin.Faults{PlainStays: true}, state: "reverted",
			says: "gives its key away"},
	)
}

func TestAServerBoardByRedfish(t *testing.T) {
	webKindIs(t, standin.ServerBoard, "board-by-redfish", []string{"--one-way"},
		webCase{name: "task-never-ends", faults: standin.Faults{NeverDone: true}, state: "reverted",
			says: "was not met in time"},
	)
}

// An access-control pair gives key and request away together; the slot eap is proven by EAP on
// both nodes, and the web pages keep their certificate.
func TestAnAccessControlPair(t *testing.T) {
	webKindIs(t, standin.AccessServer, "access-control-pair", nil,
		webCase{name: "key-is-missing", faults: standin.Faults{DropUpload: true}, state: "held", says: "/key"},
		webCase{name: "second-node-left-out", faults: standin.Faults{OneNode: true}, state: "reverted",
			says: "instead of the new leaf"},
		webCase{name: "leaf-alone", faults: standin.Faults{LeafAlone: true}, state: "reverted", says: "chain"},
		webCase{name: "session-lost", faults: standin.Faults{SessionLost: true}, state: "sealed"},
	)
}

func TestAReportingGateway(t *testing.T) {
	webKindIs(t, standin.ReportingGateway, "reporting-gateway", nil,
		webCase{name: "console-broken", faults: standin.Faults{PlainStays: true}, state: "reverted",
			says: "No listener"},
	)
}

// A firewall's standby gets the certificate by itself, and a node that did not get it is seen.
func TestAFirewallAndItsStandby(t *testing.T) {
	webKindIs(t, standin.Firewall, "firewall", nil,
		webCase{name: "forgets-its-task", faults: standin.Faults{Forgets: true}, state: "reverted", says: "unknown"},
		webCase{name: "commit-never-ends", faults: standin.Faults{NeverDone: true}, state: "reverted",
			says: "was not met in time"},
		webCase{name: "refuses", faults: standin.Faults{FailTest: true}, state: "reverted", says: "failed"},
		webCase{name: "standby-left-out", faults: standin.Faults{OneNode: true}, state: "reverted",
			says: "instead of the new leaf"},
	)
}

// A manager with an API signs for its hosts: in maintenance, by a task that is followed to
// its end, and out of maintenance whatever happens.
func TestAManagerSignsForItsHostsByAPI(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "host-by-manager-api"))
	s.login()
	for _, c := range []webCase{
		{name: "renewed", state: "sealed"},
		{name: "says-so-only", faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "it still serves the old certificate"},
		{name: "signed-by-another", faults: standin.Faults{RollBack: true}, state: "held", says: "did not sign",
			changed: true},
		{name: "busy", faults: standin.Faults{FailTest: true}, state: "reverted", says: "the host is busy"},
		{name: "forgets-its-task", faults: standin.Faults{Forgets: true}, state: "reverted", says: "unknown"},
		{name: "never-done", faults: standin.Faults{NeverDone: true}, state: "reverted", says: "was not met in time"},
		{name: "not-reached", faults: standin.Faults{Silent: true}, state: "held", says: "connect the host to " +
			"its manager"},
		{name: "stays-in-maintenance", faults: standin.Faults{StaysInMaintenance: true}, state: "held",
			says: "leave maintenance", changed: true},
		{name: "session-lost", faults: standin.Faults{SessionLost: true}, state: "sealed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".mainquay.tidewrack.example"
			host := kindAt(t, standin.Box{}, "127.20.84.1", 0)
			manager := webKind(t, standin.Box{Kind: standin.HostManager, Faults: c.faults,
				Hosts: func(asked string) *standin.Running {
					return map[string]*standin.Running{name: host}[asked]
				}})
			before := leafAt(t, host.TLSAddr)
			at, port, _ := net.SplitHostPort(manager.TLSAddr)
			address, slot, _ := net.SplitHostPort(host.TLSAddr)
			pin := sha256.Sum256(leafAt(t, manager.TLSAddr))
			s.okWith(manager.WebPassword, "device", "add", name, "--address", address, "--slot", "web="+slot,
				"--family", familyFor("host-by-manager-api", c.state), "--setting", "host="+name,
				"--link-address", at, "--port", port, "--user", manager.WebUser, "--password-file", "-", "--pin",
				hex.EncodeToString(pin[:]))
			s.comesTo(name+"/web", c.state, c.says, "--one-way")
			if changed := !bytes.Equal(leafAt(t, host.TLSAddr), before); changed != (c.state == "sealed" || c.changed) {
				t.Errorf("%s, and the certificate on the wire changed: %v", c.state, changed)
			}
			if hostmanager.InWebMaintenance(manager, name) != c.faults.StaysInMaintenance {
				t.Errorf("in maintenance: %v", hostmanager.InWebMaintenance(manager, name))
			}
			if n := manager.Sessions(); n > 0 {
				t.Errorf("%d sessions are left open", n)
			}
		})
	}
}

func TestAWANController(t *testing.T) {
	webKindIs(t, standin.WANController, "wan-controller", nil, append(ofSessions,
		webCase{name: "stale-token", faults: standin.Faults{StaleToken: true}, state: "sealed"},
		webCase{name: "round-and-round", faults: standin.Faults{LoopAround: true}, state: "held",
			says: "redirects again and again"},
	)...)
}

// Two boxes were delivered with the same certificate. When one of them gets its own, the pin of
// the other stays; a host under the first, reached at its address, gets the new one.
func TestAPinMovesWithItsBoxAlone(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	first, second := webKind(t, standin.Box{Kind: standin.WANController}),
		kindAt(t, standin.Box{Kind: standin.WANController, WebUser: "webkeeper", WebPassword: "salt"}, "127.20.83.7", 0)
	held, err := first.Holds("/etc/webui/tls")
	if err != nil {
		t.Fatal(err)
	}
	if err := second.Meddle([]byte(held["/etc/webui/tls/certificate.pem"]),
		[]byte(held["/etc/webui/tls/key.pem"])); err != nil {
		t.Fatal(err)
	}
	s.addWeb("first.tidewrack.example", "wan-controller", first)
	s.addWeb("second.tidewrack.example", "wan-controller", second)
	host, port, _ := net.SplitHostPort(first.TLSAddr)
	pin := sha256.Sum256(leafAt(t, first.TLSAddr))
	s.okWith(first.WebPassword, "device", "add", "under.tidewrack.example", "--address", "127.20.83.9", "--family",
		"wan-controller", "--link-address", host, "--user", "webkeeper", "--port", port,
		"--password-file", "-", "--pin", hex.EncodeToString(pin[:]))
	s.ok("replace", "first.tidewrack.example/web", "--signer", "bench", "--watch")
	now := sha256.Sum256(leafAt(t, first.TLSAddr))
	for name, want := range map[string][32]byte{"first": now, "second": pin, "under": now} {
		if shown := s.ok("device", "show", name+".tidewrack.example"); !strings.Contains(shown,
			hex.EncodeToString(want[:])) {
			t.Errorf("%s is pinned to another certificate:\n%s", name, shown)
		}
	}
}

// The service is killed, or the line to a web interface is cut, at moments of a replacement.
// In the end it is sealed, or a person is asked, who takes the way back; either is true on
// the wire, and nothing unsafe is done twice.
func TestWebKindsMayBeKilledOrCutOffAtAnyMoment(t *testing.T) {
	t.Parallel()
	all := newAbreast(t, 4)
	defer all.Wait()
	for family, kind := range map[string]standin.Kind{
		"wan-controller": standin.WANController, "firewall": standin.Firewall,
		"conference-bridge": standin.ConferenceBridge, "voice-manager": standin.VoiceManager,
		"wireless-manager": standin.WirelessManager, "host-with-page": standin.HostWithPage,
		"reporting-gateway": standin.ReportingGateway, "board-by-redfish": standin.ServerBoard,
		"sign-on-server": standin.SignOnServer, "access-control-pair": standin.AccessServer,
		"encryption-appliance": standin.EncryptionAppliance, "load-balancer": standin.LoadBalancer,
		"traversal-peer": standin.TraversalPeer, "building-controller": standin.BuildingController,
	} {
		once := func(t *testing.T, at int, kill bool) []string {
			return lostAt(t, at, kill, func(watch standin.Watch) (*standin.Running, func(*server)) {
				box, flags := webBox(t, standin.Box{Kind: kind, Watch: watch})
				return box, func(s *server) { s.addWeb(name, "quick-"+family, box, flags...) }
			})
		}
		for at, what := range once(t, -1, false) {
			if strings.Contains(what, "handshake") || at%lostEvery != lostEvery/2 || !every(at/lostEvery) {
				continue
			}
			for _, kill := range []bool{true, false} {
				all.run(fmt.Sprintf("%s %d %s, killed %v", family, at, shorten(what), kill), func(t *testing.T) {
					once(t, at, kill)
				})
			}
		}
	}
}

// lostEvery says which moments are tried: this many apart.
const lostEvery = 21

// lostAt lets a replacement run and kills the service, or cuts the line to the box, at one
// moment; what then becomes of it must be true on the wire. It returns what the box was asked.
func lostAt(t *testing.T, at int, kill bool, start func(standin.Watch) (box *standin.Running,
	add func(*server))) []string {
	t.Helper()
	k := &killer{at: at, before: at%2 == 0}
	box, add := start(k.watch)
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	families := []string{"board-by-redfish"}
	for _, r := range renewals() {
		families = append(families, r.family)
	}
	folder := quickFamilies(t, families...)
	s := startAt(t, "serve", t.TempDir(), listen, "--procedures", folder)
	s.login()
	add(s)
	// The first replacement goes well; what follows is the second one, whose way back must not end at the factory
	// certificate.
	s.ok("replace", name+"/"+slotOfKind(box.Kind), "--signer", "bench", "--one-way", "--watch")
	before := leafOf(t, box)
	if k.kill = box.Drop; kill {
		k.kill = s.kill
	}
	k.arm(true)
	s.run("", "replace", name+"/"+slotOfKind(box.Kind), "--signer", "bench", "--one-way")
	if at < 0 {
		s.await("r2", "sealed")
		k.arm(false)
		return k.seen
	}
	if kill {
		select {
		case <-s.gone:
		case <-time.After(20 * time.Second):
			return lostAt(t, earlier(t, at), kill, start)
		}
		config := s.config
		s = startAt(t, "serve", s.dir, listen, "--procedures", folder)
		s.config = config
	}
	state := s.toAnEnd("r2")
	k.arm(false)
	if changed := !bytes.Equal(leafOf(t, box), before); changed != (state == "sealed") {
		t.Errorf("it is %s, and the certificate on the wire changed: %v\n%s", state, changed,
			s.ok("replacement", "show", "r2"))
	}
	for range 20 { // its web server may be restarting still
		if s.run("", "device", "try", name).code == 0 {
			return nil
		}
		time.Sleep(500 * time.Millisecond)
	}
	s.ok("device", "try", name) // the pin is right whatever happened
	return nil
}

// A load balancer and a building controller make their key themselves, which never leaves them, or are given one
// where they are set so. What each replacement makes is called by a pattern of your own. A cancelled request takes
// its key along; a retry uses it.
func TestTheKeyIsMadeWhereTheBoxCan(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures",
		quickFamilies(t, "load-balancer", "building-controller"))
	s.login()
	for _, c := range []struct {
		family, pattern, key string
		kind                 standin.Kind
	}{
		{"load-balancer", "object", "/var/web/part-keys-", standin.LoadBalancer},
		{"building-controller", "entry", "/var/web/store-", standin.BuildingController},
	} {
		t.Run(c.family, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.family + ".gannet-point.tidewrack.example"
			box, more := webBox(t, standin.Box{Kind: c.kind})
			keys := func() (out []string) {
				t.Helper()
				held, err := box.Holds("/var/web")
				if err != nil {
					t.Fatal(err)
				}
				for file := range held {
					if after, is := strings.CutPrefix(file, c.key); is {
						out = append(out, after)
					}
				}
				slices.Sort(out)
				return out
			}
			s.addWeb(name, "quick-"+c.family, box, more...)
			for about, pattern := range map[string]string{"does not stand in it": "web-tls",
				"cannot stand in it":  "{{replacement}}-{{web_password}}",
				"belongs to no value": "{{replacement}}-{{common name}}"} {
				s.fails(1, about, "device", "edit", name, "--setting", c.pattern+"="+pattern)
			}
			s.ok("device", "edit", name, "--setting", c.pattern+"=seal-{{slot}}-{{common_name}} of {{replacement}}")
			if out := s.ok("replace", name+"/web", "--signer", "bench", "--rehearse"); !strings.Contains(out,
				"seal-web-"+name+" of ‹the replacement's id›") {
				t.Errorf("the rehearsal does not show the name:\n%s", out)
			}
			s.ok("replace", name+"/web", "--signer", "desk")
			id := s.newest(name)
			s.atGate(id, "signer")
			if got := keys(); !slices.Equal(got, []string{"seal-web-" + name + " of " + id}) {
				t.Errorf("its keys are %v", got)
			}
			s.ok("replacement", "cancel", id)
			if got := keys(); len(got) > 0 {
				t.Errorf("a cancelled request leaves %v", got)
			}
			for range 2 {
				box.SetFaults(standin.Faults{FailTest: true})
				s.run("", "replace", name+"/web", "--signer", "bench")
				id = s.newest(name)
				s.rests(id, "reverted")
				if got := keys(); !slices.Contains(got, "seal-web-"+name+" of "+id) {
					t.Errorf("the way back took the key along: %v", got)
				}
				box.SetFaults(standin.Faults{})
				s.ok("replacement", "retry", id)
				s.rests(s.newest(name), "sealed")
				s.fails(1, "the device made it", "replacement", "key", s.newest(name), "--reason",
					"to see whether it left", "--out", t.TempDir()+"/key.p12", "--passphrase-file",
					write(t, t.TempDir()+"/word", "a long word of the harbour"))
			}
			s.ok("device", "edit", name, "--setting", "key_at=service")
			s.comesTo(name+"/web", "sealed", "", "--signer", "bench")
		})
	}
}

// An encryption appliance is replaced as one flow: the request says all that its forms ask for, what stood is
// exported and kept here, the root goes into its trust, the nodes get what was staged, and its own pages by the menu
// of its console. With the same key where the policy says so. The export holds keys: it is given to admins alone,
// with a reason.
func TestAnEncryptionApplianceAsOneFlow(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "encryption-appliance"))
	s.login()
	box, more := webBox(t, standin.Box{Kind: standin.EncryptionAppliance})
	const name = "cipher.gannet-point.tidewrack.example"
	s.addWeb(name, "quick-encryption-appliance", box, more...)
	s.ok("signer", "set", "harbour-ca", "--about", "Harbour Authority", "--field", "email")
	s.fails(1, "the subject lacks the email", "replace", name+"/web", "--signer", "harbour-ca")
	s.ok("site", "add", "Gannet Point")
	s.ok("device", "edit", name, "--site", "Gannet Point")
	s.ok("site", "edit", "Gannet Point", "--email", "harbour-office@tidewrack.example")
	s.ok("replace", name+"/web", "--signer", "harbour-ca")
	id := s.newest(name)
	s.atGate(id, "signer")
	if out := s.ok("replacement", "show", id, "--as", "json"); !strings.Contains(out,
		"emailAddress=harbour-office@tidewrack.example") {
		t.Errorf("the request lacks the mail address:\n%s", out)
	}
	s.ok("replacement", "cancel", id)

	key := func() string {
		t.Helper()
		leaf, err := x509.ParseCertificate(leafAt(t, box.TLSAddr))
		if err != nil {
			t.Fatal(err)
		}
		return string(leaf.RawSubjectPublicKeyInfo)
	}
	before := key()
	for i := range 8 { // the oldest exports go
		if i == 6 {
			s.ok("policy", "set", "device/"+name, "--renewal-key", "same")
		}
		s.ok("replace", name+"/web", "--signer", "bench")
		id = s.newest(name)
		s.rests(id, "sealed")
		if now := key(); (now == before) != (i >= 6) {
			t.Errorf("in round %d the key is the one from before: %v", i, now == before)
		} else {
			before = now
		}
	}
	held, err := box.Holds("/var/web")
	if err != nil || !strings.Contains(fmt.Sprint(held), "BEGIN CERTIFICATE") {
		t.Fatal(err)
	}
	shown := s.ok("replacement", "show", id)
	if !strings.Contains(shown, "kept file    export_file") || strings.Contains(shown, "PRIVATE KEY") {
		t.Errorf("what is kept:\n%s", shown)
	}
	out := t.TempDir() + "/export"
	s.fails(1, "10 to 500", "replacement", "file", id, "export_file", "--reason", "why", "--out", out)
	s.ok("replacement", "file", id, "export_file", "--reason", "to keep it in the vault", "--out", out)
	if text := read(t, out); !strings.HasPrefix(text, "Lumsk export of ") || !strings.Contains(text, "PRIVATE KEY") {
		t.Errorf("it is not what the device gave:\n%.200s", text)
	}
	s.as("operator").fails(1, "admin", "replacement", "file", id, "export_file", "--reason",
		"to keep it in the vault", "--out", out)
	if told := s.ok("audit", "list", "--as", "csv"); !strings.Contains(told, "export the file export_file of "+id) ||
		!strings.Contains(told, "to keep it in the vault") {
		t.Errorf("the audit log:\n%s", told)
	}
	if shown := s.ok("replacement", "show", "r2"); strings.Contains(shown, "kept file") {
		t.Errorf("the eighth export before is still kept:\n%s", shown)
	}
	// A console that speaks another language does not take it: nodes and console serve what they served.
	box.SetFaults(standin.Faults{OtherPrompt: true})
	stood := leafAt(t, box.TLSAddr)
	s.run("", "replace", name+"/web", "--signer", "bench")
	id = s.newest(name)
	if s.rests(id, "reverted", "held"); !strings.Contains(s.ok("replacement", "show", id), "Zertifikat") {
		t.Errorf("it does not say what the console showed:\n%s", s.ok("replacement", "show", id))
	}
	box.SetFaults(standin.Faults{})
	for range 3 {
		if s.rests(id, "reverted", "held") == "reverted" {
			break
		}
		s.run("", "replacement", "revert", id, "--yes")
	}
	if now := leafAt(t, box.TLSAddr); string(now) != string(stood) ||
		string(leafAt(t, box.Hosts("standby").TLSAddr)) != string(stood) {
		t.Errorf("it serves another certificate than before:\n%s", s.ok("replacement", "show", id))
	}
}
