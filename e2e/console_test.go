package e2e

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"freshseal/e2e/browser"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

// browsers bounds how many tests have one at a time: more of them slow each other down until they miss their limits.
var (
	browsers = make(chan struct{}, 3)
	browsing sync.Map // *testing.T of those that have one
)

// openConsole signs a browser in to a demo.
func openConsole(t *testing.T, s *server) *browser.Page {
	t.Helper()
	if _, has := browsing.LoadOrStore(t, true); !has {
		browsers <- struct{}{}
		t.Cleanup(func() { <-browsers })
	}
	p, err := browser.Open(t.Context(), s.url, t.TempDir(), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		for _, fault := range p.Faults() {
			t.Errorf("in the browser: %s", fault)
		}
		p.Close()
	})
	file := s.dir + "/data/first-sign-in.txt" // of a demo
	if _, err := os.Stat(file); err != nil {
		file = s.dir + "/first-sign-in.txt"
	}
	_, password, _ := strings.Cut(read(t, file), "password: ")
	steps(t, func() error { return p.Go("/") }, func() error { return p.SignIn("admin", strings.TrimSpace(password)) })
	return p
}

func steps(t *testing.T, list ...func() error) {
	t.Helper()
	for i, step := range list {
		if err := step(); err != nil {
			t.Fatalf("step %d: %v", i+1, err)
		}
	}
}

// signerField is where the signer of a replacement is chosen.
const signerField = "//*[@role='dialog']//*[text()='Signer']/following::div[@role='combobox'][1]"

// The middle of the story as the browser shows it: from the list to the new chain.
func TestTheConsoleReplacesACertificate(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Wait("//main[contains(.,'60 slots')]") },
		func() error { return p.Click("//nav//a[.='Slots']") },
		func() error { return p.Wait(browser.Link("/slots/" + gate)) },
		func() error { return p.Click(browser.Link("/slots/" + gate)) },
		func() error { return p.Wait("//h1[contains(.,'" + gate + "')]") },
	)
	if text, err := p.Text("main"); err != nil || !strings.Contains(text, "the certificate of Brinewell appliance "+
		"is self-signed") || !strings.Contains(text, "Remedy") {
		t.Errorf("the slot's page: %v\n%s", err, text)
	}
	steps(t,
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Start")) },
		// nobody is chosen unless the policy names one
		func() error { return p.Wait("//p[contains(.,'Signer is needed')]") },
		func() error { return p.Choose(signerField, "bench") },
		func() error { return p.Type(field("names"), "10.0.0.300") },
		func() error { return p.Click(browser.Button("Rehearse")) },
		// a name is never capitalised
		func() error {
			return p.Wait("//*[@role='alert' and contains(.,'" + gate + "/web cannot be replaced')]")
		},
		func() error { return p.Wait("//*[@role='alert' and contains(.,'four numbers from 0 to 255')]") },
		func() error { return p.Type(field("names"), "") },
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error { return p.Wait("//*[@aria-label='Rehearsal' and contains(.,'openssl req -new')]") },
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Wait("//li[@data-stage='survey' and @data-mark='done']") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error { return p.Wait("//li[@data-stage='activate']//*[@data-spent and contains(.,' s')]") },
		func() error {
			return p.Wait("//ol[@aria-label='Chain of certificates' and contains(.,'anchor, trusted by the fleet')]")
		},
	)
	if n, err := p.Eval("String(document.querySelectorAll('li[data-mark=done]').length)"); err != nil || n != "8" {
		t.Errorf("%s stages are done, %v", n, err)
	}
	steps(t,
		func() error { return p.Click(browser.Link("/slots/" + gate)) },
		func() error { return p.Wait("//main[contains(.,'all is well')]") },
	)
	after := s.show(gate + "/web")
	if after.Condition != "fresh" {
		t.Errorf("after: %+v", after)
	}
	// and the certificate to take along, as DER and with its chain as PKCS #7
	steps(t,
		func() error { return p.Click("//li[1]/descendant::summary[.='Details and download']") },
		func() error { return p.Wait("//dd[contains(.,'" + gate + "')]") },
		func() error { return keepPicture(p, "details") },
	)
	address, err := p.Eval("document.querySelector('a[download^=leaf][download$=cer]').getAttribute('href')")
	der, broken := base64.StdEncoding.DecodeString(strings.TrimPrefix(address, "data:application/pkix-cert;base64,"))
	if is := fmt.Sprintf("%x", sha256.Sum256(der)); err != nil || broken != nil || is != after.Certificate.SHA256 {
		t.Errorf("what is downloaded has the SHA-256 %s, %v, %v; %s is served", is, err, broken,
			after.Certificate.SHA256)
	}
	address, err = p.Eval("document.querySelector('a[download$=p7b]').getAttribute('href')")
	_, chain := s.caller(t).does("GET", strings.TrimPrefix(address, "/api/v1"), "", "")
	if err != nil || !strings.Contains(chain, string(der)) {
		t.Errorf("the chain as PKCS #7 is without the certificate: %q, %v", chain, err)
	}
	// What is wrong is told with what to do, here too.
	steps(t, func() error { return p.Go("/slots/nobody/web") }, func() error {
		return p.Wait("//*[@role='alert' and contains(.,'There is no slot nobody/web')]")
	})
	// On a telephone nothing sticks out at the side.
	steps(t, func() error { return p.Size(390, 844) })
	for _, page := range []string{"/", "/devices", "/devices/" + gate, "/slots", "/slots/" + gate + "/web",
		"/replacements", "/replacements/r2", "/tasks", "/desk", "/families", "/people", "/audit", "/settings"} {
		steps(t, func() error { return p.Go(page) }, func() error { return p.Wait("//h1") })
		if wide, err := p.Eval("String(document.documentElement.scrollWidth)"); err != nil || wide != "390" {
			t.Errorf("%s is %s wide on a screen of 390, %v", page, wide, err)
		}
	}
}

// A person at the desk packs a request and drops what comes back.
func TestTheConsolesDesk(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	desk := newHarbour(t)
	s.ok("replace", tickets+"/web", "--signer", "desk")
	s.await("r2", "waiting")
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Click("//nav//a[.='Desk']") },
		func() error { return p.Wait(browser.Button("Pack 1 into a parcel")) },
	)
	parcel := t.TempDir() + "/out.zip"
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	signed := desk.sign(unpack(t, parcel)[0])
	steps(t,
		func() error { return p.Upload("#pile", write(t, desk.at("photo.cer"), "\x89PNG\r\n"), signed) },
		func() error {
			return p.Wait("//*[@data-accepted='false' and contains(.,'Harbour Issuing') and contains(.,'Next:')]")
		},
		func() error { return p.Click("//label[contains(.,'Trust the roots')]//input") },
		func() error { return p.Upload("#pile", desk.chain()) },
		func() error { return p.Wait("//*[@data-accepted='true']") },
	)
	s.await("r2", "sealed")
	steps(t,
		func() error { return p.Click(browser.Button("Set-up")) },
		func() error { return p.Click("//nav//a[.='Audit log']") },
		func() error { return p.Click(browser.Button("Verify")) },
		func() error { return p.Wait("//*[@role='status' and contains(.,'as they were written')]") },
		func() error { return p.Wait("//td[.='intake: certificates from a signer']") },
	)
}

// Devices returns found, tried and changed in the console; a box that has only web
// pages is led through by hand.
func TestTheConsoleLeadsByHand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Click("//nav//a[.='Devices']") },
		func() error { return p.Wait(browser.Link("/devices/gate-1.mainquay.tidewrack.example")) },
		func() error { return p.Type("//input[@type='search']", "panel.north") },
		func() error { return p.Wait("//main[not(contains(.,'gate-1'))]" + browser.Link("/devices/"+panel)) },
		func() error { return p.Click(browser.Link("/devices/" + panel)) },
		func() error { return p.Click(browser.Button("Try the connection")) },
		func() error { return p.Wait("//*[@data-ok='true' and contains(.,'Halyard')]") },
		func() error { return p.Click(browser.Button("Edit")) },
		func() error { return p.Type("//label[.='Owner']/following::input[1]", "pier master") },
		func() error { return p.Click(browser.Button("Save")) },
		func() error { return p.Click("//button[@role='tab' and .='Device']") },
		func() error { return p.Wait("//dd[contains(.,'pier master')]") },
		func() error { return p.Go("/slots/" + panel + "/web") },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Choose(signerField, "bench") },
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Click(browser.Button("Assign to me")) },
		func() error { return p.Wait("//section[contains(.,'Assigned to you')]") },
	)
	box := pagesOf(t, dir, panel)
	request := shownRequest.FindString(box.press("request", url.Values{"common_name": {panel}, "names": {panel},
		"organization": {"Tidewrack Ferries"}}))
	steps(t,
		func() error { return p.Type("//textarea", "not a request") },
		func() error { return p.Click(browser.Button("Submit")) },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'is not a request')]") },
		func() error { return p.Type("//textarea", request) },
		func() error { return p.Click(browser.Button("Submit")) },
		func() error { return p.Wait("//section[contains(@aria-label,'confirm that a rollback exists')]") },
		func() error { return p.Click(browser.Button("Done")) },
		func() error { return p.Wait("//a[contains(.,'chain.pem')]") },
	)
	id, _ := s.task("give the device its new certificate")
	box.press("upload", url.Values{"chain": {s.ok("task", "file", id, "chain.pem")}})
	steps(t,
		func() error { return p.Click(browser.Button("Done")) },
		func() error { return p.Wait("//*[contains(.,'This step ends by itself')]") },
	)
	box.press("use", nil)
	steps(t, func() error { return p.Wait("//span[@data-state='sealed']") })
}

// Rules, signers and people are set up in the console; what is set there counts.
func TestTheConsoleSetsTheFleetUp(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	labelled := func(label string) string { return "//label[contains(.,'" + label + "')]/following::input[1]" }
	steps(t,
		func() error { return p.Click(browser.Button("Set-up")) },
		func() error { return p.Click("//nav//a[.='Settings']") },
		func() error { return p.Click("//a[@role='tab' and .='Signers']") },
		func() error { return p.Click(browser.Button("Add a signer")) },
		func() error { return p.Type(labelled("Name"), "harbour") },
		func() error { return p.Type(labelled("About"), "Harbour Authority") },
		func() error { return p.Type(labelled("Turnaround"), "5") },
		func() error { return p.Type("//*[@role='dialog']//textarea", "profile Server") },
		func() error { return p.Choose("//*[@role='dialog']//div[@role='combobox']", "by mail") },
		func() error { return p.Click("//*[@role='dialog']//label[contains(.,'Signs addresses')]") },
		func() error { return p.Click("//*[@role='dialog']//button[.='Save']") },
		func() error {
			return p.Wait("//section[@aria-label='Signers' and contains(.,'5 working days; domains are proven " +
				"by mail')]")
		},
		func() error { return p.Click("//a[@role='tab' and .='Policy']") },
		func() error { return p.Type(labelled("Renewal period before expiry"), "0") },
		func() error { return p.Click("//label[contains(.,'Also request short names')]") },
		func() error { return p.Click("//label[contains(.,'Also request IP addresses')]") },
		func() error { return p.Click(browser.Button("Save and re-evaluate the fleet")) },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'must be from 1 to 3650')]") },
		func() error { return p.Type(labelled("Renewal period before expiry"), "300") },
		func() error { return p.Click(browser.Button("Save and re-evaluate the fleet")) },
		func() error { return p.Wait("//*[@role='status' and contains(.,'Saved')]") },
		func() error { return p.Go("/slots/" + vault + "/web") },
		func() error { return p.Wait("//main[contains(.,'due')]") },
		func() error { return p.Go("/slots/" + gate + "/web") },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Choose(signerField, "harbour: Harbour Authority") },
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error {
			return p.Wait("//*[@aria-label='Rehearsal' and contains(.,'gate-1 from the policy: the short form') " +
				"and contains(.,'this signer signs no IP addresses')]")
		},
		func() error { return p.Go("/people") },
		func() error { return p.Type("//form[@aria-label='Add a user']//input", "tern") },
		func() error {
			return p.Type("//form[@aria-label='Add a user']//input[@type='password']", "salt and tar and rope")
		},
		func() error { return p.Click("//form[@aria-label='Add a user']//button[@type='submit']") },
		func() error { return p.Wait("//*[@role='status' and contains(.,'The user was added')]") },
	)
	tern := *s
	tern.config = t.TempDir() + "/tern.yaml"
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
		s.pin())
	if list := tern.ok("policy", "list"); !strings.Contains(list, "short names, address names") ||
		!strings.Contains(list, "300") {
		t.Errorf("what was set in the console:\n%s", list)
	}
}

// Devices come in one by one and as a file, are chosen together, and what became
// of each is told.
func TestTheConsoleTakesDevicesIn(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	box := simulated(t, standin.Box{})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, tlsPort, _ := net.SplitHostPort(box.TLSAddr)
	p := openConsole(t, s)
	inDialog := func(label string) string {
		return "//*[@role='dialog']//label[contains(.,'" + label + "')]/following::input[1]"
	}
	csv := write(t, t.TempDir()+"/fleet.csv",
		"Hostname,address,site\nwinch.saltmere.tidewrack.example,198.51.100.90,Saltmere\n"+
			"Winch!,198.51.100.91,Saltmere\n")
	steps(t,
		func() error { return p.Click("//nav//a[.='Devices']") },
		func() error { return p.Click(browser.Button("Add a device")) },
		func() error { return p.Type(inDialog("Name"), name) },
		func() error { return p.Type(inDialog("Address"), host) },
		func() error { return p.Type(inDialog("Port"), tlsPort) },
		func() error {
			return p.Choose("//*[@role='dialog']//div[@role='combobox' and contains(.,'monitored only')]",
				"Web server with certificate files, over SSH")
		},
		func() error { return p.Type(inDialog("SSH port"), sshPort) },
		func() error { return p.Type(inDialog("SSH user"), "keeper") },
		func() error { return p.Type("//*[@role='dialog']//input[@type='password']", "correct horse") },
		func() error { return p.Click(browser.Button("Ask for its host key")) },
		func() error { return p.Wait("//*[@role='dialog' and contains(.,'" + box.HostKey() + "')]") },
		func() error { return p.Click(browser.Button("The key is correct")) },
		func() error { return p.Click(browser.Button("Add it")) },
		func() error { return p.Wait("//h1[contains(.,'" + name + "')]") },

		func() error { return p.Go("/devices") },
		func() error { return p.Click(browser.Button("Import")) },
		func() error { return p.Upload("#csv", csv) },
		func() error { return p.Type("#import-columns", "name=Hostname") },
		func() error { return p.Click(browser.Button("See what it would do")) },
		func() error {
			return p.Wait("//*[@aria-label='Account of the import' and contains(.,'1 to add, 0 to change, 1 invalid; " +
				"nothing was changed yet') and contains(.,'3: Winch!')]")
		},
		func() error { return p.Click(browser.Button("Import the 1 valid device only")) },
		func() error {
			return p.Wait("//*[@aria-label='Account of the import' and contains(.,'1 added, 0 changed.')]")
		},
		func() error { return p.Click(browser.Button("Close")) },
		// it holds the focus until it is gone
		func() error { return p.Wait("//body[not(descendant::*[@role='dialog'])]") },

		func() error { return p.Type("//input[@type='search']", "saltmere") },
		func() error { return p.Wait(browser.Link("/devices/winch.saltmere.tidewrack.example")) },
		func() error { return p.Go("/devices?text=lamp-3") },
		func() error { return p.Wait(browser.Link("/devices/" + name)) },
		func() error { return p.Click("//tr[@data-id]//input[@type='checkbox']") },
		func() error { return p.Wait("//section[@aria-label='Chosen devices' and contains(.,'1 chosen')]") },
		func() error { return p.Click(browser.Button("Remove")) },
		func() error { return p.Click("//*[@role='dialog']//button[.='Remove']") },
		func() error { return p.Wait("//section[@aria-label='Chosen devices' and contains(.,'1 device done')]") },
		func() error { return p.Wait("//main[contains(.,'No device fits the filter.')]") },
	)
	s.fails(1, "no device is called", "device", "show", name)
	if list := s.ok("device", "list", "--text", "winch", "--as", "csv"); strings.Count(list, "\n") != 2 {
		t.Errorf("imported is\n%s", list)
	}
}

// Where nobody knows what became of a step, the console asks whoever looked at the
// device; and the faults of a procedure stand with its family.
func TestTheConsoleAsksWhatBecameOfAStep(t *testing.T) {
	t.Parallel()
	var box *standin.Running
	box = simulated(t, standin.Box{Watch: func(what string, done bool) bool {
		if what == "boxctl apply" && !done {
			box.SetFaults(standin.Faults{Hang: true})
		}
		return true
	}})
	s := families(t, "127.0.0.1:0", map[string]string{
		"hangs": "  activate:\n" + putBoth + "    - {step: apply, run: boxctl apply, undo: nothing, limit: 2s}\n  " +
			"  - {step: reload, run: \"{{reload}}\", undo: again, repeat: safe}\n  seal:\n    - {step: clear the " +
			"inbox, run: cat /etc/inbox, repeat: safe}\n",
		"faulty": "  activate:\n    - {step: put, fil: key_file, holds: new_key}\n",
	})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "hangs")
	s.fails(1, "may still be running", "replace", name+"/web", "--signer", "bench", "--watch")
	box.SetFaults(standin.Faults{})
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/replacements/r1") },
		func() error {
			return p.Wait("//main[contains(.,'Nobody knows whether the step “apply” was done')]")
		},
		func() error { return keepPicture(p, "held") },
		func() error { return p.Click(browser.Button("The step was done: go on")) },
		func() error { return p.Click(browser.Button("It was done")) },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error { return p.Wait("//main[contains(.,'Left on the device')]") },
		func() error { return keepPicture(p, "leftover") },
		func() error {
			write(t, filepath.Join(box.Dir, "root/etc/inbox"), "")
			return p.Click(browser.Button("Clear what is left"))
		},
		func() error { return p.Wait("//main[not(contains(.,'Left on the device'))]") },
		func() error { return p.Go("/families#faulty") },
		func() error {
			return p.Wait("//ul[@aria-label='Faults of faulty' and contains(.,'has no key') and " +
				"contains(.,'write file')]")
		},
		func() error { return keepPicture(p, "families") },
	)
}

// keepPicture writes what the page shows into the folder FRESHSEAL_PICTURES, where
// one is named: for people who look.
func keepPicture(p *browser.Page, name string) error {
	folder := os.Getenv("FRESHSEAL_PICTURES")
	if folder == "" {
		return nil
	}
	png, err := p.PNG()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, name+".png"), png, 0o600)
}

// Several slots get one certificate in the console; a slot that cannot be read and a
// family that cannot be undone ask for a yes of their own.
func TestTheConsoleAsksBeforeItGoesBlind(t *testing.T) {
	t.Parallel()
	s := families(t, "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"),
		map[string]string{"final": "  activate:\n" + putBoth +
			"    - {step: burn in, run: \"{{reload}}\", undo: none, because: the box keeps what it burned}\n"})
	box := simulated(t, standin.Box{})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, tlsPort, _ := net.SplitHostPort(box.TLSAddr)
	s.okWith("correct horse", "device", "add", name, "--address", host, "--family", "final", "--user", "keeper",
		"--port", sshPort, "--password-file", "-",
		"--pin", box.HostKey(), "--slot", "web="+tlsPort, "--slot", "eap="+relay(t, "127.20.78.1:0", to(box.TLSAddr)),
		"--slot", "unreachable="+daemon.FreePort(t, host))
	p := openConsole(t, s)
	check := func(label string) func() error {
		return func() error { return p.Click("//label[contains(.,'" + label + "')]//input") }
	}
	steps(t,
		func() error { return p.Go("/slots/" + name + "/unreachable") },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Wait("//label[contains(.,'Start although the slot cannot be read')]") },
		func() error { return p.Go("/slots/" + name + "/web") },
		func() error { return p.Click(browser.Button("Replace")) },
		check("eap"),
		func() error { return p.Choose(signerField, "bench") },
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Wait("//*[@role='dialog' and contains(.,'the box keeps what it burned')]") },
		check("Start although some steps cannot be undone"),
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error { return p.Wait("//*[@aria-label='Rehearsal' and contains(.,'eap at " + host + "')]") },
		func() error { return keepPicture(p, "several-slots") },
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Wait("//span[@data-state='sealed']") },
	)
	if web, eap := s.show(name+"/web"), s.show(name+"/eap"); web.Certificate.SHA256 != eap.Certificate.SHA256 ||
		web.Condition != "fresh" {
		t.Errorf("web is %s, eap is %s", web.Condition, eap.Condition)
	}
}
