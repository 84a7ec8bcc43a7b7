package e2e

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"path/filepath"
	"strings"
	"testing"
	"time"

	plans "freshseal/core/pki/request"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

// A signer's answer that is correct and not what is expected of it waits for a person: the box is not touched, the
// reason is in the intake and beside the replacement, and a right answer that comes later is used. What a person
// accepts is expected from then on.
func TestADoubtfulAnswerWaitsForAPerson(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"))
	s.login()
	harbour, second, foreign := newTiered(t, 2), newTiered(t, 3), newTiered(t, 1)
	for _, known := range []*tiered{harbour, second} {
		s.ok("trust-group", "add", "fleet", known.root(t))
	}
	s.ok("signer", "set", "harbour-ca", "--about", "Harbour Authority", "--max-days", "200")
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box)
	slot := name + "/web"
	ask := func() (id, request string) {
		t.Helper()
		s.ok("replace", slot, "--signer", "harbour-ca")
		id = s.newest(name)
		s.rests(id, "waiting")
		var asked struct{ Request struct{ PEM string } }
		s.json(&asked, "replacement", "show", id)
		return id, asked.Request.PEM
	}
	lives := func(days int) func(*x509.Certificate) {
		return func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, 0, days) }
	}

	// The first answer shows with which authority this signer signs.
	id, request := ask()
	s.ok("intake", harbour.answer(t, request, false))
	s.rests(id, "sealed")
	if shown := s.ok("signer", "show", "harbour-ca"); !strings.Contains(shown, "tier 2") ||
		!strings.Contains(shown, "not confirmed") {
		t.Errorf("the issuer was not learnt:\n%s", shown)
	}
	key := sha256.Sum256(harbour.certificates[1].RawSubjectPublicKeyInfo)
	if shown := s.ok("signer", "issuer", "add", "harbour-ca", hex.EncodeToString(key[:])); !strings.Contains(shown,
		"confirmed by admin") {
		t.Errorf("it cannot be confirmed:\n%s", shown)
	}

	// Each answer is doubtful for its own reason, twice the same, and changes nothing on the box.
	id, request = ask()
	stands := leafAt(t, box.TLSAddr)
	for _, c := range []struct{ code, says, file string }{
		{"issuer-unexpected", "harbour-ca signs with", second.answer(t, request, false)},
		{"lifetime-too-short", "is valid for 1 day", harbour.answer(t, request, false, lives(1))},
		{"lifetime-too-short", "issued at least 81", harbour.answer(t, request, false, lives(60))},
		{"ends-before-old", "before the certificate that it replaces", harbour.answer(t, request, false, lives(85))},
		{"marked-as-authority", "marked as a certification authority",
			harbour.answer(t, request, false, func(c *x509.Certificate) {
				c.IsCA, c.BasicConstraintsValid, c.KeyUsage = true, true, c.KeyUsage|x509.KeyUsageCertSign
			})},
		{"trust-lost", "fleet trust the certificate in use", foreign.answer(t, request, true)},
	} {
		for range 2 {
			out := s.run("", "intake", c.file)
			if out.code != 3 || !strings.Contains(out.stdout, "NOT accepted yet") ||
				!strings.Contains(out.stdout, c.says) || !strings.Contains(out.stdout, "replacement accept "+id) {
				t.Errorf("%s, exit code %d:\n%s%s", c.code, out.code, out.stdout, out.stderr)
			}
		}
		var shown struct {
			State  string
			Unused []struct {
				Acceptable bool
				Findings   []struct{ Code string }
			}
		}
		s.json(&shown, "replacement", "show", id)
		codes := []string{}
		for _, u := range shown.Unused {
			for _, f := range u.Findings {
				if u.Acceptable {
					codes = append(codes, f.Code)
				}
			}
		}
		if shown.State != "waiting" || !strings.Contains(strings.Join(codes, " "), c.code) {
			t.Errorf("%s: it is %s, and the answer that waits has %v", c.code, shown.State, codes)
		}
	}
	if now := leafAt(t, box.TLSAddr); string(now) != string(stands) {
		t.Fatal("a doubtful answer went live")
	}
	s.fails(2, "needs a confirmation", "replacement", "accept", id) // nobody is there to ask
	s.kill()
	again := launch(t, s.dir, cmdAgain(s))
	again.config = s.config
	s = again
	s.rests(id, "waiting")

	// A right answer is used, and those before it stay beside the replacement.
	s.ok("intake", harbour.answer(t, request, false))
	s.rests(id, "sealed")
	if shown := s.ok("replacement", "show", id); strings.Count(shown, "not used:") < 5 {
		t.Errorf("the answers that were not used:\n%s", shown)
	}

	// What a person accepts goes live, and its issuer is expected from then on.
	id, request = ask()
	if out := s.run("", "intake", second.answer(t, request, false)); out.code != 3 {
		t.Errorf("another issuer is accepted:\n%s", out.stdout)
	}
	if out := s.run("", "intake", write(t, filepath.Join(t.TempDir(), "nothing.txt"),
		"a note")); strings.Contains(out.stdout, "answers "+id) {
		t.Errorf("what was refused is repeated at the next intake:\n%s", out.stdout)
	}
	s.ok("replacement", "accept", id, "--yes")
	s.rests(id, "sealed")
	s.fails(1, "has none that waits", "replacement", "accept", id, "--yes")
	id, request = ask()
	s.ok("intake", second.answer(t, request, false))
	s.rests(id, "sealed")
	if shown := s.ok("signer", "show", "harbour-ca"); strings.Count(shown, "confirmed by admin") != 2 {
		t.Errorf("what was accepted is not expected:\n%s", shown)
	}
	if told := s.ok("audit", "list", "--as", "csv"); !strings.Contains(told, "was issued by") {
		t.Errorf("the audit log does not say what was accepted:\n%s", told)
	}
}

// What a signer leaves out of what it is asked for is learnt from its answers and told before the next request
// leaves. A slot whose device also connects as a TLS client asks for that use, and takes no certificate without it.
func TestWhatASignerLeavesOutIsLearnt(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0")
	s.login()
	harbour := newTiered(t, 2)
	s.ok("trust-group", "add", "fleet", harbour.root(t))
	s.ok("signer", "set", "harbour-ca", "--about", "Harbour Authority", "--addresses")
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box)
	slot := name + "/web"
	ask := func(flags ...string) (id, request string) {
		t.Helper()
		s.ok(append([]string{"replace", slot, "--signer", "harbour-ca"}, flags...)...)
		id = s.newest(name)
		s.rests(id, "waiting")
		var asked struct{ Request struct{ PEM string } }
		s.json(&asked, "replacement", "show", id)
		return id, asked.Request.PEM
	}
	servers := func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} }

	// The use for clients that the certificate in use has is not lost without a word; who accepts that once is not
	// asked again.
	id, request := ask()
	s.ok("intake", harbour.answer(t, request, false))
	s.rests(id, "sealed")
	id, request = ask()
	if out := s.run("", "intake", harbour.answer(t, request, false, servers)); out.code != 3 ||
		!strings.Contains(out.stdout, "is for servers alone") {
		t.Fatalf("the use for clients is lost, exit code %d:\n%s", out.code, out.stdout)
	}
	s.ok("replacement", "accept", id, "--yes")
	s.rests(id, "sealed")
	id, request = ask()
	s.ok("intake", harbour.answer(t, request, false, servers))
	s.rests(id, "sealed")

	// Where the device needs that use, the slot is flawed, the request asks for it, and an answer without it is
	// refused before the box is touched.
	if shown := s.ok("slot", "edit", slot, "--client-use"); !strings.Contains(shown, "usage-wrong") &&
		!strings.Contains(shown, "not for TLS clients") {
		t.Errorf("a slot that lacks a use which it needs:\n%s", shown)
	}
	for range 2 {
		if out := s.ok("replace", slot, "--signer", "harbour-ca", "--rehearse"); !strings.Contains(out,
			"harbour-ca signs for servers alone (2 answers)") {
			t.Errorf("the rehearsal does not warn:\n%s", out)
		}
	}
	id, request = ask("--name", "192.0.2.7", "--name", "lamp")
	stands := leafAt(t, box.TLSAddr)
	if block, _ := pem.Decode([]byte(request)); block == nil {
		t.Fatal("no request")
	} else if csr, err := plans.Parse(block.Bytes); err != nil || !csr.ForClients() {
		t.Errorf("the request does not ask for the use: %v", err)
	}
	for range 2 {
		if out := s.run("", "intake", harbour.answer(t, request, false, servers)); out.code != 3 ||
			!strings.Contains(out.stdout, "not for TLS clients") {
			t.Errorf("exit code %d:\n%s", out.code, out.stdout)
		}
	}
	short := harbour.answer(t, request, false, func(c *x509.Certificate) {
		c.IPAddresses, c.DNSNames = nil, []string{name}
	})
	for range 2 { // the same file again shows nothing new
		if out := s.run("", "intake", short); out.code != 3 {
			t.Errorf("names are missing, exit code %d:\n%s", out.code, out.stdout)
		}
	}
	if string(leafAt(t, box.TLSAddr)) != string(stands) {
		t.Fatal("the box was touched")
	}
	s.ok("intake", harbour.answer(t, request, false))
	s.rests(id, "sealed")
	if got := s.show(slot); got.Condition != "fresh" {
		t.Errorf("it is %s: %v", got.Condition, got.Findings)
	}
	// An answer with all of it takes the caution back.
	if out := s.ok("signer", "show", "harbour-ca"); strings.Contains(out, "habit") {
		t.Errorf("it keeps everything by now:\n%s", out)
	}
	s.ok("signer", "set", "yard-ca", "--about", "Yard Authority", "--addresses")
	s.ok("replace", slot, "--signer", "yard-ca", "--name", "192.0.2.7")
	id = s.newest(name)
	s.rests(id, "waiting")
	var asked struct{ Request struct{ PEM string } }
	s.json(&asked, "replacement", "show", id)
	short = harbour.answer(t, asked.Request.PEM, false, func(c *x509.Certificate) { c.IPAddresses = nil })
	for range 2 {
		s.run("", "intake", short)
	}
	if out := s.ok("signer", "show", "yard-ca"); !strings.Contains(out, "leaves out IP addresses (1 answer)") {
		t.Errorf("what it left out was not learnt:\n%s", out)
	}
	s.ok("replacement", "cancel", id)
	if out := s.ok("replace", slot, "--signer", "yard-ca", "--name", "192.0.2.7",
		"--rehearse"); !strings.Contains(out, "yard-ca has left IP addresses out of 1 answer and never kept one; "+
		"192.0.2.7 is asked for") {
		t.Errorf("the rehearsal does not warn:\n%s", out)
	}
}
