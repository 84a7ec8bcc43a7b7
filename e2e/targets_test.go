package e2e

import (
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"testing"

	"freshseal/standin"
)

// relay listens and hands every connection on to where it is told: a second address
// of a box, or a node of it.
func relay(t *testing.T, listen string, to func() string) (port string) {
	t.Helper()
	l, err := net.Listen("tcp", listen)
	if err != nil {
		t.Fatal(err)
	}
	var open sync.WaitGroup
	t.Cleanup(func() { l.Close(); open.Wait() })
	open.Go(func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer near.Close()
				far, err := net.Dial("tcp", to())
				if err != nil {
					return
				}
				defer far.Close()
				open.Go(func() { io.Copy(far, near); far.Close() })
				io.Copy(near, far)
			})
		}
	})
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return port
}

func to(address string) func() string { return func() string { return address } }

type targeted struct {
	ID, State, Why string
	Targets        []struct {
		Slot      string
		OldSHA256 string `json:"old_sha256"`
		Addresses []struct {
			Address string
			Port    int
			Node    string
		}
	}
	Plan struct{ Names []string }
}

// A slot may be served at several addresses: one that serves something else is found,
// a replacement is proven at each of them, and one that stays behind undoes it.
func TestASlotWithSeveralAddresses(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-files-ssh"))
	s.login()
	box, other := simulated(t, standin.Box{}), simulated(t, standin.Box{})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, tlsPort, _ := net.SplitHostPort(box.TLSAddr)
	var lock sync.Mutex
	behind := other.TLSAddr
	second := relay(t, "127.20.78.1:0", func() string { lock.Lock(); defer lock.Unlock(); return behind })
	s.okWith("correct horse", "device", "add", name, "--address", host, "--family", "quick-web-files-ssh", "--user",
		"keeper", "--port", sshPort,
		"--password-file", "-", "--pin", box.HostKey(), "--slot", "web="+host+":"+tlsPort+","+host+":"+second)
	if out := s.ok("slot", "show", name+"/web"); !strings.Contains(out, "address-differs") ||
		!strings.Contains(out, host+":"+second) {
		t.Errorf("another certificate at the second address is not found:\n%s", out)
	}
	// The second address stays behind: nothing is sealed.
	before := s.show(name + "/web")
	s.fails(1, host+":"+second+" serves", "replace", name+"/web", "--signer", "bench", "--watch")
	s.await("r1", "reverted")
	if after := s.show(name + "/web"); after.Certificate.SHA256 != before.Certificate.SHA256 {
		t.Errorf("after the revert: %+v", after)
	}
	// Both are the same box now.
	lock.Lock()
	behind = box.TLSAddr
	lock.Unlock()
	s.ok("replace", name+"/web", "--signer", "bench")
	s.await("r2", "sealed")
	var r targeted
	s.json(&r, "replacement", "show", "r2")
	if len(r.Targets) != 1 || len(r.Targets[0].Addresses) != 2 || r.Targets[0].OldSHA256 != before.Certificate.SHA256 {
		t.Errorf("the targets: %+v", r.Targets)
	}
	if out := s.ok("slot", "show", name+"/web"); strings.Contains(out, "address-differs") {
		t.Errorf("after the seal:\n%s", out)
	}
	// An export brings the addresses along.
	if out := s.ok("device", "export"); !strings.Contains(out, host+":"+second) || !strings.Contains(out, "ssh:pin") {
		t.Error(out)
	}
}

// One replacement gives several slots of a device the same certificate, with the
// names of all, and puts each back.
func TestSeveralSlotsGetOneCertificate(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, tlsPort, _ := net.SplitHostPort(box.TLSAddr)
	s.okWith("correct horse", "device", "add", name, "--address", host, "--family", "web-files-ssh", "--user",
		"keeper", "--port", sshPort,
		"--password-file", "-", "--pin", box.HostKey(), "--slot", "web="+tlsPort, "--slot",
		"eap="+relay(t, "127.20.78.1:0", to(box.TLSAddr)))
	s.fails(1, "named twice", "replace", name+"/web,web", "--signer", "bench")
	s.fails(1, "there is no slot", "replace", name+"/web,ldap", "--signer", "bench")
	if out := s.ok("replace", name+"/web,eap", "--signer", "bench", "--rehearse"); !strings.Contains(out, "eap at "+
		host) {
		t.Error(out)
	}
	before := s.show(name + "/eap")
	s.ok("replace", name+"/web,eap", "--signer", "bench")
	s.await("r1", "sealed")
	web, eap := s.show(name+"/web"), s.show(name+"/eap")
	if web.Certificate.SHA256 != eap.Certificate.SHA256 || web.Condition != "fresh" || eap.Condition != "fresh" {
		t.Errorf("web is %s, eap is %s", web.Condition, eap.Condition)
	}
	var of []targeted
	s.json(&of, "replacement", "list", "--device", name)
	if len(of) != 1 || len(of[0].Targets) != 2 {
		t.Errorf("the second slot's replacements: %+v", of)
	}
	s.ok("replacement", "revert", "r1", "--yes")
	s.await("r1", "reverted")
	if after := s.show(name + "/eap"); after.Certificate.SHA256 != before.Certificate.SHA256 ||
		after.Condition != "factory" {
		t.Errorf("eap after the revert: %+v", after)
	}
}

// The nodes of a device get the certificate at the stage mirror, are proven there, and
// what a node does not serve stops the seal.
func TestNodesAreProvenAfterTheMirror(t *testing.T) {
	t.Parallel()
	b, s, at := realFamily(t, "  activate:\n"+putBoth+"    - {step: reload, run: \"{{reload}}\", undo: again}\n"+
		"  mirror:\n    - {step: carry over, run: \"{{tool}} {{item}}\", each: nodes, undo: nothing}\n")
	old := simulated(t, standin.Box{})
	stuck := true
	var lock sync.Mutex
	relay(t, "127.20.78.2:"+b.webPort, func() string { // a node is read at the slot's port
		lock.Lock()
		defer lock.Unlock()
		if _, err := os.Stat(at("mirrored")); err == nil && !stuck {
			return net.JoinHostPort(b.address, b.webPort)
		}
		return old.TLSAddr
	})
	script(t, at("tool"), "echo $1 >> "+at("mirrored"))
	s.ok("device", "edit", realBox, "--node", "north=127.20.78.2")
	s.fails(1, "north (127.20.78.2:"+b.webPort+") serves", "replace", realBox+"/web", "--signer", "bench", "--watch")
	s.await("r1", "reverted")
	if got := read(t, at("mirrored")); got != "127.20.78.2\n" {
		t.Errorf("the step of the mirror was carried out for %q", got)
	}
	lock.Lock()
	stuck = false
	lock.Unlock()
	os.Remove(at("mirrored"))
	s.ok("replace", realBox+"/web", "--signer", "bench")
	s.await("r2", "sealed")
	if out := s.ok("slot", "show", realBox+"/web"); strings.Contains(out, "address-differs") ||
		!strings.Contains(out, "north (127.20.78.2") {
		t.Error(out)
	}
}
