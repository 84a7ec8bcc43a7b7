package e2e

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/standin"

	_ "modernc.org/sqlite"
)

// A signer wants the domain proven before it signs; a name was forgotten, so that
// another request is asked for; what is signed for the first one comes all the
// same; and the signer takes longer than it said.
func TestARequestIsProvenRemindedOfAndAskedForAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "serve", dir)
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	second := "winch.saltmere.tidewrack.example"
	s.addSimulated(second, simulated(t, standin.Box{}), "correct horse")
	h := newHarbour(t)
	s.ok("trust-group", "add", "fleet", h.at("root.pem"))
	s.fails(1, "not a valid domain validation", "signer", "set", "harbour", "--proof", "pigeon")
	s.ok("signer", "set", "harbour", "--about", "Harbour Authority", "--contact", "desk@harbour.example",
		"--turnaround", "3", "--proof", "dns", "--prover", "the keeper of the zone", "--wildcards")
	s.ok("replace", name+"/web", "--signer", "harbour")
	s.ok("replace", second+"/web", "--signer", "harbour")
	s.await("r1", "waiting")
	s.await("r2", "waiting")
	first := packed(t, s, "harbour")

	// One task for the domain of both, whoever has the first request.
	s.ok("parcel", "hand", "p1", "--to", "Ms Fulmar", "--reference", "HA-7")
	tasks := s.ok("task", "list", "--as", "csv")
	if strings.Count(tasks, "prove tidewrack.example to harbour") != 1 {
		t.Errorf("the domain's task is not there, once:\n%s", tasks)
	}
	if list := s.ok("replacement", "list"); strings.Count(list, "waiting for validation") != 2 {
		t.Errorf("both wait for the domain:\n%s", list)
	}
	s.ok("replacement", "cancel", "r1") // which had the task
	s.until("task list", "prove tidewrack.example", "task", "list", "--as", "csv")
	task := strings.Fields(strings.Split(s.ok("task", "list"), "\n")[1])[0]
	if text := s.ok("task", "show", task); !strings.Contains(text, "the keeper of the zone") ||
		!strings.Contains(text, "HA-7") {
		t.Errorf("the task says too little:\n%s", text)
	}
	s.ok("task", "answer", task)
	if text := s.ok("replacement", "show", "r2"); !strings.Contains(text, "waiting for signer") ||
		!strings.Contains(text, "Ms Fulmar has it, to be back by") {
		t.Errorf("after the proof:\n%s", text)
	}

	// Nobody answers in time.
	s.stop()
	db, err := sql.Open("sqlite", filepath.Join(dir, "freshseal.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE parcel SET handed_at = handed_at - ?",
		(20 * 24 * time.Hour).Milliseconds()); err != nil {
		t.Fatal(err)
	}
	db.Close()
	s = startAt(t, "serve", dir, strings.TrimPrefix(s.url, "https://"))
	for _, where := range [][]string{{"status"}, {"parcel", "list"}, {"replacement", "show", "r2"}} {
		if text := s.ok(where...); !strings.Contains(text, "ask Ms Fulmar (desk@harbour.example), reference HA-7") {
			t.Errorf("%v does not remind of it:\n%s", where, text)
		}
	}

	// A name was forgotten.
	s.fails(2, "reason", "replacement", "ask-again", "r2", "--name", "winch")
	s.fails(1, "is neither a DNS name", "replacement", "ask-again", "r2", "--reason", "a name was forgotten",
		"--name", "win ch")
	s.ok("replacement", "ask-again", "r2", "--reason", "a name was forgotten", "--name", "winch.tidewrack.example")
	late := s.fails(3, "it answers an earlier request of r2", "intake", h.sign(first[1]))
	if !strings.Contains(late.stdout, "a name was forgotten") || !strings.Contains(late.stdout, "revoke it") {
		t.Errorf("the late answer:\n%s", late.stdout)
	}
	again := packed(t, s, "harbour")
	if len(again) != 1 {
		t.Fatalf("%d requests are in the second parcel", len(again))
	}
	s.ok("intake", h.sign(again[0]), h.chain())
	s.await("r2", "sealed")
	var slot struct {
		Certificate struct{ Names []string }
	}
	s.json(&slot, "slot", "show", second+"/web")
	if fmt.Sprint(slot.Certificate.Names) != "["+second+" winch.tidewrack.example]" {
		t.Errorf("it serves %v", slot.Certificate.Names)
	}
	s.fails(1, "r2 is not waiting for a signer", "replacement", "ask-again", "r2", "--reason", "once more")
}

// A leaf that nobody waits for is kept, with who is nearest to it, until its
// request turns up or somebody throws it away.
func TestACertificateWithoutARequestIsKept(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	s.addSimulated(name, simulated(t, standin.Box{}), "correct horse")
	h := newHarbour(t)
	s.ok("replace", name+"/web", "--signer", "desk")
	s.await("r1", "waiting")
	stranger := filepath.Join(t.TempDir(), "stranger.csr")
	must(t, "", "openssl", "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout",
		stranger+".key", "-out", stranger, "-subj", "/CN=x", "-addext", "subjectAltName=DNS:"+name)
	s.fails(3, "waits for "+name+", with another key", "intake", h.sign(stranger))
	list := s.ok("unmatched", "list")
	if !strings.Contains(list, "r1 (") || strings.Count(list, "\n") != 2 {
		t.Errorf("the unmatched certificates:\n%s", list)
	}
	var all []struct {
		Certificate struct{ SHA256 string }
	}
	s.json(&all, "unmatched", "list")
	s.fails(1, "0 of these certificates", "unmatched", "remove", "zzzz")
	s.ok("unmatched", "remove", all[0].Certificate.SHA256[:10])
	if s.json(&all, "unmatched", "list"); len(all) != 0 {
		t.Errorf("%d are still unmatched", len(all))
	}
}

// packed packs a parcel for a signer and gives its requests.
func packed(t *testing.T, s *server, signer string) []string {
	t.Helper()
	out := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", signer, "--out", out)
	return unpack(t, out)
}

// until waits until a command prints something.
func (s *server) until(what, want string, args ...string) {
	s.t.Helper()
	if within(time.Minute, func() bool { return strings.Contains(s.ok(args...), want) }) {
		return
	}
	s.t.Fatalf("%s never shows %q:\n%s", what, want, s.ok(args...))
}
