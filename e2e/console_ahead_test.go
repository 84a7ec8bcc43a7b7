package e2e

import (
	"strings"
	"testing"

	"freshseal/e2e/browser"
)

// What is to come and who is told, as the browser shows it: the overview answers its three questions, the timeline
// leads to its slots, the forecast counts again, the calendar turns its pages; a network is discovered and adopted; a
// rule is made, a slot acknowledged, and both can be read by the client.
func TestTheConsoleLooksAhead(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	steps(t,
		func() error {
			return p.Wait("//section[@aria-label='Expired or expiring within 7 " +
				"days']//a[contains(.,'radar.gannet-point')]")
		},
		func() error {
			return p.Wait("//section[@aria-label='Expired or expiring within 7 days']//*[contains(.,'changed " +
				"outside Fresh Seal')]")
		},
		func() error {
			return p.Wait("//section[@aria-label='To do this week']//a[contains(.,'tally.gannet-point')]")
		},
		func() error {
			return p.Wait("//section[@aria-label='Waiting and under way' and contains(.,'nothing is waiting')]")
		},

		func() error { return p.Go("/ahead") },
		func() error { return p.Wait("//section[contains(@aria-label,'Forecast')]//td[.='2027']") },
		func() error {
			return p.Wait("//*[@aria-label='Certificates that expire, by site and week']//th[contains(.,'Northholm')]")
		},
		func() error {
			return p.Wait("//section[@aria-label='What else expires' and contains(.,'Tidewrack Ferries Root')]")
		},
		func() error { return p.Choose("#forecast-weeks", "four years") },
		func() error { return p.Wait("//section[contains(@aria-label,'Forecast')]//td[.='2030']") },
		func() error { return p.Choose("#forecast-site", "Northholm") },
		func() error {
			return p.Wait("//section[contains(@aria-label,'Forecast') and contains(.,'certificates.')]//td[.='2030']")
		},
		func() error {
			return p.Click("//section[.//*[@aria-label='Certificates that expire, by month and condition']]//summary")
		},
		func() error {
			return p.Click("//ul[@aria-label='Certificates that expire, by month and condition, as a " +
				"list']//a[contains(.,'expired')]")
		},
		func() error { return p.Wait("//tr[@data-id and contains(.,'radar.gannet-point')]") },
		func() error { return p.Gone("//tr[@data-id and contains(.,'fresh')]") },

		func() error { return p.Go("/calendar") },
		func() error { return p.Wait("//td[@aria-current='date']") },
		func() error { return p.Click("//button[@aria-label='The next month']") },
		func() error { return p.Wait("//td//a[contains(.,'expires ')]") },

		func() error { return p.Go("/discovery") },
		func() error { return p.Type("//*[@data-field='ranges']", "192.0.2.200-192.0.2.215") },
		func() error { return p.Type("//*[@data-field='rate']", "500") },
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Wait("//h2[contains(.,'4 devices not in the fleet')]") },
		func() error { return p.Click("//input[@aria-label='192.0.2.205']") },
		func() error { return p.Click("//button[contains(.,'Adopt 1 chosen')]") },
		func() error { return p.Wait("//h2[contains(.,'3 devices not in the fleet, 1 known')]") },

		func() error { return p.Go("/notices") },
		func() error { return p.Wait("//*[@aria-label='Notices, table']//a[contains(.,'scale.mainquay')]") },
		func() error { return p.Click("//*[@aria-label='Channel log']//button[.='Try']") },
		func() error { return p.Wait("//*[@aria-label='Channel log' and contains(.,'The message was sent.')]") },
		func() error { return p.Click(browser.Button("Add a rule")) },
		func() error { return p.Type(field("name"), "terminal") },
		func() error { return p.Type(field("to"), "nobody") },
		func() error { return p.Type(field("days"), "30, 3") },
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Wait(dialog("channel is called nobody")) },
		func() error { return p.Type(field("to"), "log") },
		func() error { return p.Click(inDialog("Save")) },
		func() error { return p.Wait("//*[@aria-label='Rule terminal' and contains(.,'30, 3 days left')]") },
		func() error { return p.Gone("//*[@role='dialog']") },

		func() error { return p.Go("/slots/scale.mainquay.tidewrack.example/web") },
		func() error { return p.Click(browser.Button("Acknowledge")) },
		func() error { return p.Type(field("reason"), "the scale is being replaced") },
		func() error {
			_, err := p.Eval(`(() => { const f = document.querySelector("[data-field='until']"); const d = new Date(Date.now() + 20 * 864e5).toISOString().slice(0, 10);
				Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(f, d); f.dispatchEvent(new Event('input', {bubbles: true})); return d })()`)
			return err
		},
		func() error { return p.Click(inDialog("Acknowledge")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Go("/notices") },
		func() error {
			return p.Wait("//section[@aria-label='Acknowledged' and contains(.,'the scale is being replaced')]")
		},
		func() error { return p.Click("//section[@aria-label='Acknowledged']//button[.='Withdraw']") },
		func() error {
			return p.Wait("//section[@aria-label='Acknowledged' and contains(.,'No slot is acknowledged')]")
		},
	)
	if rules := s.ok("notice", "rules"); !strings.Contains(rules, "terminal") {
		t.Error(rules)
	}
	if shown := s.ok("device", "show", "192.0.2.205"); !strings.Contains(shown, "maybe-voice-manager") {
		t.Error(shown)
	}
}
