package e2e

import (
	"crypto/x509"
	"testing"
	"time"

	"freshseal/e2e/browser"
	"freshseal/standin"
)

// The middle of the work in the browser: a doubtful answer is looked at and accepted, what happens is approved, and
// the device is touched outside of its windows with a reason. A signer's issuer is confirmed, and an edited policy
// keeps its windows.
func TestTheConsoleLeadsThroughTheGate(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	authority := newTiered(t, 2)
	s.ok("trust-group", "add", "fleet", authority.root(t))
	s.ok("signer", "set", "harbour-ca", "--about", "Harbour Authority", "--max-days", "200")
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box)
	s.ok("policy", "set", "fleet", "--approval", "anybody", "--window", opens(48*time.Hour))
	p := openConsole(t, s)
	for range 2 {
		s.ok("replace", name+"/web", "--signer", "harbour-ca")
		id := s.newest(name)
		s.atGate(id, "signer")
		var asked struct{ Request struct{ PEM string } }
		s.json(&asked, "replacement", "show", id)
		short := authority.answer(t, asked.Request.PEM, false, func(c *x509.Certificate) {
			c.NotAfter = time.Now().AddDate(0, 0, 3)
		})
		s.run("", "intake", short)
		steps(t,
			func() error { return p.Go("/replacements/" + id) },
			func() error { return p.Wait("//main[contains(.,'is valid for 3 days')]") },
			func() error { return p.Click(browser.Button("Accept the answer")) },
			func() error { return p.Click(inDialog("Accept it")) },
			func() error { return p.Wait("//*[@role='status' and contains(.,'waiting for approval')]") },
			func() error { return p.Click(browser.Button("Approve")) },
			func() error {
				return p.Wait("//*[@role='dialog'][contains(.,'Steps on the device') and contains(.,'put the " +
					"certificate in place')]")
			},
			func() error { return p.Click(inDialog("Approve")) },
			func() error { return p.Wait("//*[@role='status' and contains(.,'waiting for window')]") },
			func() error { return p.Wait("//main[contains(.,'no window is open')]") },
			func() error { return p.Click(browser.Button("Change the device now")) },
			func() error { return p.Type("//*[@role='dialog']//input", "the tills refuse it") },
			func() error { return p.Click(inDialog("Change it now")) },
			func() error { return p.Wait("//span[@data-state='sealed']") },
			func() error { return p.Wait("//main[contains(.,'the tills refuse it')]") },
		)
	}
	s.ok("replace", name+"/web", "--signer", "harbour-ca")
	id := s.newest(name)
	s.atGate(id, "signer")
	steps(t,
		func() error { return p.Go("/replacements/" + id) },
		func() error { return p.Click(browser.Button("Pause")) },
		func() error { return p.Wait("//main[contains(.,'Paused by')]") },
		func() error { return p.Click(browser.Button("End the pause")) },
		func() error { return p.Gone("//main[contains(.,'Paused by')]") },

		func() error { return p.Go("/settings/signers") },
		func() error { return p.Wait("//main[contains(.,'tier 2')]") },
		func() error { return p.Wait("//main[contains(.,'confirmed by admin')]") }, // by accepting its answer
		func() error { return p.Go("/settings/policy") },
		func() error { return p.Wait("//textarea[contains(.,'DURATION:PT1H')]") },
	)
}
