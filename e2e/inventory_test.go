package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

func TestAFleetComesInAsAFile(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	file := func(text string) string { return write(t, filepath.Join(t.TempDir(), "fleet.csv"), text) }
	key := "ssh-ed25519 SHA256:" + strings.Repeat("A", 43)
	good := "\xef\xbb\xbfHostname;address;site;tags;family;ssh:user;ssh:password;ssh:pin;setting:reload\r\n" +
		"gate-7.mainquay.tidewrack.example;192.0.2.77;Mainquay;edge firewall;web-files-ssh;keeper;correct horse;" + key + ";webui reload\r\n" +
		"camera.saltmere.tidewrack.example;198.51.100.9;Saltmere;;;;;;\r\n"
	wrong := good + "two words;198.51.100.10;Saltmere;;;;;;\r\nlamp.saltmere.tidewrack.example;not an address;;;;;;;\r\ncamera.saltmere.tidewrack.example;198.51.100.9;;;;;;;\r\n"

	s.fails(1, "column \"Hostname\" is unknown", "device", "import", file(good))
	if out := s.ok("device", "import", file(good), "--column", "name=Hostname", "--dry-run"); !strings.Contains(out, "nothing was changed") {
		t.Error(out)
	}
	r := s.fails(3, "nothing was changed: 3 lines wrong", "device", "import", file(wrong), "--column", "name=Hostname", "--as", "table")
	for _, want := range []string{"line 4, two words: ", "line 5, lamp.saltmere", "line 6, camera.saltmere.tidewrack.example: line 3 already adds it"} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("it does not say %q:\n%s", want, r.stdout)
		}
	}
	if list := s.ok("device", "list", "--as", "csv"); strings.Count(list, "\n") != 2 { // the head and the service itself
		t.Errorf("something was added:\n%s", list)
	}
	s.fails(3, "2 devices added", "device", "import", file(wrong), "--column", "name=Hostname", "--partial")
	if again := s.ok("device", "import", file(good), "--column", "name=Hostname"); !strings.Contains(again, "2 there already") {
		t.Errorf("a second time:\n%s", again)
	}

	s.ok("device", "edit", "gate-7.mainquay.tidewrack.example", "--owner", "harbour office", "--tag", "edge", "--setting", "as=sudo -n")
	s.fails(1, "given for another address", "device", "edit", "gate-7.mainquay.tidewrack.example", "--address", "192.0.2.78")
	s.okWith("x", "device", "edit", "gate-7.mainquay.tidewrack.example", "--address", "192.0.2.78", "--password-file", "-")
	s.fails(1, "has no setting", "device", "edit", "gate-7.mainquay.tidewrack.example", "--setting", "reloda=x")
	shown := s.ok("device", "show", "gate-7.mainquay.tidewrack.example")
	for _, want := range []string{"harbour office", "sudo -n", "webui reload", "192.0.2.78:443"} {
		if !strings.Contains(shown, want) {
			t.Errorf("after the change it lacks %q:\n%s", want, shown)
		}
	}

	// What goes out comes in elsewhere, but for the secrets.
	export := s.ok("device", "export")
	if strings.Contains(export, "correct horse") || strings.Count(export, "\n") != 3 {
		t.Errorf("export:\n%s", export)
	}
	other := start(t, "serve", t.TempDir())
	other.login()
	other.fails(3, "neither a password nor a key", "device", "import", file(export))

	// A big one is quick enough not to be noticed, and none of it is half done.
	var many strings.Builder
	many.WriteString("name,address\n")
	for i := range 3000 {
		fmt.Fprintf(&many, "sensor-%d.gannet-point.tidewrack.example,203.0.113.%d\n", i, i%250+1)
	}
	other.ok("device", "import", file(many.String()))
	if list := other.ok("slot", "list", "--as", "csv"); strings.Count(list, "\n") != 3002 {
		t.Errorf("%d slots", strings.Count(list, "\n")-1)
	}
}

// A device with several slots survives export and import.
func TestSeveralSlotsSurviveExportAndImport(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	two := "vault.mainquay.tidewrack.example"
	s.ok("device", "add", two, "--address", "192.0.2.14", "--site", "Mainquay", "--slot", "web=443", "--slot", "ldap=192.0.2.15:636", "--owner", "=1+1", "--notes", "@first\n'-x")
	if out := s.ok("device", "export"); !strings.Contains(out, ",'=1+1,") || !strings.Contains(out, "'@first\n") {
		t.Errorf("a spreadsheet would compute this:\n%s", out)
	}
	file := filepath.Join(t.TempDir(), "fleet.csv")
	write(t, file, s.ok("device", "export"))
	var before, after struct {
		Owner, Notes string
		Slots        []struct {
			Name, Address string
			Port          int
		}
	}
	s.json(&before, "device", "show", two)
	s.ok("device", "remove", two, "--yes")
	s.ok("device", "import", file)
	s.json(&after, "device", "show", two)
	if len(after.Slots) != 2 || fmt.Sprint(before) != fmt.Sprint(after) {
		t.Errorf("it was %+v and is %+v", before, after)
	}
}
