package e2e

import (
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/e2e/browser"
)

// shell runs a command that the console shows as a person does who copies it.
func (s *server) shell(text string) string {
	s.t.Helper()
	cmd := exec.Command("sh", "-c", text)
	cmd.Dir = s.t.TempDir()
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "FRESHSEAL_CONFIG="+s.config)
	out, err := cmd.CombinedOutput()
	if err != nil {
		s.t.Fatalf("%s: %v\n%s", text, err, out)
	}
	if left, _ := os.ReadDir(cmd.Dir); len(left) > 0 {
		s.t.Fatalf("%s made %s", text, left[0].Name())
	}
	return string(out)
}

// Each form says the command that does the same. It is run instead of pressing the button, and did it.
func TestTheConsoleShowsTheCommandOfEachForm(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	const inDialog, said = "//*[@role='dialog']", `it's "ours"; $(touch made)`
	for _, form := range []struct {
		page, open, in string
		typed          [][2]string // fields and what goes into them
		show           []string    // by the client
		want           string
	}{
		{"/slots/" + gate + "/web", "//button[.='Add a pin']", inDialog,
			[][2]string{{"who", "radar"}, {"how", said}}, []string{"pin", "list"}, said},
		{"/slots/" + gate + "/web", "//button[.='Acknowledge']", inDialog,
			[][2]string{{"reason", said}}, []string{"notice", "acknowledged"}, said},
		{"/settings/sites", "//button[.='Add a site']", inDialog,
			[][2]string{{"name", "Skerry"}, {"organization", said}}, []string{"site", "list"}, said},
		{"/settings/signers", "//button[.='Add a signer']", inDialog,
			[][2]string{{"name", "harbour"}, {"about", said}, {"most", "200"},
				{"domains", "quay.example, mole.example"}},
			[]string{"signer", "show", "harbour"}, "mole.example"},
		{"/notices", "//button[.='Add a channel']", inDialog,
			[][2]string{{"name", "post"}, {"address", "127.0.0.1"}, {"port", "2525"},
				{"from", "seal@tidewrack.example"}, {"to", "noc@tidewrack.example"},
				{"owners", "harbour watch=watch@tidewrack.example"}},
			[]string{"channel", "list"}, "watch@tidewrack.example"},
		{"/notices", "//button[.='Add a rule']", inDialog,
			[][2]string{{"name", "soon"}, {"to", "post"}, {"days", "30, 7"}, {"quiet", "22:00-06:00"}},
			[]string{"notice", "rules"}, "22:00-06:00"},
		{"/settings/policy", "", "//form[@aria-label='Rules of fleet']",
			[][2]string{{"margin_days", "11"}, {"freezes", "2034-12-20/2035-01-03 " + said}},
			[]string{"policy", "list"}, said},
		{"/discovery", "", "//form[@aria-label='Start a discovery']",
			[][2]string{{"ranges", "127.20.251.1 127.20.251.2"}, {"ports", "1"}, {"rate", "9"}},
			[]string{"discover", "list"}, "127.20.251.2"},
	} {
		steps(t, func() error { return p.Go(form.page) })
		if form.open != "" {
			steps(t, func() error { return p.Click(form.open) })
		}
		for _, typed := range form.typed {
			steps(t, func() error { return p.Type(form.in+"//*[@data-field='"+typed[0]+"']", typed[1]) })
		}
		steps(t, func() error { return p.Click(form.in + "//summary[.='As a command']") })
		command, err := p.Text(form.in + "//details//code")
		if err != nil {
			t.Fatal(err)
		}
		// the word for what was not chosen yet
		s.shell(strings.Replace(command, "DAY", time.Now().AddDate(0, 0, 20).Format(time.DateOnly), 1))
		var now any
		s.json(&now, form.show...)
		if text := fmt.Sprint(now); !strings.Contains(text, form.want) {
			t.Errorf("%s\nmade of %s: %.2000s", command, strings.Join(form.show, " "), text)
		}
	}
}

// What a button does, the command beside it does too, whatever was typed: it is copied into a shell and run.
func TestTheConsoleShowsTheCommandOfAnAction(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	shown := func() string {
		t.Helper()
		steps(t, func() error { return p.Click("//*[@role='dialog']//summary[.='As a command']") })
		text, err := p.Text("//*[@role='dialog']//details//code")
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	const notes = `it's in the ship's "office"; $(touch made) & > made`
	steps(t,
		func() error { return p.Go("/devices") },
		func() error { return p.Click(browser.Button("Add a device")) },
		func() error { return p.Type(field("name"), "lamp.mainquay.tidewrack.example") },
		func() error { return p.Type(field("address"), "127.1.0.9") },
		func() error { return p.Type(field("owner"), "harbour watch") },
		func() error { return p.Type(field("tags"), "winter pier") },
		func() error { return p.Type(field("notes"), notes) },
	)
	add := shown()
	steps(t,
		func() error { return p.Click(inDialog("Add it")) },
		func() error { return p.Wait("//h1[contains(.,'lamp.mainquay')]") },
	)
	s.shell(strings.Replace(add, "lamp.", "lantern.", 2)) // another one, by the command
	type device struct {
		Owner, Notes string
		Tags         []string
	}
	for _, name := range []string{"lamp", "lantern"} {
		var d device
		s.json(&d, "device", "show", name+".mainquay.tidewrack.example")
		if d.Owner != "harbour watch" || d.Notes != notes || strings.Join(d.Tags, " ") != "winter pier" {
			t.Errorf("%s is %+v, by\n%s", name, d, add)
		}
	}
	// fields are emptied, and a slot is read by another protocol
	steps(t,
		func() error { return p.Click(browser.Button("Edit")) },
		func() error { return p.Type(field("owner"), "") },
		func() error { return p.Type(field("tags"), "") },
		func() error { return p.Type(field("cluster"), "pair") },
	)
	edit := shown()
	steps(t, func() error { return p.Click(inDialog("Save")) }, func() error { return p.Gone("//*[@role='dialog']") })
	s.shell(strings.Replace(edit, "lamp.", "lantern.", 1))
	for _, name := range []string{"lamp", "lantern"} {
		var d struct {
			device
			Cluster string
		}
		s.json(&d, "device", "show", name+".mainquay.tidewrack.example")
		if d.Owner != "" || len(d.Tags) > 0 || d.Notes != notes || d.Cluster != "pair" {
			t.Errorf("%s is %+v, by\n%s", name, d, edit)
		}
	}
	steps(t,
		func() error { return p.Go("/devices") },
		func() error { return p.Click(browser.Button("Add a device")) },
		func() error { return p.Type(field("name"), "post.mainquay.tidewrack.example") },
		func() error { return p.Type(field("address"), "127.1.0.10") },
		func() error {
			return p.Choose("//*[@role='dialog']//*[text()='Protocol']/following::div[@role='combobox'][1]", "SMTP")
		},
	)
	s.shell(shown())
	if mail := s.ok("slot", "list", "--text", "post.mainquay", "--as", "json"); !strings.Contains(mail, `"smtp"`) {
		t.Errorf("the command added\n%s", mail)
	}
	steps(t,
		func() error { return p.Go("/slots/" + gate + "/web") },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Choose(signerField, "desk") },
		func() error { return p.Type(field("names"), "quay.tidewrack.example, 192.0.2.7") },
	)
	if out := s.shell(strings.TrimSuffix(shown(), " --watch")); !strings.Contains(out, "r2") {
		t.Errorf("the command of a replacement says %s", out)
	}
	if is := s.ok("replacement", "show", "r2"); !strings.Contains(is, "quay.tidewrack.example") ||
		!strings.Contains(is, "192.0.2.7") || !strings.Contains(is, "desk") {
		t.Errorf("it started\n%s", is)
	}
	steps(t,
		func() error { return p.Go("/replacements/r2") },
		func() error { return p.Wait("//a[.='Download the request' and contains(@download,'r2-gate-1')]") },
		func() error { return p.Click(browser.Button("Cancel")) },
	)
	s.shell(shown())
	s.await("r2", "cancelled")
	// a second link is changed by itself, in the console and by the command
	const cipher = "cipher.saltmere.tidewrack.example"
	steps(t,
		func() error { return p.Go("/devices/" + cipher + "?section=about") },
		func() error { return p.Click("//button[@aria-label='Edit how it is reached over SSH']") },
		func() error { return p.Wait(dialog("is reached over SSH")) },
		func() error { return p.Type(field("user"), "mate") },
		func() error { return p.Type(field("password"), "another horse") },
	)
	change := shown()
	if !strings.Contains(change, "--link ssh") || !strings.Contains(change, "--user mate") ||
		strings.Contains(change, "horse") {
		t.Errorf("a link is changed by %s", change)
	}
	steps(t,
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Wait("//*[.='Over ssh']/following::*[contains(.,'mate, port 22')][1]") },
		func() error { return p.Wait("//*[.='Over https']/following::*[contains(.,'webkeeper, port 443')][1]") },
	)
}

// Requests are chosen for a parcel, and what is in it is seen; a request that is in one is packed into no other.
func TestTheConsolePacksWhatWasChosen(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	for _, slot := range []string{gate + "/web", tickets + "/web", "radar.gannet-point.tidewrack.example/web"} {
		s.ok("replace", slot, "--signer", "desk") // r2, r3, r4
	}
	for _, id := range []string{"r2", "r3", "r4"} {
		s.await(id, "waiting")
	}
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/desk") },
		func() error { return p.Click("//input[@aria-label='Choose r3']") },
		func() error { return p.Click(browser.Button("Pack the 1 chosen into a parcel")) },
		func() error { return p.Click("//a[.='p1, 1 request for desk']") },
		func() error { return p.Wait(row("r3")) },
		func() error { return p.Wait(rowsShown("1 to 1 of 1")) },
		func() error { return p.Go("/desk") },
		func() error { return p.Wait("//input[@aria-label='Choose r3' and @disabled]") },
		func() error { return p.Click("//input[@aria-label='Choose all on this page']") },
		func() error { return p.Wait(browser.Button("Pack the 2 chosen into a parcel")) },
	)
	out := filepath.Join(t.TempDir(), "parcel.zip")
	s.fails(1, "is in a parcel already", "parcel", "pack", "r2", "r3", "--out", out)
	s.fails(1, "no replacement is called", "parcel", "pack", "p1", "--out", out)
	s.ok("parcel", "pack", "r2", "--out", out)
	s.ok("parcel", "pack", "--out", out+".2") // the rest
	var parcels []struct {
		ID       string
		Requests int
	}
	s.json(&parcels, "parcel", "list")
	if len(parcels) != 3 || parcels[0].Requests+parcels[1].Requests+parcels[2].Requests != 3 {
		t.Errorf("the parcels are %+v", parcels)
	}
	var in []struct{ ID string }
	s.json(&in, "replacement", "list", "--parcel", "p3")
	if len(in) != 1 || in[0].ID != "r4" {
		t.Errorf("in the third parcel is %+v", in)
	}
	s.fails(1, "no parcel is called", "replacement", "list", "--parcel", "r4")
}

// Any two certificates are compared, one shows all that it says, a root is trusted after its fingerprint was shown, and
// the audit log leads to what it is about and leaves as CSV.
func TestTheConsoleShowsWhatACertificateSays(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("replace", gate+"/web", "--signer", "bench", "--watch") // r2
	root, other := testkit.Root(t, "Buoy Root"), testkit.Root(t, "Wrecker Root")
	block := func(label string, der []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}))
	}
	// a file with another root in it, which is not shown, under a label that some programs take
	smuggled := block("CERTIFICATE", root.Raw) + block("X509 CERTIFICATE", other.Raw) + block("TRUSTED CERTIFICATE",
		other.Raw)
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/slots/" + gate + "/web") },
		func() error { return p.Click("(//summary[.='Details and download'])[1]") },
		func() error {
			return p.Wait("//dl[contains(.,'basicConstraints') and contains(.,'authorityKeyIdentifier')]")
		},
		func() error { return p.Click("(//a[.='Compare with another'])[1]") },
		func() error { return p.Wait("//h1[.='Compare certificates']") },
		func() error { return p.Type("#compare-b", "radar.gannet-point.tidewrack.example/web") },
		func() error { return p.Click(browser.Button("Compare")) },
		func() error { return p.Wait("//tr[@data-differs='true' and contains(.,'radar.gannet-point')]") },
		func() error { return p.Wait("//tr[@data-differs='false' and starts-with(.,'Key')]") },
		func() error { return p.Go("/compare?a=" + strings.Repeat("0", 64)) },
		func() error {
			return p.Wait("//*[@role='alert' and contains(.,'No certificate with the SHA-256 000')]")
		},

		func() error { return p.Go("/settings/roots") },
		func() error { return p.Click(browser.Button("Add a root")) },
		func() error { return p.Type(field("pem"), "no certificate") },
		func() error { return p.Click(browser.Button("I compared it: trust it")) },
		func() error { return p.Wait(dialog("A certificate in PEM form is needed.")) },
		func() error {
			return p.Upload("#root-file",
				write(t, t.TempDir()+"/many.pem", strings.Repeat(block("CERTIFICATE", root.Raw), 17)))
		},
		func() error { return p.Wait(dialog("Add at most 16 certificates at once.")) },
		func() error {
			return p.Upload("#root-file",
				write(t, t.TempDir()+"/root.pem", smuggled))
		},
		func() error { return p.Wait("//*[@role='dialog']//*[@data-print='" + root.SHA256 + "']") },
		func() error { return p.Click(browser.Button("I compared it: trust it")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error {
			return p.Wait("//section[contains(.,'Buoy Root')]//*[@data-print='" + root.SHA256 + "']")
		},

		func() error { return p.Go("/audit?text=sealed") },
		func() error { return p.Click("//td[@data-field='about']//a[@href='/replacements/r2']") },
		func() error { return p.Wait("//h1[contains(.,'r2')]") },
		func() error { return p.Wait("//*[.='Took']/following::*[contains(.,' s, waits included')][1]") },
		func() error { return p.Go("/audit?text=sealed") },
		func() error { return p.Wait(browser.Link("/slots/" + gate + "/web")) },
	)
	sheet, err := p.Fetch("//a[normalize-space()='Download as CSV']")
	if lines := strings.Split(strings.TrimSpace(sheet), "\n"); err != nil || len(lines) != 3 ||
		lines[0] != "id,at,who,what,about,hash,through,address" ||
		!strings.Contains(sheet, "replacement sealed,r2 "+gate) {
		t.Errorf("the sheet of the audit log, %v:\n%s", err, sheet)
	}
	if roots := s.ok("trust-group", "show", "fleet"); !strings.Contains(roots, "Buoy Root") ||
		strings.Contains(roots, "Wrecker") {
		t.Errorf("the fleet trusts\n%s", roots)
	}
	if log := s.ok("audit", "list"); !strings.Contains(log, "export the audit log") {
		t.Errorf("nobody knows of the export:\n%s", log)
	}
}
