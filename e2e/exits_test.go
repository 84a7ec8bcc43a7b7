package e2e

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
	"freshseal/store"

	_ "modernc.org/sqlite"
)

// A replacement is held because somebody put a third certificate onto the box. It says first why, what is served and
// what can be done; it is closed as what the wire shows and as nothing else, and the device is free.
func TestAHeldReplacementIsClosedAsTheWireShows(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "wan-controller"))
	s.login()
	box, more := webBox(t, standin.Box{Kind: standin.WANController})
	s.addWeb(name, "quick-wan-controller", box, more...)
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	s.fails(1, "only a held replacement is closed", "replacement", "close", "r1", "--as", "new", "--reason", "as it is")
	box.SetFaults(standin.Faults{ThirdCertificate: true})
	s.run("", "replace", name+"/web", "--signer", "bench", "--watch")
	s.rests("r2", "held")
	box.SetFaults(standin.Faults{})

	shown := s.ok("replacement", "show", "r2")
	lines := strings.SplitN(shown, "\n", 9)
	first := strings.Join(lines[:len(lines)-1], "\n")
	for _, want := range []string{"held: ", "a third", "Corvane service technician", "freshseal replacement close " +
		"r2 --as neither"} {
		if !strings.Contains(first, want) {
			t.Errorf("its first lines do not say %q:\n%s", want, shown)
		}
	}
	s.fails(1, "has a replacement in progress", "replace", name+"/web", "--signer", "bench")
	s.fails(1, "not every address serves the new certificate", "replacement", "close", "r2", "--as", "new",
		"--reason", "it looks fine")
	s.fails(1, "not every address serves the old certificate", "replacement", "close", "r2", "--as", "old",
		"--reason", "it looks fine")
	s.fails(1, "the reason is missing", "replacement", "close", "r2", "--as", "neither", "--reason", " ")
	s.ok("replacement", "close", "r2", "--as", "neither", "--reason", "the technician was here")
	var r struct{ State, Closed_as, Why string }
	s.json(&r, "replacement", "show", "r2")
	if r.State != "closed" || !strings.Contains(r.Why, "the technician was here") {
		t.Errorf("%+v", r)
	}
	if list := s.ok("replacement", "list", "--state", "closed"); !strings.Contains(list, "r2") {
		t.Errorf("closed ones are\n%s", list)
	}
	if entries := s.ok("audit", "list"); !strings.Contains(entries, "close r2 as neither") ||
		!strings.Contains(entries, "the technician was here") {
		t.Errorf("the audit log does not say so:\n%s", entries)
	}
	s.run("", "read", name+"/web")
	if now := s.show(name + "/web"); now.Condition == "unexpected" {
		t.Errorf("what was accepted is %s", now.Condition)
	}
	s.ok("device", "try", name) // the pin is what was accepted
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	s.fails(1, "only a held replacement is closed", "replacement", "close", "r2", "--as", "neither", "--reason",
		"once more")
}

// What cannot be cleared after a close is a task: it is finished by whoever removed it by hand, or ends when it is
// cleared after all. The second time as the first.
func TestWhatIsLeftAfterACloseIsATask(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-files-ssh"))
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "quick-web-files-ssh")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	for i, id := range []string{"r2", "r3"} {
		other := t.TempDir()
		must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
			"-keyout", filepath.Join(other, "key"), "-out", filepath.Join(other, "pem"), "-days", "100", "-subj",
			"/O=Corvane/CN=service technician")
		box.SetFaults(standin.Faults{KeepServing: true})
		s.ok("replace", name+"/web", "--signer", "bench")
		s.until("stage prove", `"stage": "prove"`, "replacement", "show", id, "--as", "json")
		if err := box.Meddle([]byte(read(t, filepath.Join(other, "pem"))),
			[]byte(read(t, filepath.Join(other, "key")))); err != nil {
			t.Fatal(err)
		}
		s.rests(id, "held")
		box.SetFaults(standin.Faults{})
		s.okWith("wrong", "device", "edit", name, "--password-file", "-")
		s.ok("replacement", "close", id, "--as", "neither", "--reason", "the technician was here")
		s.until("the task", "clearing", "task", "list")
		var tasks []struct{ ID, Replacement, Text string }
		s.json(&tasks, "task", "list")
		if len(tasks) != 1 || tasks[0].Replacement != id || !strings.Contains(tasks[0].Text, "refuses") {
			t.Fatalf("%+v", tasks)
		}
		s.fails(1, "still has something left", "replacement", "clear", id)
		if i == 0 {
			s.ok("task", "answer", tasks[0].ID)
			if entries := s.ok("audit", "list", "--as", "json"); !strings.Contains(entries,
				"remove by hand what r2 left") {
				t.Errorf("the audit log does not say so:\n%s", entries)
			}
		}
		s.okWith("correct horse", "device", "edit", name, "--password-file", "-")
		if i == 1 {
			s.ok("replacement", "clear", id)
		}
		s.fails(1, "has ended", "task", "answer", tasks[0].ID)
		s.fails(1, "has nothing to clear", "replacement", "clear", id)
		if open := s.ok("task", "list"); strings.Contains(open, "clearing") {
			t.Errorf("it is still a task:\n%s", open)
		}
	}
}

// A box whose key was made again since cannot use what was signed before: a retry says so, and nothing is sent that
// changes it. Where it still holds the key, the retry is sealed; the second time too.
func TestARetryLooksForTheKey(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "wan-controller"))
	s.login()
	var changes atomic.Int32
	box, more := webBox(t, standin.Box{Kind: standin.WANController, Watch: func(what string, done bool) bool {
		if strings.HasPrefix(what, "PUT ") || strings.HasPrefix(what, "POST /api/certificates") {
			changes.Add(1)
		}
		return true
	}})
	s.addWeb(name, "quick-wan-controller", box, more...)
	s.ok("signer", "set", "harbour", "--about", "Harbour Authority", "--turnaround", "3")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	refused := func(id string) {
		t.Helper()
		box.SetFaults(standin.Faults{FailTest: true})
		s.run("", "replace", name+"/web", "--signer", "bench", "--watch")
		s.rests(id, "reverted")
		box.SetFaults(standin.Faults{})
	}
	refused("r2")
	s.ok("replace", name+"/web", "--signer", "harbour") // makes another key, and is given up
	s.rests("r3", "waiting")
	s.ok("replacement", "cancel", "r3")
	changes.Store(0)
	s.fails(1, "the device no longer holds the key of the request; nothing was touched", "replacement",
		"retry", "r2")
	if n := changes.Load(); n != 0 {
		t.Errorf("%d calls changed the box", n)
	}
	for _, ids := range [][2]string{{"r4", "r5"}, {"r6", "r7"}} {
		refused(ids[0])
		s.ok("replacement", "retry", ids[0])
		s.rests(ids[1], "sealed")
	}
}

// The answer to a call that may not be repeated is lost, and the box is signed out of after it. The step is found all
// the same: nothing repeats it but a person who says so, and whoever says that it was done gives what it would have
// captured.
func TestALostAnswerIsNeverSentAgain(t *testing.T) {
	t.Parallel()
	text := read(t, quickFamilies(t, "wan-controller")+"/quick-wan-controller.procedure.yaml")
	text = strings.Replace(text, "procedure: quick-wan-controller", "procedure: once", 1)
	text = strings.Replace(text, "      expect: {status: 202, json: {/state: \"^accepted$\"}}\n      refused: "+
		"{status: 422}\n      repeat: safe\n", "      expect: {status: 202}\n      capture: {told: {json: /state}, "+
		"kept: {json: /state, keep: true}}\n      limit: 5s\n", 1)
	text = strings.Replace(text, "    - {step: have the interface look again", "    - {step: name the state, http: "+
		"\"GET /api/certificates/{{certificate}}\", query: {state: \"{{told}}\"}, until: {status: 200}, limit: "+
		"4s}\n    - {step: have the interface look again", 1)
	folder := t.TempDir()
	write(t, folder+"/once.procedure.yaml", text)
	for _, answer := range []string{"done", "not-done", "revert"} {
		t.Run(answer, func(t *testing.T) {
			t.Parallel()
			s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder)
			s.login()
			var puts atomic.Int32
			var armed atomic.Bool
			var box *standin.Running
			box, more := webBox(t, standin.Box{Kind: standin.WANController, Watch: func(what string, done bool) bool {
				if what != "PUT /api/certificates/web" {
					return true
				}
				lose := armed.Load()
				if !done && lose && answer == "not-done" {
					armed.Store(false)
					box.Drop() // it never came to the box
					return false
				}
				if done {
					puts.Add(1)
					if lose {
						armed.Store(false)
						box.Drop() // the box did it, and the answer is lost
					}
				}
				return true
			}})
			s.addWeb(name, "once", box, more...)
			s.ok("replace", name+"/web", "--signer", "bench", "--watch")
			first := leafAt(t, box.TLSAddr)
			puts.Store(0)
			armed.Store(true)
			s.run("", "replace", name+"/web", "--signer", "bench", "--watch")
			s.rests("r2", "held")
			s.fails(1, "it is unknown whether the step “import the certificate” was done", "replacement", "resume",
				"r2")
			switch answer {
			case "done":
				s.fails(1, "later steps need {{told}}", "replacement", "resume", "r2", "--step", "done")
				s.ok("replacement", "resume", "r2", "--step", "done", "--value", "told=accepted", "--value",
					"kept=as the box gave it")
				s.rests("r2", "sealed")
				out := t.TempDir() + "/kept"
				s.ok("replacement", "file", "r2", "kept", "--reason", "to see that it is here", "--out", out)
				if got := read(t, out); got != "as the box gave it" {
					t.Errorf("what a person gave in place of a kept file is %q", got)
				}
			case "not-done":
				s.ok("replacement", "resume", "r2", "--step", "not-done")
				s.rests("r2", "sealed")
			default:
				s.ok("replacement", "revert", "r2", "--yes")
				s.rests("r2", "reverted")
				for range 30 { // it restarts
					if bytes.Equal(leafAt(t, box.TLSAddr), first) {
						break
					}
					time.Sleep(100 * time.Millisecond)
				}
				if !bytes.Equal(leafAt(t, box.TLSAddr), first) {
					t.Error("it is reverted, and does not serve what stood before")
				}
			}
			if n := puts.Load(); n != 1 {
				t.Errorf("the box was given the certificate %d times", n)
			}
		})
	}
}

// A box takes the new certificate and goes on serving the old one, and its family may take half an hour to restart.
// Whoever cancels meanwhile, or reverts, does not wait for that, the service being killed in between or not; the
// first reason is the person's.
func TestACancelledReplacementDoesNotWaitForTheWire(t *testing.T) {
	t.Parallel()
	folder := quickFamilies(t, "web-files-ssh")
	text := read(t, folder+"/quick-web-files-ssh.procedure.yaml")
	write(t, folder+"/slow.procedure.yaml", strings.NewReplacer("procedure: quick-web-files-ssh", "procedure: slow",
		"restart_limit: 5s", "restart_limit: 30m").Replace(text))
	for _, way := range []string{"cancel", "revert", "cancel, killed"} {
		t.Run(way, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			s := startAt(t, "serve", dir, "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"), "--procedures", folder)
			s.login()
			box := simulated(t, standin.Box{})
			s.addSimulated(name, box, "correct horse")
			s.ok("device", "edit", name, "--family", "slow")
			s.ok("replace", name+"/web", "--signer", "bench", "--watch")
			stood := leafAt(t, box.TLSAddr)
			box.SetFaults(standin.Faults{KeepServing: true})
			s.ok("replace", name+"/web", "--signer", "bench")
			s.until("stage prove", `"stage": "prove"`, "replacement", "show", "r2", "--as", "json")
			if verb, killed := strings.CutSuffix(way, ", killed"); killed {
				if answer, said := s.caller(t).does("POST", "/replacements/r2/"+verb, "",
					""); answer.StatusCode != 202 {
					t.Fatalf("%d %s", answer.StatusCode, said)
				}
				s.kill()
				s = launch(t, dir, cmdAgain(s))
			} else {
				s.ok(append([]string{"replacement", verb, "r2"}, map[string][]string{"revert": {"--yes"}}[verb]...)...)
			}
			s.rests("r2", "reverted")
			var r struct{ Why string }
			if s.json(&r, "replacement", "show", "r2"); !strings.HasPrefix(r.Why, "admin asked for it") ||
				!strings.Contains(r.Why, "stopped while the wire still said") {
				t.Errorf("it is reverted because %s", r.Why)
			}
			if !bytes.Equal(leafAt(t, box.TLSAddr), stood) {
				t.Error("it does not serve what stood before")
			}
		})
	}
}

// An appliance goes back to its old files by itself after the seal. That is an alarm of its own, which names the
// replacement and offers its revert; the revert finds everything as it was, and ends. The same once more, and with a
// stranger's certificate nothing is reverted.
func TestAChangeAfterTheSealOffersTheRevert(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	s.ok("channel", "set", "log", "--syslog", "127.0.0.1:9", "--pin", strings.Repeat("ab", 32))
	s.ok("notice", "rule", "broken", "--condition", "unreachable", "--to", "log")
	file := func(name string) []byte { return []byte(read(t, filepath.Join(box.Dir, "root", name))) }
	for _, id := range []string{"r2", "r3"} {
		chain, key := file(standin.CertificateFile), file(standin.KeyFile)
		s.ok("replace", name+"/web", "--signer", "bench", "--watch")
		if s.ok("read", name+"/web"); strings.Contains(s.ok("slot", "show", name+"/web"),
			"was sealed, the slot became") {
			t.Error("nothing changed, and it says so")
		}
		if err := box.Meddle(chain, key); err != nil {
			t.Fatal(err)
		}
		s.run("", "read", name+"/web")
		shown := s.ok("slot", "show", name+"/web")
		for _, want := range []string{"less than a minute after " + id + " was sealed, the slot became unexpected",
			"freshseal replacement revert " + id} {
			if !strings.Contains(shown, want) {
				t.Errorf("the slot does not show %q:\n%s", want, shown)
			}
		}
		s.until("the alarm", "changed after "+id+" was sealed: unexpected", "notice", "list")
		s.ok("replacement", "revert", id, "--yes")
		s.rests(id, "reverted")
		if !bytes.Equal(file(standin.CertificateFile), chain) || !bytes.Equal(file(standin.KeyFile), key) {
			t.Error("the files are not what they were")
		}
		if now := s.show(name + "/web"); now.Condition == "unexpected" {
			t.Error("it is reverted, and unexpected")
		}
	}
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	other := t.TempDir()
	must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
		"-keyout", filepath.Join(other, "key"), "-out", filepath.Join(other, "pem"), "-days", "100", "-subj",
		"/O=Corvane/CN=service technician")
	if err := box.Meddle([]byte(read(t, filepath.Join(other, "pem"))),
		[]byte(read(t, filepath.Join(other, "key")))); err != nil {
		t.Fatal(err)
	}
	s.run("", "read", name+"/web")
	if shown := s.ok("slot", "show", name+"/web"); !strings.Contains(shown, "after r4 was sealed") ||
		strings.Contains(shown, "replacement revert r4") {
		t.Errorf("a revert that is refused is offered, or nothing is said:\n%s", shown)
	}
	s.fails(1, "it was changed since", "replacement", "revert", "r4", "--yes")
}

// A replacement that an earlier program began, with a procedure whose undo is "the one before", is ended by this one:
// on a refusal nothing is sent, and the box keeps what it had.
func TestAReplacementOfAnEarlierProgram(t *testing.T) {
	t.Parallel()
	for _, family := range []string{"wan-controller", "voice-manager"} {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			folder := quickFamilies(t, family)
			dir := t.TempDir()
			s := startAt(t, "serve", dir, "127.0.0.1:0", "--procedures", folder)
			s.login()
			kind := map[string]standin.Kind{"wan-controller": standin.WANController,
				"voice-manager": standin.VoiceManager}[family]
			box, more := webBox(t, standin.Box{Kind: kind})
			s.addWeb(name, "quick-"+family, box, more...)
			s.ok("replace", name+"/web", "--signer", "bench", "--watch")
			first := leafAt(t, box.TLSAddr)
			s.ok("policy", "set", "fleet", "--approval", "anybody")
			s.run("", "replace", name+"/web", "--signer", "bench", "--watch")
			s.rests("r2", "waiting") // for approval: request and certificate are there
			s.stop()

			// As the earlier program stored it.
			old := read(t, "../core/language/procedure/testdata/second/"+family+".procedure.yaml")
			old = strings.ReplaceAll(strings.Replace(old, "procedure: "+family, "procedure: quick-"+family, 1),
				"restart_limit: 15m", "restart_limit: 4s")
			old = strings.ReplaceAll(old, "restart_limit: 5m", "restart_limit: 4s")
			db, err := sql.Open("sqlite", filepath.Join(dir, "freshseal.db"))
			if err != nil {
				t.Fatal(err)
			}
			for _, q := range []struct {
				text string
				args []any
			}{{`INSERT INTO procedure_text (sha256, yaml) VALUES (?, ?)`, []any{store.Digest(old), old}},
				{`UPDATE replacement SET procedure = ?, edition = 2 WHERE id = 2`, []any{store.Digest(old)}}} {
				if _, err := db.Exec(q.text, q.args...); err != nil {
					t.Fatal(err)
				}
			}
			db.Close()

			again := startAt(t, "serve", dir, "127.0.0.1:0", "--procedures", folder)
			again.login()
			box.SetFaults(standin.Faults{FailTest: true})
			again.run("", "replacement", "approve", "r2")
			state := again.rests("r2", "reverted", "held")
			if want := map[string]string{"wan-controller": "reverted", "voice-manager": "held"}[family]; state != want {
				t.Errorf("it is %s, want %s:\n%s", state, want, again.ok("replacement", "show", "r2"))
			}
			box.SetFaults(standin.Faults{})
			if state == "held" { // only a person knows whether "the one before" may be sent
				again.ok("replacement", "close", "r2", "--as", "old", "--reason", "the box refused it")
			}
			if err := box.PowerCycle(); err != nil {
				t.Fatal(err)
			}
			if now := leafAt(t, box.TLSAddr); !bytes.Equal(now, first) {
				t.Error("the box does not serve what stood before")
			}
			again.ok("policy", "set", "fleet", "--approval", "nobody")
			again.ok("replace", name+"/web", "--signer", "bench", "--watch")
		})
	}
}

// While a replacement works on a slot, old, new or nothing is no alarm: its condition never turns to unexpected or
// unreachable.
func TestOwnWorkIsNoAlarm(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures",
		quickFamilies(t, "wan-controller", "bare-host"))
	s.login()
	for i, start := range []func() (*standin.Running, string){
		func() (*standin.Running, string) {
			box, more := webBox(t, standin.Box{Kind: standin.WANController, Restart: 1500 * time.Millisecond})
			s.addWeb("lines.example", "quick-wan-controller", box, more...)
			return box, "lines.example"
		},
		func() (*standin.Running, string) {
			box := kind(t, standin.Box{Kind: standin.BareHost, Restart: 1500 * time.Millisecond})
			s.addKind("host.example", "quick-bare-host", box)
			return box, "host.example"
		},
	} {
		box, device := start()
		s.ok("replace", device+"/web", "--signer", "bench", "--watch")
		for _, faults := range []standin.Faults{{}, {KeepServing: true}} {
			box.SetFaults(faults)
			var wait sync.WaitGroup
			wait.Go(func() { s.run("", "replace", device+"/web", "--signer", "bench", "--watch") })
			wait.Wait()
			box.SetFaults(standin.Faults{})
		}
		var events []struct{ Kind, About, State string }
		for line := range strings.Lines(read(t, eventsOf(t, s))) {
			var e struct{ Kind, About, State string }
			if json.Unmarshal([]byte(line), &e) == nil {
				events = append(events, e)
			}
		}
		if len(events) < 4 {
			t.Fatalf("only %d events", len(events))
		}
		for _, e := range events {
			if e.Kind == "condition" && (e.State == "unexpected" || e.State == "unreachable") {
				t.Errorf("kind %d: %s is told as %s by our own work", i, e.About, e.State)
			}
		}
	}
}

// eventsOf writes the events of conditions so far into a file, a line each.
func eventsOf(t *testing.T, s *server) string {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(s.dir, "freshseal.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query(`SELECT kind, about, state FROM outbox`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var b strings.Builder
	for rows.Next() {
		var kind, about, state string
		if err := rows.Scan(&kind, &about, &state); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&b, `{"Kind": %q, "About": %q, "State": %q}`+"\n", kind, about, state)
	}
	file := filepath.Join(t.TempDir(), "events")
	if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}
