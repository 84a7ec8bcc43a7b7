package e2e

import (
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshseal/contract"
)

const (
	gate    = "gate-1.mainquay.tidewrack.example"
	tickets = "tickets.northholm.tidewrack.example"
	radar   = "radar.gannet-point.tidewrack.example"
)

// The first page of the README, from the factory certificate to the seal.
func TestFromAFactoryCertificateToAProvenReplacement(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())

	list := s.ok("slot", "list")
	for _, condition := range []string{"unreachable", "expired", "factory", "unexpected", "flawed", "overdue", "due",
		"fresh"} {
		if !strings.Contains(list, " "+condition+" ") {
			t.Errorf("no slot is %s:\n%s", condition, list)
		}
	}
	if strings.Index(list, " expired ") > strings.Index(list, " fresh ") {
		t.Errorf("not the worst first:\n%s", list)
	}
	for line := range strings.Lines(list) {
		if len([]rune(line)) > 81 {
			t.Errorf("wider than 80 columns: %s", line)
		}
	}
	before := s.show(gate + "/web")
	if before.Condition != "factory" || len(before.Findings) == 0 || before.Findings[0].Remedy == "" {
		t.Errorf("before: %+v", before)
	}

	rehearsal := s.ok("replace", gate+"/web", "--signer", "bench", "--rehearse")
	if !strings.Contains(rehearsal, "openssl req -new") || !strings.Contains(rehearsal, "DNS.1 = "+gate) {
		t.Errorf("rehearsal:\n%s", rehearsal)
	}
	if all := s.ok("replacement", "list", "--as", "csv"); strings.Count(all, "\n") != 2 {
		t.Errorf("a rehearsal began something:\n%s", all)
	}

	watched := s.ok("replace", gate+"/web", "--signer", "bench", "--watch")
	last := -1
	for _, stage := range []string{"survey ", "request ", "sign ", "backup ", "install ", "activate ", "prove ",
		"seal ", "r2: sealed"} {
		at := strings.Index(watched, stage)
		if at < last {
			t.Errorf("%q is missing or out of order:\n%s", stage, watched)
		}
		last = at
	}
	after := s.show(gate + "/web")
	if after.Condition != "fresh" || len(after.Chain) != 4 || after.Certificate.SHA256 == before.Certificate.SHA256 {
		t.Errorf("after: %+v", after)
	}
	if text := s.ok("slot", "show", gate+"/web"); !strings.Contains(text, "old "+before.Certificate.SHA256) ||
		!strings.Contains(text, "new "+after.Certificate.SHA256) {
		t.Errorf("the fingerprints are not told:\n%s", text)
	}
	if left, _ := filepath.Glob(filepath.Join(s.dir, "boxes", "gate-1*", "root",
		"var/lib/freshseal/r2/*.pem")); len(left) > 0 {
		t.Errorf("left on the box: %v", left)
	}
}

// The desk: a person signs with openssl, and sends back first too little.
func TestADeskSignsInItsOwnTime(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	desk := newHarbour(t)

	if out := s.ok("replace", tickets+"/web", "--signer", "desk"); !strings.Contains(out, "waiting for signer") {
		t.Fatalf("it does not wait:\n%s", out)
	}
	s.fails(1, "in progress", "replace", tickets+"/web", "--signer", "bench")
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	s.fails(1, "no pending request", "parcel", "pack", "--signer", "desk", "--out", parcel+".2")
	request := unpack(t, parcel)[0]
	letter, err := os.ReadFile(filepath.Join(filepath.Dir(request), "list.txt"))
	if err != nil || !strings.Contains(string(letter), tickets) {
		t.Errorf("the list for the signer: %v\n%s", err, letter)
	}
	signed := desk.sign(request)

	// A leaf for another key, a picture, and a leaf without its intermediate.
	must(t, "", "openssl", "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout",
		desk.at("other.key"),
		"-subj", "/CN="+tickets, "-addext", "subjectAltName=DNS:"+tickets, "-out", desk.at("other.csr"))
	wrong := s.fails(3, "no request here has this leaf's key", "intake", desk.sign(desk.at("other.csr")), desk.chain())
	if !strings.Contains(wrong.stdout, "r2 ("+tickets+"/web) waits for "+tickets+", with another key") {
		t.Errorf("the nearest request is not named:\n%s", wrong.stdout)
	}
	s.fails(3, "a picture", "intake", write(t, desk.at("signed.cer"), "\x89PNG\r\n\x1a\n"))

	// The service is killed while it waits, and nothing is lost.
	s.kill()
	s = start(t, "demo", s.dir)
	s.await("r2", "waiting")

	// Everything in one heap and in the wrong order, with Windows line ends.
	heap := strings.ReplaceAll("Dear colleague,\n"+desk.read("root.pem")+desk.read("sub.pem"), "\n", "\r\n")
	s.ok("intake", write(t, desk.at("mail.txt"), heap), signed, "--trust-roots")
	s.await("r2", "sealed")
	if after := s.show(tickets + "/web"); after.Condition != "fresh" || len(after.Chain) != 3 {
		t.Errorf("after: %+v", after)
	}
	if out := s.ok("replacement", "show", "r2"); !strings.Contains(out, "sealed") ||
		!regexp.MustCompile(`(?m)^ +sign +[\d.]+ s, waited \d`).MatchString(out) {
		t.Error(out)
	}
	// The times of the stages, waits included, are those of the whole, through a kill as well.
	var r contract.Replacement
	s.json(&r, "replacement", "show", "r2")
	sum := 0.0
	for _, spent := range r.StageTimes {
		sum += spent.Ran + spent.Waited
		if waits := spent.Stage == "sign"; waits != (spent.Waited > 0) {
			t.Errorf("%+v", spent)
		}
	}
	if whole := r.ChangedAt.Sub(r.StartedAt).Seconds(); math.Abs(sum-whole) > 0.01 || sum == 0 {
		t.Errorf("the stages took %v s, the whole %v s: %+v", sum, whole, r.StageTimes)
	}
}

// A leaf may come long before its intermediate.
func TestALeafWaitsForItsIntermediate(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	desk := newHarbour(t)
	s.ok("replace", radar+"/web", "--signer", "desk", "--key", "rsa-2048")
	s.await("r2", "waiting")
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	s.fails(3, "Harbour Issuing", "intake", desk.sign(unpack(t, parcel)[0]))
	s.await("r2", "waiting")
	// Nobody said that this root is trusted, and clients trust what is served now: it does not go live.
	s.fails(3, "fleet trust the certificate in use", "intake", desk.at("sub.pem"), desk.at("root.pem"))
	s.await("r2", "waiting")
	s.ok("trust-group", "add", "fleet", desk.at("root.pem"))
	s.ok("intake", desk.at("sub.pem"))
	s.await("r2", "sealed")
	if after := s.show(radar + "/web"); after.Condition != "fresh" {
		t.Errorf("with the root trusted: %+v", after)
	}
}
