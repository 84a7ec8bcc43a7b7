package e2e

import (
	"bytes"
	"crypto/tls"
	"maps"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/kinds/site"
	"freshseal/standin/parts"
)

// leafAt is what a box serves at this moment; nil where it serves nothing.
func leafAt(t testing.TB, address string) []byte {
	t.Helper()
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 2 * time.Second}, "tcp", address,
		&tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return nil
	}
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0].Raw
}

// comesTo replaces a slot and sees that it ends in a state, saying why.
func (s *server) comesTo(slot, state, says string, more ...string) {
	s.t.Helper()
	out := s.run("", append([]string{"replace", slot, "--watch"}, more...)...)
	if said := out.stdout + out.stderr; (out.code == 0) != (state == "sealed") || !strings.Contains(said, state) ||
		!strings.Contains(said, says) {
		s.t.Errorf("it ends with %d and says\n%s", out.code, said)
	}
}

// familyFor is a family, or its quick form where the replacement comes to no good end.
func familyFor(family, state string) string {
	if state == "sealed" {
		return family
	}
	return "quick-" + family
}

// A host stands under a manager that signs its certificate itself: nothing is requested, and
// the proof is that the fingerprint changed and that the manager's authority signed it.
func TestAManagerSignsForItsHosts(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "host-under-manager"))
	s.login()
	for _, c := range []struct {
		name        string
		faults      standin.Faults
		state, says string
		changed     bool
	}{
		{name: "renewed", state: "sealed", changed: true},
		{name: "says-so-only", faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "it still serves the old certificate"},
		{name: "signed-by-another", faults: standin.Faults{RollBack: true}, state: "held", says: "did not sign",
			changed: true},
		{name: "busy", faults: standin.Faults{FailTest: true}, state: "reverted", says: "the host is busy"},
		{name: "not-reached", faults: standin.Faults{Silent: true}, state: "held", says: "connect the host to " +
			"its manager"},
		{name: "no-authority", faults: standin.Faults{OtherPrompt: true}, state: "held", says: "holds none"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".mainquay.tidewrack.example"
			host := kindAt(t, standin.Box{}, "127.20.81.1", 0)
			manager := kind(t, standin.Box{Kind: standin.MenuManager, Faults: c.faults,
				Hosts: func(asked string) *standin.Running {
					return map[string]*standin.Running{name: host}[asked]
				}})
			before := leafAt(t, host.TLSAddr)
			sshHost, sshPort, _ := net.SplitHostPort(manager.SSHAddr)
			address, port, _ := net.SplitHostPort(host.TLSAddr)
			family := familyFor("host-under-manager", c.state)
			s.okWith(manager.Password, "device", "add", name, "--address", address, "--slot", "web="+port, "--family",
				family, "--setting", "host="+name,
				"--link-address", sshHost, "--port", sshPort, "--user", manager.User, "--password-file", "-", "--pin",
				manager.HostKey())
			s.comesTo(name+"/web", c.state, c.says, "--one-way")
			if changed := !bytes.Equal(leafAt(t, host.TLSAddr), before); changed != c.changed &&
				c.name != "no-authority" {
				t.Errorf("%s, and the certificate on the wire changed: %v", c.state, changed)
			}
			if c.state != "sealed" {
				return
			}
			// Clients that do not hold the manager's root will warn, and it is said which.
			s.run("", "read", name+"/web")
			shown := s.ok("slot", "show", name+"/web")
			if !strings.Contains(shown, "Pelorus Manager Authority") || !strings.Contains(shown, "flawed") ||
				!strings.Contains(shown, "anchor-unknown") {
				t.Errorf("the slot after it:\n%s", shown)
			}
			kept, err := manager.Holds("/etc/warden")
			if err != nil {
				t.Fatal(err)
			}
			root, _, _ := strings.Cut(kept["/etc/warden/authority.pem"], "-----BEGIN PRIVATE")
			s.ok("trust-group", "add", "fleet", write(t, t.TempDir()+"/root.pem", root))
			s.run("", "read", name+"/web")
			if shown := s.ok("slot", "show", name+"/web"); !strings.Contains(shown, "fresh") {
				t.Errorf("the slot, once its root is held:\n%s", shown)
			}
			if list := s.ok("replacement", "show", "r1"); strings.Contains(list, "bench") {
				t.Errorf("it names a signer:\n%s", list)
			}
		})
	}
	// Whoever asks for what the manager decides is told so, and so is who wants the signer device elsewhere.
	host := kindAt(t, standin.Box{}, "127.20.81.2", 0)
	s.addKind("asked.tidewrack.example", "host-under-manager", host, "--setting", "host=asked")
	s.fails(1, "sign their certificates themselves", "replace", "asked.tidewrack.example/web", "--signer", "bench",
		"--rehearse")
	s.fails(1, "decide themselves on the key type", "replace", "asked.tidewrack.example/web", "--key", "rsa-2048",
		"--rehearse")
	s.fails(1, "decide themselves on the names", "replace", "asked.tidewrack.example/web", "--name",
		"other.tidewrack.example", "--rehearse")
	s.fails(1, "cannot be undone", "replace", "asked.tidewrack.example/web")
	s.fails(1, "is the only proof", "replace", "asked.tidewrack.example/web", "--one-way", "--unseen")
	s.addKind("plain.tidewrack.example", "web-files-ssh", host)
	s.fails(1, "only for families whose devices sign", "replace", "plain.tidewrack.example/web", "--signer", "device",
		"--rehearse")
}

// A collector's service is stopped, its two files are copied into a dated folder and
// replaced with their modes and owner, and it is started again whatever happens.
func TestACollectorIsStoppedAndStarted(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "collector"))
	s.login()
	for _, c := range []struct {
		name        string
		faults      standin.Faults
		state, says string
	}{
		{name: "tally", state: "sealed"},
		{name: "tally-cannot-start", faults: standin.Faults{FailTest: true}, state: "reverted", says: "cannot start"},
		{name: "tally-full", faults: standin.Faults{DiskFull: true}, state: "reverted", says: "replace the key"},
		{name: "tally-read-only", faults: standin.Faults{ReadOnly: true}, state: "reverted", says: "replace the key"},
		{name: "tally-does-not-stop", faults: standin.Faults{StuckStop: true}, state: "reverted",
			says: "the service does not stop"},
		{name: "tally-without-intermediate", faults: standin.Faults{LeafAlone: true}, state: "reverted", says: "chain"},
		{name: "tally-never-back", faults: standin.Faults{NeverBack: true}, state: "reverted", says: "still says"},
		{name: "tally-keeps-serving", faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "instead of the new leaf"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".saltmere.tidewrack.example"
			box := kind(t, standin.Box{Kind: standin.Collector, Faults: c.faults, Restart: 300 * time.Millisecond})
			delivered, err := box.Holds("/srv/tally")
			if err != nil {
				t.Fatal(err)
			}
			before := leafAt(t, box.TLSAddr)
			family := familyFor("collector", c.state)
			s.addKind(name, family, box)
			s.comesTo(name+"/web", c.state, c.says, "--signer", "bench")
			if parts.IsOff(box) {
				t.Error("it is left stopped")
			}
			now, err := box.Holds("/srv/tally")
			if err != nil {
				t.Fatal(err)
			}
			same := now["/srv/tally/tls/server.key"] == delivered["/srv/tally/tls/server.key"] &&
				bytes.Equal(leafAt(t, box.TLSAddr), before)
			if same == (c.state == "sealed") {
				t.Errorf("%s, and key and certificate are those from before: %v", c.state, same)
			}
			// The dated copies are the administrator's and stay.
			dated := regexp.MustCompile(`^/srv/tally/copies/\d{4}-\d\d-\d\d-r\d+/server\.(crt|key)$`)
			copies := 0
			for file, content := range now {
				if dated.MatchString(file) &&
					content == delivered["/srv/tally/tls/"+file[strings.LastIndex(file, "/")+1:]] {
					copies++
				}
			}
			if copies != 2 {
				t.Errorf("it has %d copies of the delivered files", copies)
			}
		})
	}
}

// A server's site is edited, enabled, tested and read again; what its own test does not see is seen
// on the wire, and its configuration is put back byte by byte.
func TestASiteIsEditedAndEnabled(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-site-ssh"))
	s.login()
	for _, c := range []webCase{
		{name: "site", state: "sealed"},
		{name: "site-test-fails", faults: standin.Faults{FailTest: true}, state: "reverted",
			says: "the certificate is not understood"},
		{name: "site-keeps-serving", faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "instead of the new leaf"},
		{name: "site-without-intermediate", faults: standin.Faults{LeafAlone: true}, state: "reverted", says: "chain"},
		{name: "site-never-back", faults: standin.Faults{NeverBack: true}, state: "reverted", says: "still says"},
		{name: "site-full", faults: standin.Faults{DiskFull: true}, state: "reverted", says: "put the key in place"},
		{name: "site-read-only", faults: standin.Faults{ReadOnly: true}, state: "reverted",
			says: "put the key in place"},
		{name: "site-lost-upload", faults: standin.Faults{DropUpload: true}, state: "sealed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			box := kind(t, standin.Box{Kind: standin.SiteServer, Faults: c.faults, Restart: 200 * time.Millisecond})
			before := leafAt(t, box.TLSAddr)
			delivered, err := box.Holds("/etc/site")
			if err != nil {
				t.Fatal(err)
			}
			more := []string{}
			for name, value := range site.SiteSettings {
				more = append(more, "--setting", name+"="+value)
			}
			name := c.name + ".mainquay.tidewrack.example"
			s.addKind(name, familyFor("web-site-ssh", c.state), box, more...)
			s.comesTo(name+"/web", c.state, c.says, "--signer", "bench")
			if same := bytes.Equal(leafAt(t, box.TLSAddr), before); same == (c.state == "sealed") {
				t.Errorf("%s, and the certificate on the wire is the one from before: %v", c.state, same)
			}
			if c.state == "sealed" {
				s.ok("replacement", "revert", s.newest(name), "--yes")
			}
			if now, err := box.Holds("/etc/site"); err != nil || !maps.Equal(now, delivered) {
				t.Errorf("the site is not as it was delivered: %v %v", now, err)
			}
		})
	}
}

// An appliance with a staged change applies it from its menu, and puts back what was before.
func TestAMenuAppliesWhatWasStaged(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "staged-by-menu"))
	s.login()
	for _, c := range []struct {
		name        string
		faults      standin.Faults
		state, says string
	}{
		{name: "vault", state: "sealed"},
		{name: "vault-refuses", faults: standin.Faults{FailTest: true}, state: "reverted",
			says: "does not take what is staged"},
		{name: "vault-silent", faults: standin.Faults{Silent: true}, state: "held", says: "did not appear"},
		{name: "vault-asks-otherwise", faults: standin.Faults{OtherPrompt: true}, state: "held",
			says: "Another administrator"},
		{name: "vault-keeps-serving", faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "instead of the new leaf"},
		{name: "vault-without-intermediate", faults: standin.Faults{LeafAlone: true}, state: "reverted", says: "chain"},
		{name: "vault-never-back", faults: standin.Faults{NeverBack: true}, state: "reverted", says: "still says"},
		{name: "vault-full", faults: standin.Faults{DiskFull: true}, state: "reverted", says: "stage"},
		{name: "vault-lost-upload", faults: standin.Faults{DropUpload: true}, state: "sealed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".mainquay.tidewrack.example"
			box := kind(t, standin.Box{Kind: standin.StagedVault, Faults: c.faults, Restart: 300 * time.Millisecond})
			before := leafAt(t, box.TLSAddr)
			family := familyFor("staged-by-menu", c.state)
			s.addKind(name, family, box)
			s.comesTo(name+"/web", c.state, c.says, "--signer", "bench")
			if same := bytes.Equal(leafAt(t, box.TLSAddr), before); same == (c.state == "sealed") {
				t.Errorf("%s, and the certificate on the wire is the one from before: %v", c.state, same)
			}
			left, err := box.Holds("/stage")
			if err != nil {
				t.Fatal(err)
			}
			if _, lies := left["/stage/console.key"]; lies && c.state != "held" {
				t.Errorf("the key lies in the stage after it: %v", left)
			}
		})
	}
}

// A dashboard of three nodes: one key and request for all names, four pieces, the connection
// lost when they are taken, and the nodes one after another. In a lab there is one node.
func TestADashboardOfOneOrThreeNodes(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "dashboard-of-nodes"))
	s.login()
	for i, c := range []struct {
		name        string
		nodes       int
		faults      standin.Faults
		state, says string
	}{
		{name: "lab", state: "sealed"},
		{name: "three", nodes: 2, state: "sealed"},
		{name: "refused", nodes: 2, faults: standin.Faults{FailTest: true}, state: "reverted", says: "error 1107"},
		{name: "not-carried", nodes: 2, faults: standin.Faults{LeafAlone: true}, state: "reverted",
			says: "instead of the new leaf"},
		{name: "keeps-serving", nodes: 2, faults: standin.Faults{KeepServing: true}, state: "reverted",
			says: "instead of the new leaf"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".mainquay.tidewrack.example"
			nodes := map[string]*standin.Running{}
			first := kindAt(t, standin.Box{Kind: standin.Dashboard, Faults: c.faults, Restart: 300 * time.Millisecond,
				Hosts: func(address string) *standin.Running {
					return nodes[address]
				}}, "127.20.82."+string(rune('1'+i)), 0)
			_, port, _ := net.SplitHostPort(first.TLSAddr)
			more := []string{}
			for n := range c.nodes {
				address := "127.20." + string(rune('4'+n)) + string(rune('1'+i)) + ".9"
				nodes[address] = kindAt(t, standin.Box{}, address, number(t, port))
				if nodes[address].TLSAddr != address+":"+port {
					t.Skip("this system has one loopback address")
				}
				more = append(more, "--node", "n"+string(rune('2'+n))+"."+name+"="+address)
			}
			before := map[string][]byte{first.TLSAddr: leafAt(t, first.TLSAddr)}
			for _, node := range nodes {
				before[node.TLSAddr] = leafAt(t, node.TLSAddr)
			}
			family := familyFor("dashboard-of-nodes", c.state)
			s.addKind(name, family, first, more...)
			s.comesTo(name+"/web", c.state, c.says, "--signer", "bench")
			new := leafAt(t, first.TLSAddr)
			for address, old := range before {
				now := leafAt(t, address)
				if c.state == "sealed" && !bytes.Equal(now, new) || bytes.Equal(now, old) == (c.state == "sealed") {
					t.Errorf("%s, and %s serves something else", c.state, address)
				}
			}
			if c.state == "sealed" && c.nodes > 0 {
				if shown := s.ok("slot", "show", name+"/web"); !strings.Contains(shown, "n3."+name) {
					t.Errorf("the names of the nodes are not in the certificate:\n%s", shown)
				}
			}
		})
	}
}

// The shell of a host is off. A person switches it on first, and off again on every way out,
// after the host has left maintenance.
func TestAShellIsSwitchedOnAndOffByHand(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "bare-host"))
	s.login()
	for _, c := range []struct {
		name, family string
		faults       standin.Faults
		state        string
	}{
		{"by-hand", "bare-host", standin.Faults{}, "sealed"},
		{"by-hand-and-back", "quick-bare-host", standin.Faults{KeepServing: true}, "reverted"},
		{"given-up", "bare-host", standin.Faults{}, "cancelled"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := *s
			s.t = t
			name := c.name + ".mainquay.tidewrack.example"
			box := kind(t, standin.Box{Kind: standin.BareHost, Faults: c.faults, Restart: 200 * time.Millisecond,
				ShellOff: true})
			s.addKind(name, c.family, box, "--setting", "shell_switch=the console of the host, menu 3")
			before := leafAt(t, box.TLSAddr)
			var begun struct{ ID string }
			s.json(&begun, "replace", name+"/web", "--signer",
				map[bool]string{true: "desk", false: "bench"}[c.state == "cancelled"])
			task := func(what string) string {
				var all []struct{ ID, Device, Name, Text string }
				id := ""
				if !within(time.Minute, func() bool {
					s.json(&all, "task", "list")
					for _, each := range all {
						if each.Device == name && each.Name == what && strings.Contains(each.Text, "menu 3") {
							id = each.ID
						}
					}
					return id != ""
				}) {
					t.Fatalf("no task %q: %v", what, all)
				}
				return id
			}
			on := task("switch the shell on")
			box.SwitchShell(true)
			s.run("", "task", "answer", on)
			if c.state == "cancelled" {
				s.await(begun.ID, "waiting")
				s.run("", "replacement", "cancel", begun.ID)
			}
			off := task("switch the shell off")
			if box.InMaintenance() {
				t.Error("the shell is to be switched off while the host is in maintenance")
			}
			box.SwitchShell(false)
			s.run("", "task", "answer", off)
			s.await(begun.ID, c.state)
			if same := bytes.Equal(leafAt(t, box.TLSAddr), before); same == (c.state == "sealed") {
				t.Errorf("%s, and the certificate is the one from before: %v", c.state, same)
			}
			if box.ShellOn() {
				t.Error("the shell is on")
			}
			if c.state != "reverted" {
				return
			}
			// What is kept for another try is cleared: a person lets Fresh Seal in once more, and out.
			s.fails(1, "a person must let Fresh Seal onto the device first", "replacement", "clear", begun.ID)
			on = task("switch the shell on")
			s.fails(1, "a person must do the task "+on+" first", "replacement", "clear", begun.ID)
			box.SwitchShell(true)
			s.run("", "task", "answer", on)
			off = task("switch the shell off")
			if held, err := box.Holds("/var/lib/freshseal"); err != nil || len(held) > 0 {
				t.Errorf("left on the host: %v %v", held, err)
			}
			box.SwitchShell(false)
			s.run("", "task", "answer", off)
			s.fails(1, "has nothing to clear", "replacement", "clear", begun.ID)
		})
	}
}

// A plant controller has an address for a name. When the address changes, its certificate is
// flawed, and the finding says why and what to do; it is replaced, and fresh again.
func TestAnAddressThatChangesIsAFinding(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := kindAt(t, standin.Box{Kind: standin.PlantRoom, Restart: 200 * time.Millisecond}, "127.20.84.1", 0)
	_, port, _ := net.SplitHostPort(box.TLSAddr)
	_, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	s.addKind("boiler", "plant-controller", box, "--server-name", "127.20.84.1")
	s.comesTo("boiler/web", "sealed", "", "--signer", "bench")
	if now := s.show("boiler/web"); now.Condition != "fresh" {
		t.Fatalf("%+v", now)
	}
	relay(t, "127.20.84.2:"+port, to(box.TLSAddr))
	relay(t, "127.20.84.2:"+sshPort, to(box.SSHAddr))
	s.okWith(box.Password, "device", "edit", "boiler", "--address", "127.20.84.2", "--password-file", "-", "--pin",
		box.HostKey())
	s.run("", "read", "boiler/web")
	shown := s.ok("slot", "show", "boiler/web")
	for _, want := range []string{"flawed", "name-missing", "127.20.84.2", "127.20.84.1", "request a new certificate"} {
		if !strings.Contains(shown, want) {
			t.Errorf("the finding does not say %q:\n%s", want, shown)
		}
	}
	s.comesTo("boiler/web", "sealed", "", "--signer", "bench")
	if now := s.show("boiler/web"); now.Condition != "fresh" {
		t.Errorf("%+v", now)
	}
}

// A host that takes a new certificate only when it is rebooted: it is rebooted in maintenance, waited for until it
// runs a second time, and taken out of maintenance. So it is on the way back. Twice; then the host stays as it was,
// and what it cannot say stops the work before it is rebooted.
func TestAHostIsRebootedWhereItWantsThat(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "bare-host"))
	s.login()
	box := kind(t, standin.Box{Kind: standin.BareHost, Restart: 500 * time.Millisecond, OnlyReboots: true})
	const name = "host-9.mainquay.tidewrack.example"
	s.addKind(name, "quick-bare-host", box)
	// restarted agents are not enough
	s.comesTo(name+"/web", "reverted", "instead of the new leaf", "--signer", "bench")
	s.ok("device", "edit", name, "--setting", "reboot=reboot")
	for range 2 {
		before := leafAt(t, box.TLSAddr)
		s.ok("replace", name+"/web", "--signer", "bench")
		id := s.newest(name)
		s.rests(id, "sealed")
		if box.InMaintenance() || string(leafAt(t, box.TLSAddr)) == string(before) {
			t.Fatalf("in maintenance: %v:\n%s", box.InMaintenance(), s.ok("replacement", "show", id))
		}
		s.ok("replacement", "revert", id, "--yes")
		if s.rests(id, "reverted", "held") != "reverted" || box.InMaintenance() ||
			string(leafAt(t, box.TLSAddr)) != string(before) {
			t.Fatalf("it is not as before, in maintenance: %v\n%s", box.InMaintenance(),
				s.ok("replacement", "show", id))
		}
	}
	s.ok("device", "edit", name, "--setting", "boot=cat /etc/nothing")
	before := leafAt(t, box.TLSAddr)
	s.run("", "replace", name+"/web", "--signer", "bench")
	id := s.newest(name)
	if s.rests(id, "reverted", "held"); box.InMaintenance() || string(leafAt(t, box.TLSAddr)) != string(before) ||
		!strings.Contains(s.ok("replacement", "show", id), "it cannot be seen that it changes") {
		t.Errorf("in maintenance: %v\n%s", box.InMaintenance(), s.ok("replacement", "show", id))
	}
}
