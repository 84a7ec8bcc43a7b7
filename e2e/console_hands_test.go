package e2e

import (
	"net"
	"os"
	"strings"
	"testing"

	"freshseal/e2e/browser"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

func dialog(text string) string { return "//*[@role='dialog' and contains(.,\"" + text + "\")]" }

func inDialog(button string) string {
	return "//*[@role='dialog']//button[normalize-space()='" + button + "']"
}

func field(name string) string { return "//*[@role='dialog']//*[@data-field='" + name + "']" }

// What cannot be taken back is asked about, with what stands on either side; No changes
// nothing.
func TestTheConsoleAsksBeforeWhatCannotBeTakenBack(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("replace", gate+"/web", "--signer", "bench", "--watch") // r2
	s.ok("replace", tickets+"/web", "--signer", "desk")          // r3
	s.await("r3", "waiting")
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "viewer", "--password-file", "-")
	s.ok("token", "add", "the wall board", "--role", "viewer", "--days", "9")
	p := openConsole(t, s)
	differing := func() error { return p.Wait("//*[@role='dialog']//tr[@data-differs='true']/td[2]") }
	steps(t,
		func() error { return p.Go("/replacements/r2") },
		func() error { return p.Click(browser.Button("Revert")) },
		func() error { return p.Wait(dialog("Served now")) },
		differing,
		func() error {
			return p.Wait("//*[@role='dialog']//tr[th='Trusted " +
				"by']/td[1][contains(.,'fleet')]/following::td[1][contains(.,'nobody')]")
		},
		func() error { return p.Click(inDialog("Keep as it is")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error { return p.Click(browser.Button("Revert")) },
		func() error { return p.Click(inDialog("Revert")) },
		func() error { return p.Wait("//span[@data-state='reverted']") },
		// wanted, so nothing to be alarmed by
		func() error { return p.Wait("//main//*[contains(@class,'MuiAlert-colorInfo')]") },

		func() error { return p.Go("/replacements/r3") },
		func() error { return p.Click(browser.Button("Cancel")) },
		func() error { return p.Wait(dialog("Its request becomes obsolete")) },
		func() error { return p.Click(inDialog("Cancel it")) },
		func() error { return p.Wait("//span[@data-state='cancelled']") },

		func() error { return p.Go("/people") },
		func() error { return p.Choose("#role-tern", "operator") },
		func() error { return p.Wait(dialog("All sessions of tern end")) },
		func() error { return p.Click(inDialog("Keep as it is")) },
		func() error { return p.Wait("//*[@id='role-tern' and starts-with(.,'viewer')]") },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Choose("#role-tern", "operator") },
		func() error { return p.Click(inDialog("Change the role")) },
		func() error { return p.Wait("//*[@id='role-tern' and starts-with(.,'operator')]") },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Click("//*[@aria-label='the wall board']//button[.='End it']") },
		func() error { return p.Wait(dialog("It cannot be brought back")) },
		func() error { return p.Click(inDialog("End it")) },
		func() error { return p.Gone("//*[@aria-label='the wall board']") },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Click("//*[@aria-label='tern']//button") },
		func() error { return p.Wait(dialog("stays in the audit log")) },
		func() error { return p.Click(inDialog("Remove")) },
		func() error { return p.Gone("//*[@aria-label='tern']") },

		func() error { return p.Go("/devices/" + tickets) },
		func() error { return p.Click(browser.Button("Remove")) },
		func() error { return p.Wait(dialog("Nothing is changed on the device.")) },
		func() error { return p.Click(inDialog("Remove")) },
		func() error { return p.Wait("//h1[contains(.,'Devices')]") },
	)
	s.fails(1, "no device is called", "device", "show", tickets)
}

// A held replacement shows what is served and is closed with a reason; one that went back is tried once more with
// what was signed.
func TestTheConsoleOffersTheExits(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	const host, lines = "host-1.mainquay.tidewrack.example", "lines.northholm.tidewrack.example"
	s.ok("demo", "fault", "set", host, "stays-in-maintenance", "--dir", s.dir)
	s.ok("demo", "fault", "set", lines, "refuses", "--dir", s.dir)
	s.ok("replace", host+"/web", "--signer", "bench")
	s.run("", "replace", lines+"/web", "--signer", "bench")
	s.rests("r2", "held")
	s.rests("r3", "reverted")
	s.ok("demo", "fault", "clear", lines, "--dir", s.dir)
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/replacements/r2") },
		func() error {
			return p.Wait("//*[@aria-label='What is served now' and contains(.,'The new certificate')]")
		},
		func() error { return p.Gone("//button[.='Cancel']") }, // Revert is the way back
		func() error { return p.Click(browser.Button("Close: the new certificate stays")) },
		func() error { return p.Type("//*[@role='dialog']//input", "maintenance is left by hand") },
		func() error { return p.Click(inDialog("Close it")) },
		func() error { return p.Wait("//span[@data-state='closed']") },
		func() error { return p.Wait("//main[contains(.,'maintenance is left by hand')]") },

		func() error { return p.Go("/replacements/r3") },
		func() error { return p.Click(browser.Button("Retry with the signed certificate")) },
		func() error { return p.Wait("//h1[contains(.,'r4')]") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
	)
}

// What a role may not do is not offered, and it says which role may.
func TestTheConsoleOffersWhatARoleMay(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "viewer", "--password-file", "-")
	s.ok("replace", tickets+"/web", "--signer", "desk")
	p := openConsole(t, s)
	nothing := func(what string) func() error {
		return func() error { return p.Gone("//button[normalize-space()='" + what + "']") }
	}
	steps(t,
		func() error { return p.Click("//button[starts-with(.,'Sign out')]") },
		func() error { return p.SignIn("tern", "salt and tar and rope") },
		func() error { return p.Click(browser.Button("Set-up")) },
		func() error { return p.Wait("//nav//a[.='Audit log']") },
		func() error { return p.Gone("//nav//a[.='People']") },
		func() error { return p.Go("/slots/" + gate + "/web") },
		func() error { return p.Wait("//main[contains(.,'Replacing needs the role operator')]") },
		nothing("Replace"), nothing("Read now"),
		func() error { return p.Go("/devices/" + gate) },
		func() error { return p.Wait("//main[contains(.,'Changing a device needs the role admin')]") },
		nothing("Edit"), nothing("Remove"), nothing("Try the connection"),
		func() error { return p.Go("/replacements/r2") },
		func() error { return p.Wait("//main[contains(.,'Acting on it needs the role operator')]") },
		nothing("Cancel"),
		func() error { return p.Go("/desk") },
		func() error { return p.Wait("//main[contains(.,'Packing and taking in needs the role operator')]") },
		func() error { return p.Go("/slots") },
		func() error { return p.Wait("//tr[@data-id]") },
		func() error { return p.Gone("//tr[@data-id]//input[@type='checkbox']") },
		func() error { return p.Go("/people") },
		func() error { return p.Wait("//main[contains(.,'Only admins can see users and tokens')]") },
	)
}

// What was typed outlives a click beside the dialog, a service that is away, a session
// that ends and somebody else's change.
func TestTheConsoleLosesNothingTyped(t *testing.T) {
	t.Parallel()
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", t.TempDir(), listen)
	s.login()
	const box = "crane.saltmere.tidewrack.example"
	s.ok("device", "add", box, "--address", "127.0.0.1", "--slot", "web="+daemon.FreePort(t, "127.0.0.1"), "--owner",
		"nobody")
	password := strings.TrimSpace(strings.SplitN(read(t, s.dir+"/first-sign-in.txt"), "password: ", 2)[1])
	p := openConsole(t, s)
	holds := func(name, text string) func() error {
		return func() error {
			is, err := p.Eval("document.querySelector('[data-field=" + name + "]').value")
			if err == nil && is != text {
				t.Errorf("in the field %s stands %q instead of %q", name, is, text)
			}
			return err
		}
	}
	steps(t,
		func() error { return p.Go("/devices/" + box) },
		func() error { return p.Click(browser.Button("Edit")) },
		func() error { return p.Type(field("owner"), "crane crew") },
		holds("owner", "crane crew"),
		func() error { return p.Press("\x1b") },
		func() error { return p.Wait(dialog("What you typed is not saved")) },
		func() error { return p.Click(inDialog("Keep typing")) },
		holds("owner", "crane crew"),
		func() error { s.kill(); return nil },
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Wait("//*[@role='status' and contains(.,'The service does not answer')]") },
	)
	again := launch(t, s.dir, cmdAgain(s))
	steps(t,
		func() error { return p.Gone("//*[@role='status' and contains(.,'The service does not answer')]") },
		holds("owner", "crane crew"),
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Gone("//*[@role='dialog']") },

		// the session is gone
		func() error { return p.Click(browser.Button("Edit")) },
		func() error { return p.Type(field("notes"), "behind the salt shed") },
		p.Forget,
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Wait(dialog("Your session has ended")) },
		func() error { return p.Type("#password-again", password) },
		func() error { return p.Click(inDialog("Go on")) },
		func() error { return p.Gone("//*[@role='dialog']") }, // it was saved: the call was made again

		// somebody else was quicker
		func() error { return p.Click(browser.Button("Edit")) },
		func() error { return p.Type(field("owner"), "the night shift") },
		func() error {
			again.ok("device", "edit", box, "--owner", "the day shift", "--tag", "winter")
			return nil
		},
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Wait(dialog("Somebody else changed it since you opened it")) },
		func() error { return p.Wait(dialog("theirs: the day shift")) },
		func() error { return p.Click("//*[@role='dialog']//label[contains(.,'yours: the night shift')]") },
		func() error { return p.Click(inDialog("Go on with this")) },
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Gone("//*[@role='dialog']") },
	)
	if is := again.ok("device", "show", box, "--as", "json"); !strings.Contains(is, "the night shift") ||
		!strings.Contains(is, "winter") || !strings.Contains(is, "behind the salt shed") {
		t.Errorf("after all of that:\n%s", is)
	}
}

// A page whose part of the console cannot be loaded says so below the navigation, and comes when the service does.
func TestTheConsoleLoadsAPageOnceTheServiceIsBack(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"))
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/slots") },
		func() error { return p.Wait("//h1[contains(.,'Slots')]") },
		func() error { s.kill(); return nil },
		func() error { return p.Click("//nav//a[.='Tasks']") },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'This page could not be loaded')]") },
		func() error { return p.Wait("//nav//a[.='Devices']") },
	)
	launch(t, s.dir, cmdAgain(s))
	steps(t,
		func() error { return p.Wait("//h1[contains(.,'Tasks')]") },
		func() error { return p.Gone("//*[@role='alert']") },
	)
}

// A host key that was confirmed is not taken for another address.
func TestTheConsoleAsksForTheHostKeyOfAnotherAddress(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	first, second := simulated(t, standin.Box{}), simulated(t, standin.Box{})
	host, port, _ := net.SplitHostPort(first.SSHAddr)
	_, other, _ := net.SplitHostPort(second.SSHAddr)
	const mast = "mast.saltmere.tidewrack.example"
	s.addSimulated(mast, first, "correct horse")
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/devices/" + mast) },
		func() error { return p.Click(browser.Button("Edit")) },
		func() error { return p.Wait(dialog(first.HostKey())) },
		func() error { return p.Type(field("linkPort"), other) },
		func() error { return p.Wait(dialog("The host key was shown at another place")) },
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Wait(dialog("The host key or certificate belongs to another address")) },
		func() error { return p.Click(inDialog("Ask for its host key")) },
		func() error { return p.Wait(dialog(second.HostKey())) },
	)
	if is := s.ok("device", "show", mast, "--as", "json"); !strings.Contains(is, first.HostKey()) ||
		!strings.Contains(is, port) {
		t.Errorf("%s:%s was changed:\n%s", host, port, is)
	}
}

// A page that is watched goes on without its stream: it asks by itself.
func TestTheConsoleFollowsWithoutAStream(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	steps(t, func() error { return p.Block("https://*:*/*/events") })
	s.run("", "replace", "radar.gannet-point.tidewrack.example/web", "--signer", "bench")
	steps(t,
		func() error { return p.Go("/replacements/r2") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
	)
}

// rules looks at pages by the rules of accessibility, light and dark.
type rules struct {
	t      *testing.T
	p      *browser.Page
	axe    string
	within string // a part of the page
}

// accessible opens the console of a demo that has something on every page.
func accessible(t *testing.T, within string) *rules {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s := start(t, "demo", t.TempDir())
	s.ok("replace", gate+"/web", "--signer", "bench", "--watch") // r2
	s.ok("replace", tickets+"/web", "--signer", "desk")          // r3
	s.ok("batch", "start", "radar.gannet-point.tidewrack.example/web", "--by", "desk")
	return &rules{t: t, p: openConsole(t, s), axe: string(axe), within: within}
}

func (r *rules) look(what string, rules ...string) {
	r.t.Helper()
	found, err := r.p.Violations(r.axe, r.within, rules...)
	if err != nil {
		r.t.Errorf("%s: %v", what, err)
	} else if found != "" {
		r.t.Errorf("%s breaks\n%s", what, found)
	}
}

// dark looks again in dark colours, in which only the contrast is another one.
func (r *rules) dark(what string) {
	r.t.Helper()
	colours := func(scheme string) func() error {
		return func() error {
			moves, err := r.p.Eval("document.documentElement.setAttribute('data-scheme', '" + scheme + "'), " +
				"document.body.offsetHeight, String(document.getAnimations().length > 20)")
			if moves != "false" { // the browser asks for reduced motion
				r.t.Errorf("%s: everything moves when the colours change, %v", what, err)
			}
			return err
		}
	}
	steps(r.t, colours("dark"), r.p.Settle)
	r.look("dark "+what, "color-contrast")
	steps(r.t, colours("light"), r.p.Settle)
}

// Every page keeps the rules of accessibility, light and dark, wide and narrow.
func TestTheConsoleIsAccessible(t *testing.T) {
	t.Parallel()
	r := accessible(t, "html")
	p := r.p
	pages := []string{"/", "/slots", "/slots/" + gate + "/web", "/devices", "/devices/" + gate, "/devices/" + gate +
		"?section=about", "/replacements", "/replacements?of=batches", "/replacements/r2",
		"/replacements/r3", "/batches/b1", "/ahead", "/calendar", "/notices", "/discovery", "/tasks", "/desk",
		"/desk?of=parcels", "/families", "/people", "/audit", "/settings/policy", "/settings/sites",
		"/settings/signers", "/settings/roots",
		"/settings/credentials", "/settings/account", "/settings/service", "/nowhere",
		"/compare?a=" + gate + "/web&b=" + tickets + "/web"}
	for _, page := range pages {
		steps(t, func() error { return p.Go(page) }, func() error { return p.Wait("//h1") }, p.Settle)
		if shift, err := p.Shift(); err != nil || shift > 0.1 {
			t.Errorf("%s moves by %.3f while it loads, %v", page, shift, err)
		}
		if title, err := p.Eval("document.title"); err != nil || !strings.HasSuffix(title, "Fresh Seal") ||
			title == "Fresh Seal" {
			t.Errorf("the tab of %s says %q, %v", page, title, err)
		}
		r.look(page)
		r.dark(page)
		steps(t, func() error { return p.Size(390, 844) }, p.Settle)
		r.look("narrow "+page, "target-size", "scrollable-region-focusable", "aria-hidden-focus", "button-name",
			"link-name",
			"label", "page-has-heading-one")
		// 1280 by 800 at twice the size, by keyboard
		steps(t, func() error { return p.Size(640, 400) }, p.Settle, func() error {
			_, err := p.Eval("scrollTo(0, 0), document.querySelector('main').focus(), ''")
			return err
		})
		for range 12 {
			steps(t, func() error { return p.Press("\t") })
			if hidden, err := p.Eval(covered); err != nil || hidden != "false" {
				what, _ := p.Eval("document.activeElement.outerHTML.slice(0, 200)")
				t.Errorf("%s: the focus cannot be seen on %s, %v", page, what, err)
				break
			}
		}
		steps(t, func() error { return p.Size(1280, 800) })
	}
}

// Every dialog keeps them too. What is behind it is looked at as a page.
func TestTheConsolesDialogsAreAccessible(t *testing.T) {
	t.Parallel()
	r := accessible(t, "[role=dialog]")
	p := r.p
	dialogs := []struct {
		page string
		open []func() error
	}{
		{"/slots/" + gate + "/web", []func() error{func() error { return p.Click(browser.Button("Replace")) },
			func() error {
				return p.Click(browser.Button("Rehearse"))
			}}},
		{"/replacements/r2", []func() error{func() error { return p.Click(browser.Button("Revert")) }, func() error {
			return p.Wait("//*[@role='dialog']//tr[@data-differs='true']")
		}}},
		{"/devices/" + gate, []func() error{func() error { return p.Click(browser.Button("Edit")) }}},
		{"/devices/" + gate + "?section=about", []func() error{func() error {
			return p.Click(browser.Button("Remove"))
		}}},
		{"/devices", []func() error{func() error { return p.Click(browser.Button("Add a device")) }}},
		{"/devices", []func() error{func() error { return p.Click(browser.Button("Import")) }}},
		{"/devices", []func() error{func() error {
			return p.Click("//input[@aria-label='Choose all on this page']")
		}, func() error { return p.Click("//button[starts-with(.,'Change ')]") }}},
		{"/slots", []func() error{func() error {
			return p.Click("//input[@aria-label='Choose all on this page']")
		}, func() error { return p.Click("//button[starts-with(.,'Replace ')]") }}},
		{"/slots?sort=device", []func() error{func() error { return p.Click(browser.Button("Views")) }, func() error {
			return p.Click("//li[contains(.,'Save this view')]")
		}}},
		{"/settings/signers", []func() error{func() error { return p.Click(browser.Button("Add a signer")) }}},
		{"/notices", []func() error{func() error { return p.Click(browser.Button("Add a rule")) }}},
		{"/notices", []func() error{func() error { return p.Click(browser.Button("Add a channel")) }}},
		{"/", []func() error{func() error { return p.Click(browser.Button("Search")) }}},
	}
	for _, d := range dialogs {
		steps(t, func() error { return p.Go(d.page) }, func() error { return p.Wait("//h1") })
		steps(t, d.open...)
		steps(t, func() error { return p.Wait("//*[@role='dialog']") }, p.Settle)
		r.look("dialog of " + d.page)
		r.dark("dialog of " + d.page)
	}
}

// A device whose web interface is worked on is added in the console: its certificate is shown,
// compared and pinned, and one key word is enough to sign in with from then on.
func TestTheConsoleAddsADeviceWithAWebInterface(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := webKind(t, standin.Box{Kind: standin.WANController})
	host, port, _ := net.SplitHostPort(box.TLSAddr)
	const lines = "lines.northholm.tidewrack.example"
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/devices") },
		func() error { return p.Click(browser.Button("Add a device")) },
		func() error { return p.Type(field("name"), lines) },
		func() error { return p.Type(field("address"), host) },
		func() error {
			return p.Choose("//*[@role='dialog']//*[text()='Family']/following::div[@role='combobox'][1]",
				"WAN controller with a JSON interface")
		},
		func() error { return p.Type(field("port"), port) },
		func() error { return p.Type(field("linkPort"), port) },
		func() error { return p.Type(field("user"), box.WebUser) },
		func() error { return p.Type(field("password"), box.WebPassword) },
		func() error { return p.Click(inDialog("Add it")) },
		func() error { return p.Wait(dialog("belongs to another address")) }, // nothing is sent to what nobody compared
		func() error { return p.Click(inDialog("Ask for its certificate")) },
		func() error { return p.Click(inDialog("The certificate is correct")) },
		func() error { return p.Click(inDialog("Add it")) },
		func() error { return p.Wait("//h1[contains(.,'" + lines + "')]") },
	)
	s.ok("device", "try", lines)
	s.comesTo(lines+"/web", "sealed", "", "--signer", "bench")
}
