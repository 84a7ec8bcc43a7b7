package e2e

import (
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/device/ssh"
	"freshseal/standin"
)

const vault = "vault.mainquay.tidewrack.example"

func TestThePolicyNearestToADeviceCounts(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	if due := s.ok("due"); !strings.Contains(due, tickets) || strings.Contains(due, vault) ||
		strings.Index(due, "crane") > strings.Index(due, tickets) {
		t.Errorf("what is due, soonest first:\n%s", due)
	} else if places := []int{strings.Index(due, "lines.northholm"), strings.Index(due, "radar"),
		strings.Index(due, "pumps"), strings.Index(due, "crane"), strings.Index(due, tickets),
		strings.Index(due, "portal")}; !slices.IsSorted(places) {
		t.Errorf("a device that lets nobody in once its certificate has expired comes first, then what has "+
			"expired, is faulty, overdue, due, and factory certificates:\n%s", due)
	}
	if near := s.ok("due", "--site", "Northholm"); !strings.Contains(near, tickets) || strings.Contains(near, "crane") {
		t.Errorf("due at Northholm:\n%s", near)
	}
	if out := s.ok("sweep", "--site", "Northholm", "--as", "csv"); !strings.HasSuffix(strings.TrimSpace(out), ",0") ||
		strings.Contains(out, "60,") {
		t.Errorf("the sweep of Northholm: %s", out)
	}
	s.fails(1, "no slot is at", "sweep", "--site", "Atlantis")
	s.fails(1, "from 0 to 3650", "due", "--within", "99999")
	for _, c := range []struct {
		set  []string
		want string
	}{
		{[]string{"fleet", "--renewal", "300"}, "due"},
		{[]string{"device/" + vault, "--renewal", "10"}, "fresh"},
		{[]string{"site/Mainquay", "--require-name", "vault"}, "flawed"},
		{[]string{"device/" + vault, "--require-name", vault}, "fresh"},
		{[]string{"site/Mainquay", "--min-ec", "384"}, "flawed"},
	} {
		s.ok(append([]string{"policy", "set"}, c.set...)...)
		if now := s.show(vault + "/web"); now.Condition != c.want {
			t.Errorf("with %v it is %s, want %s: %+v", c.set, now.Condition, c.want, now.Findings)
		}
	}
	s.fails(1, "must be from 1 to 3650", "policy", "set", "fleet", "--renewal", "0")
	s.fails(1, "no device is called", "policy", "set", "device/nobody", "--renewal", "9")
	// A request asks for what the policy wants.
	if text := s.ok("replace", gate+"/web", "--signer", "bench", "--rehearse"); !strings.Contains(text,
		"DNS.2 = vault") {
		t.Errorf("the required name is not planned:\n%s", text)
	}
}

// Somebody puts another certificate on a box that Fresh Seal has sealed: it is
// seen without asking.
func TestAnUnexpectedCertificateIsSeen(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	old := read(t, filepath.Join(box.Dir, "root", standin.CertificateFile))
	oldKey := read(t, filepath.Join(box.Dir, "root", standin.KeyFile))
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--read-every", "300ms")
	s.login()
	s.addSimulated(name, box, "correct horse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	for file, content := range map[string]string{standin.CertificateFile: old, standin.KeyFile: oldKey} {
		if err := os.WriteFile(filepath.Join(box.Dir, "root", file), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	link, err := ssh.Open(t.Context(), (&net.Dialer{}).DialContext, ssh.Target{Address: box.SSHAddr, User: "keeper",
		Password: "correct horse", HostKey: box.HostKey()})
	if err != nil {
		t.Fatal(err)
	}
	defer link.Close()
	if _, err := link.Exec(t.Context(), "webui reload", nil); err != nil {
		t.Fatal(err)
	}
	if !within(time.Minute, func() bool { return s.show(name+"/web").Condition == "unexpected" }) {
		t.Errorf("it is %s", s.show(name+"/web").Condition)
	}
}
