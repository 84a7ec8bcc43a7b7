package e2e

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/standin/daemon"
)

func TestAFleetComesInAsAFile(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	file := func(text string) string { return write(t, filepath.Join(t.TempDir(), "fleet.csv"), text) }
	key := "ssh-ed25519 SHA256:" + strings.Repeat("A", 43)
	good := "\xef\xbb\xbfHostname;address;site;tags;family;ssh:user;ssh:password;ssh:pin;setting:reload\r\n" +
		"gate-7.mainquay.tidewrack.example;192.0.2.77;Mainquay;edge firewall;web-files-ssh;keeper;correct horse;" +
		key + ";webui reload\r\n" +
		"camera.saltmere.tidewrack.example;198.51.100.9;Saltmere;;;;;;\r\n"
	wrong := good + "two words;198.51.100.10;Saltmere;;;;;;\r\nlamp.saltmere.tidewrack.example;not an " +
		"address;;;;;;;\r\ncamera.saltmere.tidewrack.example;198.51.100.9;;;;;;;\r\n"

	s.fails(1, "column \"Hostname\" is unknown", "device", "import", file(good))
	if out := s.ok("device", "import", file(good), "--column", "name=Hostname", "--dry-run"); !strings.Contains(out,
		"nothing was changed") {
		t.Error(out)
	}
	r := s.fails(3, "nothing was changed: 3 lines wrong", "device", "import", file(wrong), "--column",
		"name=Hostname", "--as", "table")
	for _, want := range []string{"line 4, two words: ", "line 5, lamp.saltmere",
		"line 6, camera.saltmere.tidewrack.example: line 3 says another "} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("it does not say %q:\n%s", want, r.stdout)
		}
	}
	// the head and the service itself
	if list := s.ok("device", "list", "--as", "csv"); strings.Count(list, "\n") != 2 {
		t.Errorf("something was added:\n%s", list)
	}
	s.fails(3, "2 devices added", "device", "import", file(wrong), "--column", "name=Hostname", "--partial")
	if again := s.ok("device", "import", file(good), "--column", "name=Hostname"); !strings.Contains(again,
		"the inventory is as the file says") {
		t.Errorf("a second time:\n%s", again)
	}

	s.ok("device", "edit", "gate-7.mainquay.tidewrack.example", "--owner", "harbour office", "--tag", "edge",
		"--setting", "as=sudo -n")
	s.fails(1, "given for another address", "device", "edit", "gate-7.mainquay.tidewrack.example", "--address",
		"192.0.2.78")
	s.okWith("x", "device", "edit", "gate-7.mainquay.tidewrack.example", "--address", "192.0.2.78", "--password-file",
		"-")
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
	s.ok("device", "add", two, "--address", "192.0.2.14", "--site", "Mainquay", "--slot", "web=443", "--slot",
		"ldap=192.0.2.15:636", "--owner", "=1+1", "--notes", "@first\n'-x")
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

// A spreadsheet stays the source: what it says again is shown before it is done, done all or not at all, and the
// second time changes nothing. A workbook says the same as CSV.
func TestASpreadsheetStaysTheSource(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	dir := t.TempDir()
	file := func(name, text string) string { return write(t, filepath.Join(dir, name), text) }
	head := "name,address,site,owner,tags,notes,slot,port,protocol,server_name,slot_more,nodes\n"
	s.ok("device", "import", file("one.csv", head+
		"gate.tidewrack.example,192.0.2.7,Mainquay,harbour office,edge,by the door,,,,,,\n"+
		"vault.tidewrack.example,192.0.2.8,Mainquay,,,,web,443,,,,\n"+
		"vault.tidewrack.example,192.0.2.8,Mainquay,,,,ldap,636,ldaps,,,\n"))
	two := file("two.csv", head+
		"gate.tidewrack.example,192.0.2.9,Saltmere,,-,=1+1,,8443,,-,192.0.2.19:8443,"+
		"a=192.0.2.71\n"+ // owner stays, tags go
		"vault.tidewrack.example,,,,,,imap,993,,,,\n"+ // a further slot; all else stays
		"lamp.tidewrack.example,192.0.2.10,,,,,,,,,,\n")
	before := s.ok("device", "export")
	shown := s.ok("device", "import", two, "--dry-run")
	for _, want := range []string{`address: "192.0.2.7" → "192.0.2.9"`, `site: "Mainquay" → "Saltmere"`,
		`tags: "edge" → ""`, `notes: "by the door" → "=1+1"`, `node a: "" → "192.0.2.71"`,
		`slot web address: "192.0.2.7:443" → "192.0.2.9:8443"`, `slot web server_name: "gate.tidewrack.example" → ""`,
		`slot imap: "" → "192.0.2.8:993"`, "would add lamp.tidewrack.example", "1 line to add, 2 to change, 0 the " +
			"same, 0 wrong"} {
		if !strings.Contains(shown, want) {
			t.Errorf("the preview does not say %q:\n%s", want, shown)
		}
	}
	if strings.Contains(shown, "owner") || s.ok("device", "export") != before {
		t.Errorf("the preview changes something, or an empty cell does:\n%s", shown)
	}
	wrong := file("wrong.csv", read(t, two)+
		"gate.tidewrack.example,192.0.2.9,Saltmere,,-,=1+1,web,,,,,a=192.0.2.71\n"+
		"broken.tidewrack.example,192.0.2.11,,,,,,70000,,,,\n")
	if r := s.fails(3, "nothing was changed: 2 lines wrong", "device", "import", wrong); !strings.Contains(r.stdout,
		"line 2 already has this device and slot") || s.ok("device", "export") != before {
		t.Errorf("half of it was done: %s", r.stdout)
	}
	s.ok("device", "import", two)
	after := s.ok("device", "export")
	if again := s.ok("device", "import", two); !strings.Contains(again, "as the file says") ||
		s.ok("device", "export") != after {
		t.Errorf("a second time: %s", again)
	}
	if entry := s.ok("audit", "list", "--as", "json"); !strings.Contains(entry,
		`gate.tidewrack.example site: \"Mainquay\" → \"Saltmere\"`) {
		t.Error("the audit log does not say what an import changed")
	}

	// What an export says, an import finds as it is: as CSV, and as a workbook.
	book := filepath.Join(dir, "fleet.xlsx")
	s.ok("device", "export", "--out", book)
	for _, exported := range []string{file("out.csv", after), book} {
		if again := s.ok("device", "import", exported); !strings.Contains(again, "as the file says") {
			t.Errorf("%s: %s", exported, again)
		}
	}
	other := start(t, "serve", t.TempDir())
	other.login()
	other.ok("device", "import", book)
	if got := other.ok("device", "export"); got != after {
		t.Errorf("by a workbook came\n%s\nof\n%s", got, after)
	}

	// Books that are none, that are too large when they are unpacked, and sheets that are not there.
	s.fails(1, "has no sheet", "device", "import", book, "--sheet", "nobody")
	s.fails(1, "the workbook cannot be read", "device", "import", file("torn.xlsx", read(t, book)[:2000]))
	s.fails(1, "the workbook cannot be read", "device", "import", bomb(t, filepath.Join(dir, "bomb.xlsx"), book))
	s.fails(1, "two columns are name", "device", "import", file("twice.csv", "name,Name\n"))
}

// A kill in the middle of an import leaves all of it or nothing, and the file is imported again as if nothing had been.
func TestAnImportIsAllOrNothingAfterAKill(t *testing.T) {
	t.Parallel()
	dir, listen := t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", dir, listen)
	s.login()
	var many strings.Builder
	many.WriteString("name,address\n")
	for i := range 4000 {
		fmt.Fprintf(&many, "sensor-%d.gannet-point.tidewrack.example,203.0.113.%d\n", i, i%250+1)
	}
	file := write(t, filepath.Join(t.TempDir(), "fleet.csv"), many.String())
	before, after := 0, 0
	for wait := 200 * time.Millisecond; after == 0 && wait < 20*time.Second; wait += 700 * time.Millisecond {
		done := make(chan struct{})
		go func() { s.run("", "device", "import", file); close(done) }()
		time.Sleep(wait)
		s.kill()
		<-done
		s = startAt(t, "serve", dir, listen)
		s.login()
		switch n := strings.Count(s.ok("device", "list", "--as", "csv"), "\n") - 2; n {
		case 0:
			before++
		case 4000:
			after++
		default:
			t.Fatalf("%d of 4000 devices are there", n)
		}
	}
	if before == 0 {
		t.Log("every kill came too late to be in the middle")
	}
	if again := s.ok("device", "import", file); !strings.Contains(again, "the inventory is as the file says") {
		t.Error(again)
	}
}

// bomb is a workbook whose sheet is 160 MB once it is unpacked.
func bomb(t *testing.T, path, like string) string {
	t.Helper()
	from, err := zip.OpenReader(like)
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	out, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	w := zip.NewWriter(out)
	for _, f := range from.File {
		if strings.Contains(f.Name, "worksheets/") {
			part, err := w.Create(f.Name)
			if err != nil {
				t.Fatal(err)
			}
			io.WriteString(part,
				`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>`)
			blanks := bytes.Repeat([]byte(" "), 1<<20)
			for range 160 {
				part.Write(blanks)
			}
			continue
		}
		if err := w.Copy(f); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}
