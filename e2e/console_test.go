package e2e

import (
	"net/url"
	"strings"
	"testing"

	"freshseal/e2e/browser"
)

// openConsole signs a browser in to a demo.
func openConsole(t *testing.T, s *server) *browser.Page {
	t.Helper()
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
	_, password, _ := strings.Cut(read(t, s.dir+"/data/first-sign-in.txt"), "password: ")
	steps(t, func() error { return p.Go("/") }, func() error { return p.SignIn("admin", strings.TrimSpace(password)) })
	return p
}

func steps(t *testing.T, list ...func() error) {
	t.Helper()
	for _, step := range list {
		if err := step(); err != nil {
			t.Fatal(err)
		}
	}
}

// The middle of the story as the browser shows it: from the list to the new chain.
func TestTheConsoleReplacesACertificate(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Wait("//main[contains(.,'17 slots')]") },
		func() error { return p.Click("//nav//a[.='Slots']") },
		func() error { return p.Wait(browser.Link("/slots/" + gate)) },
		func() error { return p.Click(browser.Link("/slots/" + gate)) },
		func() error { return p.Wait("//h1[contains(.,'" + gate + "')]") },
	)
	if text, err := p.Text("main"); err != nil || !strings.Contains(text, "Brinewell appliance is signed by itself alone") || !strings.Contains(text, "Remedy") {
		t.Errorf("the slot's page: %v\n%s", err, text)
	}
	steps(t,
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error { return p.Wait("//*[@aria-label='Rehearsal' and contains(.,'openssl req -new')]") },
		func() error { return p.Click(browser.Button("Begin")) },
		func() error { return p.Wait("//li[@data-stage='survey' and @data-standing='done']") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error {
			return p.Wait("//ol[@aria-label='Chain of certificates' and contains(.,'anchor, trusted by the fleet')]")
		},
	)
	if n, err := p.Eval("String(document.querySelectorAll('li[data-standing=done]').length)"); err != nil || n != "12" {
		t.Errorf("%s stages are done, %v", n, err)
	}
	steps(t,
		func() error { return p.Click(browser.Link("/slots/" + gate)) },
		func() error { return p.Wait("//main[contains(.,'all is well')]") },
	)
	if after := s.show(gate + "/web"); after.Condition != "fresh" {
		t.Errorf("after: %+v", after)
	}
	// What is wrong is told with what to do, here too.
	steps(t, func() error { return p.Go("/slots/nobody/web") }, func() error { return p.Wait("//*[@role='alert' and contains(.,'There is no slot nobody/web')]") })
	// On a telephone nothing sticks out at the side.
	steps(t, func() error { return p.Size(390, 844) })
	for _, page := range []string{"/", "/devices", "/devices/" + gate, "/slots", "/slots/" + gate + "/web", "/replacements", "/replacements/r2", "/desk", "/families", "/people", "/ledger", "/settings"} {
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
		func() error { return p.Click("//input[@type='checkbox']") },
		func() error { return p.Upload("#pile", desk.chain()) },
		func() error { return p.Wait("//*[@data-accepted='true']") },
	)
	s.await("r2", "sealed")
	steps(t,
		func() error { return p.Click("//nav//a[.='Ledger']") },
		func() error { return p.Click(browser.Button("Verify")) },
		func() error { return p.Wait("//*[@role='status' and contains(.,'as they were written')]") },
		func() error { return p.Wait("//td[.='take in what a signer sent back']") },
	)
}

// Devices are found, tried and changed in the console; a box that has only web
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
		func() error { return p.Wait("//dd[contains(.,'pier master')]") },
		func() error { return p.Go("/slots/" + panel + "/web") },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Begin")) },
		func() error { return p.Click(browser.Button("I do it")) },
		func() error { return p.Wait("//section[contains(.,'you do it')]") },
	)
	box := pagesOf(t, dir, panel)
	request := shownRequest.FindString(box.press("request", url.Values{"common_name": {panel}, "names": {panel}, "organization": {"Tidewrack Ferries"}}))
	steps(t,
		func() error { return p.Type("//textarea", "not a request") },
		func() error { return p.Click(browser.Button("Give it back")) },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'is no request')]") },
		func() error { return p.Type("//textarea", request) },
		func() error { return p.Click(browser.Button("Give it back")) },
		func() error { return p.Wait("//section[contains(@aria-label,'see that the device can go back')]") },
		func() error { return p.Click(browser.Button("Done")) },
		func() error { return p.Wait("//a[contains(.,'chain.pem')]") },
	)
	id, _ := s.task("give the device its new certificate")
	box.press("upload", url.Values{"chain": {s.ok("task", "file", id, "chain.pem")}})
	steps(t,
		func() error { return p.Click(browser.Button("Done")) },
		func() error { return p.Wait("//*[contains(.,'The wire decides')]") },
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
		func() error { return p.Click("//nav//a[.='Settings']") },
		func() error { return p.Click(browser.Button("Add a signer")) },
		func() error { return p.Type("//form[@aria-label='A signer']//input", "harbour") },
		func() error { return p.Type(labelled("Who that is"), "Harbour Authority") },
		func() error { return p.Type(labelled("Working days"), "5") },
		func() error { return p.Type("//form[@aria-label='A signer']//textarea", "profile Server") },
		func() error { return p.Click("//form[@aria-label='A signer']//div[@role='combobox']") },
		func() error { return p.Click("//li[.='by mail']") },
		func() error { return p.Wait("//body[not(descendant::*[@role='listbox'])]") }, // it closes slowly, over the form
		func() error { return p.Click("//form[@aria-label='A signer']//label[contains(.,'Signs addresses')]") },
		func() error { return p.Click("//form[@aria-label='A signer']//button[.='Save']") },
		func() error {
			return p.Wait("//section[@aria-label='Signers' and contains(.,'5 working days; domains are proven by mail')]")
		},
		func() error { return p.Type(labelled("Due so many days"), "0") },
		func() error { return p.Click("//label[contains(.,'Ask for short names too')]") },
		func() error { return p.Click("//label[contains(.,'Ask for addresses too')]") },
		func() error { return p.Click(browser.Button("Save, and judge the fleet anew")) },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'must be from 1 to 3650')]") },
		func() error { return p.Type(labelled("Due so many days"), "300") },
		func() error { return p.Click(browser.Button("Save, and judge the fleet anew")) },
		func() error {
			return p.Wait("//section[@aria-label='Policy' and not(contains(.,'judge the fleet anew'))]")
		},
		func() error { return p.Go("/slots/" + vault + "/web") },
		func() error { return p.Wait("//main[contains(.,'due')]") },
		func() error { return p.Go("/slots/" + gate + "/web") },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click("//label[contains(.,'Harbour Authority')]") },
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error {
			return p.Wait("//*[@aria-label='Rehearsal' and contains(.,'gate-1 from the policy: the short form') and contains(.,'this signer signs no IP addresses')]")
		},
		func() error { return p.Go("/people") },
		func() error { return p.Type("//form[@aria-label='Add a user']//input", "tern") },
		func() error {
			return p.Type("//form[@aria-label='Add a user']//input[@type='password']", "salt and tar and rope")
		},
		func() error { return p.Click("//form[@aria-label='Add a user']//button[@type='submit']") },
		func() error { return p.Wait("//main[contains(.,'tern')]") },
	)
	tern := *s
	tern.config = t.TempDir() + "/tern.yaml"
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate", s.pin())
	if list := tern.ok("policy", "list"); !strings.Contains(list, "short names, address names") || !strings.Contains(list, "300") {
		t.Errorf("what was set in the console:\n%s", list)
	}
}
