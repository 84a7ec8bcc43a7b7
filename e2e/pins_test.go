package e2e

import (
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"strings"
	"testing"

	"freshseal/e2e/browser"
	"freshseal/standin"
)

type pinUpdate struct{ ID, Who, What, Old, New, Confirmed_by string }

// pinUpdates returns the pins pending after a replacement, by who it is.
func (s *server) pinUpdates(of ...string) map[string]pinUpdate {
	s.t.Helper()
	var all []pinUpdate
	s.json(&all, append([]string{"pin", "pending"}, of...)...)
	out := map[string]pinUpdate{}
	for _, t := range all {
		out[t.Who] = t
	}
	return out
}

// keyPin is the pin of a certificate's public key.
func keyPin(t *testing.T, der []byte) string {
	t.Helper()
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return base64.StdEncoding.EncodeToString(sum[:])
}

func fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// Systems have pinned what a slot serves. They are named before it is replaced, and stand
// as tasks after, with what they know and what they need, until somebody says they were
// told. Nobody is reported a value in between, or of what they know already.
func TestWhoPinnedAFingerprintIsTold(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	s := start(t, "serve", t.TempDir())
	s.login()
	s.addSimulated(name, box, "correct horse")
	slot := name + "/web"
	first := leafAt(t, box.TLSAddr)
	s.ok("pin", "add", slot, "--who", "booking", "--how", "write to booking@tidewrack.example")
	s.ok("pin", "add", slot, "--who", "monitoring", "--what", "key", "--how", "enter it under probes")
	s.ok("pin", "add", slot, "--who", "old ticket printer", "--what", "certificate", "--how", "carry it there")
	s.ok("pin", "add", slot, "--who", "gone", "--how", "nobody knows")
	s.fails(1, "already", "pin", "add", slot, "--who", "booking", "--how", "again")
	s.fails(1, "can be pinned", "pin", "add", slot, "--who", "x", "--what", "serial", "--how", "y")
	s.fails(1, "not a line", "pin", "add", slot, "--who", "two\nlines", "--how", "y")
	s.fails(1, "how they get", "pin", "add", slot, "--who", "x", "--how", " ")
	s.fails(1, "no slot", "pin", "add", name+"/eap", "--who", "x", "--how", "y")
	s.ok("pin", "remove", "p4")
	s.fails(1, "no pin is called", "pin", "remove", "p4")
	s.fails(1, "no pin is called", "pin", "remove", "4; DROP TABLE pin")

	if out := s.ok("replace", slot, "--signer", "bench", "--rehearse"); !strings.Contains(out,
		"pin      booking, who recorded SHA-256 of the certificate of web: it rejects the new certificate until it "+
			"knows it\n           write to booking@") {
		t.Errorf("the rehearsal says\n%s", out)
	}
	if out := s.ok("replace", slot, "--signer", "bench", "--watch"); !strings.HasSuffix(out,
		"pins pending: 3 recorded the old certificate: freshseal pin pending r1\nr1: sealed\n") {
		t.Errorf("it ends with\n%s", out)
	}
	second := leafAt(t, box.TLSAddr)
	all := s.pinUpdates()
	if got := all["booking"]; got.Old != fingerprint(first) || got.New != fingerprint(second) {
		t.Errorf("%+v", got)
	}
	if got := all["monitoring"]; got.Old != keyPin(t, first) || got.New != keyPin(t, second) {
		t.Errorf("%+v", got)
	}
	if block, _ := pem.Decode([]byte(all["old ticket printer"].New)); block == nil ||
		!bytes.Equal(block.Bytes, second) {
		t.Errorf("%+v", all["old ticket printer"])
	}
	if len(all) != 3 {
		t.Errorf("%v", all)
	}
	if out := s.ok("task", "list"); !strings.Contains(out, "booking is pending, of "+slot) ||
		!strings.Contains(out, fingerprint(second)) {
		t.Errorf("the tasks say\n%s", out)
	}
	s.as("viewer").fails(1, "role", "pin", "confirm", all["booking"].ID)
	s.ok("pin", "confirm", all["booking"].ID, "--note", "they answered")
	s.fails(1, "confirmed by admin already", "pin", "confirm", all["booking"].ID)
	s.fails(1, "no pending pin is called", "pin", "confirm", "n99")
	if got := s.pinUpdates("r1")["booking"]; got.Confirmed_by != "admin" {
		t.Errorf("%+v", got)
	}
	if audit := s.ok("audit", "list", "--as", "csv"); !strings.Contains(audit, "a pin was updated") {
		t.Errorf("the audit log does not say that somebody was told:\n%s", audit)
	}

	// A second replacement before the others were told.
	s.ok("replace", slot, "--signer", "bench", "--watch")
	third := leafAt(t, box.TLSAddr)
	all = s.pinUpdates()
	if got := all["booking"]; got.Old != fingerprint(second) || got.New != fingerprint(third) {
		t.Errorf("who was told of the first knows that one: %+v", got)
	}
	if got := all["monitoring"]; len(all) != 3 || got.Old != keyPin(t, first) || got.New != keyPin(t, third) {
		t.Errorf("who was not told knows the one before it: %+v", got)
	}

	// It is reverted: who was told of the second knows what is served now, the others do not.
	s.ok("replacement", "revert", "r2", "--yes")
	s.await("r2", "reverted")
	all = s.pinUpdates()
	if _, has := all["booking"]; has || len(all) != 2 || all["monitoring"].Old != keyPin(t, first) ||
		all["monitoring"].New != keyPin(t, second) {
		t.Errorf("after the revert: %+v", all)
	}
	s.ok("pin", "confirm", all["old ticket printer"].ID)

	p := openConsole(t, s)
	steps(t,
		func() error { return p.Click("//a[.='1 pin pending']") },
		func() error { return p.Wait("//ul[@aria-label='Pins pending' and contains(.,'monitoring')]") },
		func() error { return p.Click("//button[@aria-label='Confirm monitoring']") },
		func() error { return p.Type("//*[@role='dialog']//textarea", "by telephone") },
		func() error { return p.Click("//*[@role='dialog']//button[.='Confirm']") },
		func() error { return p.Gone("//ul[@aria-label='Pins pending']") },
		func() error { return p.Go("/slots/" + slot) },
		func() error {
			return p.Wait("//section[@aria-label='Pinned by' and contains(.,'old ticket printer')]")
		},
		func() error { return p.Click(browser.Button("Add a pin")) },
		func() error { return p.Type("//label[contains(.,'Who')]/following::input[1]", "gate crew") },
		func() error {
			return p.Type("//label[contains(.,'How they are told')]/following::textarea[1]", "by radio")
		},
		func() error { return p.Click("//*[@role='dialog']//button[.='Add']") },
		func() error { return p.Wait("//section[@aria-label='Pinned by' and contains(.,'gate crew')]") },
		func() error { return p.Click("//button[@aria-label='Remove the pin of gate crew']") },
		func() error { return p.Click("//*[@role='dialog']//button[.='Remove']") },
		func() error {
			return p.Wait("//section[@aria-label='Pinned by' and not(contains(.,'gate crew'))]")
		},
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Choose(signerField, "bench") },
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error {
			return p.Wait("//*[@aria-label='Rehearsal' and contains(.,'Pin: monitoring, who recorded the SHA-256 " +
				"of the public key of web')]")
		},
	)
	if faults := p.Faults(); len(faults) > 0 {
		t.Error(faults)
	}
	if out := s.ok("task", "list"); out != "nothing waits for a person\n" {
		t.Error(out)
	}

	// A trust store holds the root: it is told when that changes, and not before.
	s.ok("pin", "add", slot, "--who", "supervisor", "--what", "root", "--how", "import it")
	if out := s.ok("replace", slot, "--signer", "bench", "--rehearse"); !strings.Contains(out,
		"supervisor, who recorded the root of its chain of web: it rejects the new certificate where its chain "+
			"ends in another root") {
		t.Errorf("the rehearsal says\n%s", out)
	}
	s.ok("replace", slot, "--signer", "bench", "--watch")
	if _, told := s.pinUpdates()["supervisor"]; told {
		t.Error("the root is the same, and the supervisor is to be told")
	}
}
