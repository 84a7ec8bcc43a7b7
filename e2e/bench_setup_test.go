package e2e

import (
	"crypto/x509"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/e2e/browser"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

// Bench is set up as an authority of your own, by the client and in the browser. What it signed before stays valid,
// its earlier root stays trusted, and the new one is handed out. Of two people who set it up at once the second is
// told.
func TestBenchBecomesAnAuthorityOfOnesOwn(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"))
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	issuer := func() string {
		t.Helper()
		s.ok("replace", name+"/web", "--signer", "bench")
		s.rests(s.newest(name), "sealed")
		leaf, err := x509.ParseCertificate(leafAt(t, box.TLSAddr))
		if err != nil {
			t.Fatal(err)
		}
		return leaf.Issuer.CommonName
	}
	first := issuer()
	setup := []string{"bench", "setup", "--organization", "Tidewrack Ferries", "--level", "Quay Root", "--level",
		"Quay Issuing 1", "--leaf-days", "200"}
	s.fails(2, "needs a confirmation", setup...)
	s.fails(1, "no level ends before what it signs", append(setup, "--below-days", "100", "--yes")...)
	s.fails(1, "one or two below", "bench", "setup", "--level", "Quay Root", "--yes")
	for range 2 { // the second is another authority of the same names
		if out := s.ok(append(setup, "--yes")...); !strings.Contains(out, "CN=Quay Root") ||
			!strings.Contains(out, "up to 200 days") {
			t.Fatal(out)
		}
		if got := issuer(); got != "Quay Issuing 1" || got == first {
			t.Errorf("it signs as %s", got)
		}
		if got := s.show(name + "/web"); got.Condition != "fresh" {
			t.Errorf("it is %s: %v", got.Condition, got.Findings)
		}
	}
	// Of two people who looked at the same authority, the second is told.
	if answer, text := s.caller(t).does("PUT", "/bench", "Content-Type: application/json",
		`{"names": ["A", "B"], "root_days": 900, "below_days": 400, "leaf_days": 90, "replaces": "`+
			strings.Repeat("ab", 32)+`"}`); answer.StatusCode != 409 {
		t.Errorf("%s: %s", answer.Status, text)
	}
	var b struct{ Levels []struct{ SHA256 string } }
	s.json(&b, "bench", "show")
	root := filepath.Join(t.TempDir(), "root.pem")
	s.ok("authority", "export", b.Levels[0].SHA256, "--out", root)
	s.ok("bench", "setup", "--keep-root", "--level", "-", "--level", "Quay Issuing 2", "--leaf-days", "200", "--yes")
	if got := issuer(); got != "Quay Issuing 2" {
		t.Errorf("it signs as %s", got)
	}
	again := filepath.Join(t.TempDir(), "root.pem")
	s.ok("slot", "chain", name+"/web", "--form", "root", "--out", again)
	if read(t, root) != read(t, again) {
		t.Error("the root is another one")
	}
	s.kill()
	next := launch(t, s.dir, cmdAgain(s))
	next.config = s.config
	s = next
	if got := issuer(); got != "Quay Issuing 2" {
		t.Errorf("after a start it signs as %s", got)
	}
	p := openConsole(t, s)
	for _, level := range []string{"Pier Issuing", "Jetty Issuing"} {
		steps(t,
			func() error { return p.Go("/settings/signers") },
			func() error { return p.Click(browser.Button("Set up anew")) },
			func() error { return p.Type("//*[@role='dialog']//input[@name='root']", level+" Root") },
			func() error { return p.Type("//*[@role='dialog']//input[@name='issuing']", level) },
			func() error { return p.Click(inDialog("Set up")) },
			func() error { return p.Wait("//main[contains(.,'" + level + "')]") },
		)
		if got := issuer(); got != level {
			t.Errorf("it signs as %s", got)
		}
	}
}
