package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/device"
	"freshseal/device/ssh"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

// families writes procedures into a folder and starts a service with it. Each is
// a web server's, with steps of its own.
func families(t *testing.T, listen string, procedures map[string]string) *server {
	t.Helper()
	folder := t.TempDir()
	for name, steps := range procedures {
		write(t, filepath.Join(folder, name+".procedure.yaml"), "procedure: "+name+"\ntitle: A family of the "+
			"test\nlinks: [ssh]\n"+`settings:
  certificate_file: {kind: path, about: x, default: /etc/webui/tls/certificate.pem}
  key_file: {kind: path, about: x, default: /etc/webui/tls/key.pem}
  reload: {kind: command, about: x, default: webui reload}
  tool: {kind: command, about: a program of the test, default: /bin/true}
traits: {key_types: [ecdsa-p256], restart_limit: 5s}
steps:
  request:
    - use: key-and-request-by-openssl
`+steps)
	}
	s := startAt(t, "serve", t.TempDir(), listen, "--procedures", folder)
	s.login()
	return s
}

const putBoth = `    - {step: key, file: key_file, holds: new_key}
    - {step: certificate, file: certificate_file, holds: leaf_first}
`

// A device that answers something else in place of its request is quoted, and a private key among it is not.
func TestWhatIsNoRequestIsQuoted(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for name, command := range map[string]string{"wordy": "cat /etc/answer", "leaky": "cat /etc/webui/tls/key.pem"} {
		write(t, filepath.Join(folder, name+".procedure.yaml"), "procedure: "+name+"\ntitle: A family of the "+
			"test\nlinks: [ssh]\n"+`traits: {key_types: [ecdsa-p256], restart_limit: 5s}
steps:
  request:
    - {step: ask for it, run: "`+command+`", undo: nothing, capture: request}
  activate:
    - {step: certificate, file: /etc/webui/tls/certificate.pem, holds: leaf_first}
    - {step: reload, run: webui reload, undo: again}
`)
	}
	box := simulated(t, standin.Box{})
	write(t, filepath.Join(box.Dir, "root/etc/answer"), "the key store is locked,\n  unlock it first\n")
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder)
	s.login()
	s.addSimulated(name, box, "correct horse")
	for i, c := range []struct{ family, says string }{
		{"wordy", `the device answered "the key store is locked, unlock it first"`},
		{"leaky", `the device answered "[a private key stood here]"`},
	} {
		s.ok("device", "edit", name, "--family", c.family)
		id := fmt.Sprint("r", i+1)
		if shown := s.run("", "replace", name+"/web", "--signer", "bench", "--watch"); shown.code != 1 {
			t.Errorf("%s: exit code %d", c.family, shown.code)
		}
		var r struct{ State, Why string }
		if s.json(&r, "replacement", "show", id); !strings.Contains(r.Why, c.says) {
			t.Errorf("%s: %s, %s", c.family, r.State, r.Why)
		}
		s.ok("replacement", "cancel", id)
	}
}

// Kill the service at every moment of a family whose steps may not be repeated:
// nothing is ever done twice by itself. Where the box cannot tell what became of a
// step, the replacement is held, and a person who looked at the box lets it go on.
func TestUnsafeStepsAreNeverDoneTwice(t *testing.T) {
	t.Parallel()
	const steps = `  install:
    - {step: first, run: mkdir /etc/first, undo: {run: rm -r /etc/first, when: always}}
  activate:
` + putBoth + `    - {step: second, run: mkdir /etc/second, undo: {run: rm -r /etc/second, when: always}}
    - {step: reload, run: "{{reload}}", undo: again}
`
	held := sync.Map{}
	var once func(t *testing.T, at int) []string
	once = func(t *testing.T, at int) []string {
		k := &killer{at: at, before: at%2 == 0}
		var lock sync.Mutex
		carried := map[string]int{}
		box := simulated(t, standin.Box{Watch: func(what string, done bool) bool {
			carry := k.watch(what, done)
			lock.Lock()
			defer lock.Unlock()
			if done {
				carried[what]++
			}
			return carry
		}})
		listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
		s := families(t, listen, map[string]string{"unsafe": steps})
		s.addSimulated(name, box, "correct horse")
		s.ok("device", "edit", name, "--family", "unsafe")
		k.kill = s.kill
		k.arm(true)
		s.run("", "replace", name+"/web", "--signer", "bench")
		if at >= 0 {
			select {
			case <-s.gone:
			case <-time.After(20 * time.Second):
				return once(t, earlier(t, at))
			}
			folder := s.cmd.Args[len(s.cmd.Args)-1]
			again := startAt(t, "serve", s.dir, listen, "--procedures", folder)
			again.config = s.config
			s = again
		}
		var r struct {
			State, Why string
			Steps      []struct{ Name, Outcome string }
		}
		for range 400 {
			s.json(&r, "replacement", "show", "r1")
			if r.State == "sealed" {
				break
			}
			if r.State == "held" {
				last := r.Steps[len(r.Steps)-1]
				held.Store(last.Name, true)
				s.fails(1, "--step done", "replacement", "resume", "r1")
				word := "repeat"
				if _, err := os.Stat(filepath.Join(box.Dir, "root/etc", last.Name)); err == nil {
					word = "done"
				}
				s.run("", "replacement", "resume", "r1", "--step", word)
			}
			time.Sleep(50 * time.Millisecond)
		}
		k.arm(false)
		if r.State != "sealed" {
			t.Errorf("it is %s: %s", r.State, r.Why)
		}
		lock.Lock()
		defer lock.Unlock()
		for _, what := range []string{"mkdir /etc/first", "mkdir /etc/second"} {
			if carried[what] > 1 || at < 0 && carried[what] != 1 {
				t.Errorf("%s was carried out %d times", what, carried[what])
			}
		}
		return k.seen
	}
	moments := once(t, -1)
	t.Run("moments", func(t *testing.T) {
		for at, what := range moments {
			if strings.Contains(what, "handshake") || !strings.Contains(what, "mkdir /etc") &&
				!strings.Contains(what, "reload") && at%5 != 0 {
				continue
			}
			t.Run(fmt.Sprintf("%d %s", at, shorten(what)), func(t *testing.T) {
				t.Parallel()
				once(t, at)
			})
		}
	})
	for _, step := range []string{"first", "second", "reload"} {
		if _, was := held.Load(step); !was {
			t.Errorf("no kill in the step %q was held for a person", step)
		}
	}
}

// realFamily adds a box with real sshd and nginx to a service with a family of its own.
func realFamily(t *testing.T, steps string) (box, *server, func(name string) string) {
	t.Helper()
	b := startBox(t)
	s := families(t, "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"), map[string]string{"harsh": steps})
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	nginx := "/usr/sbin/nginx -p " + b.at("") + " -c nginx.conf -e stderr "
	s.ok("device", "add", realBox, "--address", b.address, "--family", "harsh", "--user", who.Username, "--port",
		b.sshPort,
		"--key-file", b.keyFile, "--passphrase-file", write(t, filepath.Join(b.dir, "passphrase"), passphrase),
		"--pin", b.hostKey, "--slot", "web="+b.webPort,
		"--setting", "certificate_file="+b.at("tls/cert.pem"), "--setting", "key_file="+b.at("tls/key.pem"),
		"--setting", "work_folder="+b.at("work"),
		"--setting", "reload="+nginx+"-s reload", "--setting", "tool="+b.at("tool"))
	return b, s, b.at
}

func script(t *testing.T, file, text string) {
	t.Helper()
	write(t, file, "#!/bin/sh\n"+text+"\n")
	if err := os.Chmod(file, 0o755); err != nil {
		t.Fatal(err)
	}
}

// A command whose time is over goes on by itself when only the connection is
// closed: it ignores signals, and its child writes the new key over the old one
// that was put back. It is ended before the way back begins.
func TestACommandWhoseTimeRanOutIsEndedBeforeTheWayBack(t *testing.T) {
	t.Parallel()
	b, s, at := realFamily(t, "  activate:\n"+putBoth+"    - {step: tool, run: \"{{tool}} {{key_file}}\", undo: "+
		"nothing, limit: 2s}\n")
	script(t, at("tool"), "trap '' TERM HUP INT\n(trap '' TERM HUP; sleep 7; echo overwritten > $1) &\nsleep 60")
	oldKey := read(t, at("tls/key.pem"))
	s.fails(1, "r1 of "+realBox+"/web is reverted", "replace", realBox+"/web", "--signer", "bench", "--watch")
	if now := read(t, at("tls/key.pem")); now != oldKey {
		t.Fatalf("the old key is not back: %s", now)
	}
	time.Sleep(8 * time.Second)
	if now := read(t, at("tls/key.pem")); now != oldKey {
		t.Errorf("the command went on and wrote over the old key: %s", now)
	}
	if text := s.ok("replacement", "show", "r1"); !strings.Contains(text, "the time limit has passed") {
		t.Error(text)
	}
	_ = b
}

// Killed in the middle of a step that may not be repeated, the service asks the
// box what became of it, and goes on by itself.
func TestTheBoxIsAskedWhatBecameOfAStep(t *testing.T) {
	t.Parallel()
	_, s, at := realFamily(t, "  activate:\n"+putBoth+"    - {step: tool, run: \"{{tool}}\", undo: nothing, limit: "+
		"20s, expect: {match: done}}\n    - {step: reload, run: \"{{reload}}\", undo: again}\n")
	script(t, at("tool"), "echo begun >> "+at("log")+"\nsleep 4\necho ended >> "+at("log")+"\necho done")
	s.ok("replace", realBox+"/web", "--signer", "bench")
	for range 200 {
		if text, err := os.ReadFile(at("log")); err == nil && len(text) > 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.kill()
	again := launch(t, s.dir, cmdAgain(s))
	again.config = s.config
	again.await("r1", "sealed")
	if text := read(t, at("log")); text != "begun\nended\n" {
		t.Errorf("the step was done otherwise than once: %q", text)
	}
}

// The runner itself, stopped in the middle of a step harder than by a clean stop:
// the step's outcome is unknown to it, and found out by the next one.
func TestAStepThatIsCutOffIsRecovered(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := box{dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
		keyFile: filepath.Join(dir, "ssh", "id")}
	b.startSSH(t)
	log := filepath.Join(dir, "log")
	script(t, filepath.Join(dir, "tool"), "echo once >> "+log+"\nsleep 2\necho tide")
	p, faults := procedure.Parse([]byte("procedure: cut\ntitle: x\nlinks: [ssh]\ntraits: {key_types: [ecdsa-p256], " +
		"key_made_by: service}\nsteps:\n  install:\n    - {step: tool, run: " + filepath.Join(dir, "tool") +
		", undo: nothing, capture: said}\n    - {step: use it, run: \"echo {{said}}\", undo: nothing}\n"))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p, Work: filepath.Join(dir, "work/r1-x")}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	book, target := &notebook{}, b.target(t)
	hard, cut := context.WithCancel(t.Context())
	one := &device.Runner{Dial: (&net.Dialer{}).DialContext, SSH: func(context.Context) (ssh.Target, error) {
		return target, nil
	}, Procedure: p, Work: filepath.Join(dir, "work/r1-x"), Journal: book, Hard: hard}
	go func() { // as soon as the command is under way
		for range 400 {
			if text, err := os.ReadFile(log); err == nil && len(text) > 0 {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		cut()
	}()
	if _, err := one.Run(t.Context(), procedure.Install, scope); err == nil || !book.ended[0].Unknown {
		t.Fatalf("a step that was cut off: %v %+v", err, book.ended)
	}
	one.Close()
	two := &device.Runner{Dial: (&net.Dialer{}).DialContext, SSH: func(context.Context) (ssh.Target, error) {
		return target, nil
	}, Procedure: p, Work: one.Work, Journal: book}
	defer two.Close()
	if err := two.Recover(t.Context(), 1, procedure.Install, "tool", false, scope); err != nil {
		t.Fatal(err)
	}
	if got := book.ended[0]; !got.OK || got.Captured["said"].Text != "tide" {
		t.Errorf("recovered: %+v", got)
	}
	if text := read(t, log); text != "once\n" {
		t.Errorf("it was run otherwise than once: %q", text)
	}
	// What was never begun is told from what is gone, and never begins afterwards.
	if err := two.Recover(t.Context(), 7, procedure.Install, "tool", false, scope); err != nil ||
		book.ended[6].Why != "it was not begun" {
		t.Errorf("%v %+v", err, book.ended[6])
	}
}

// notebook is a journal in memory.
type notebook struct{ ended []device.Outcome }

func (n *notebook) Done(procedure.Section, string, string) (map[string]value.Value, bool) {
	return nil, false
}
func (n *notebook) Fate(procedure.Section, string) device.Fate {
	return device.Fate{Begun: true, Done: true}
}
func (n *notebook) Begin(context.Context, device.Entry) (int64, error) {
	n.ended = append(n.ended, device.Outcome{})
	return int64(len(n.ended)), nil
}
func (n *notebook) Show(context.Context, int64, string, int) {}

func (n *notebook) End(_ context.Context, id int64, o device.Outcome) error {
	for int64(len(n.ended)) < id {
		n.ended = append(n.ended, device.Outcome{})
	}
	n.ended[id-1] = o
	return nil
}

// A box whose SSH server knows no SFTP gets its files through the shell.
func TestABoxWithoutSFTP(t *testing.T) {
	t.Parallel()
	b := startBoxWithout(t, "Subsystem sftp internal-sftp\n")
	s := start(t, "serve", t.TempDir())
	s.login()
	b.add(t, s)
	if out := s.ok("device", "try", realBox); !strings.Contains(out, "files go by the shell") {
		t.Error(out)
	}
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	if info, err := os.Stat(b.at("tls/key.pem")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the key's mode is not the old one's: %v %v", info, err)
	}
	before := s.show(realBox + "/web")
	s.ok("replacement", "revert", "r1", "--yes")
	if after := s.show(realBox + "/web"); after.Certificate.SHA256 == before.Certificate.SHA256 {
		t.Error("it is not reverted")
	}
	// Any bytes, up to a MiB, whole or not at all.
	link, err := ssh.Open(t.Context(), (&net.Dialer{}).DialContext, b.target(t))
	if err != nil {
		t.Fatal(err)
	}
	defer link.Close()
	content := make([]byte, 1<<20-100)
	for i := range content {
		content[i] = byte(i * 7 / 3)
	}
	file := filepath.Join(b.dir, "odd name's file")
	if err := link.Files(nil).Write(t.Context(), file, content, 0o640); err != nil {
		t.Fatal(err)
	}
	if got, err := link.Files(nil).Read(t.Context(), file); err != nil || string(got) != string(content) ||
		read(t, file) != string(content) {
		t.Errorf("%d bytes came back, %v", len(got), err)
	}
	if err := link.Files(nil).Write(t.Context(), "/proc/none/x", content, 0); err == nil {
		t.Error("a file in no folder was written")
	}
}

// An older certificate was put back once, since ids began again: on a device that
// was removed and added again, and for another service with its own database.
func TestWorkFoldersAreNeverUsedTwice(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	folders := map[string]bool{}
	for range 2 {
		s := start(t, "serve", t.TempDir())
		s.login()
		for range 2 {
			s.addSimulated(name, box, "correct horse")
			before := s.show(name + "/web").Certificate.SHA256
			s.ok("replace", name+"/web", "--signer", "bench", "--watch")
			var list []struct{ ID string }
			s.json(&list, "replacement", "list")
			id := list[0].ID
			s.ok("replacement", "revert", id, "--yes")
			if now := s.show(name + "/web").Certificate.SHA256; now != before {
				t.Errorf("%s put something else back than what stood there", id)
			}
			s.ok("replace", name+"/web", "--signer", "bench", "--watch")
			found, _ := filepath.Glob(filepath.Join(box.Dir, "root/var/lib/freshseal/*"))
			for _, folder := range found {
				folders[folder] = true
			}
			s.ok("device", "remove", name, "--yes")
		}
	}
	if len(folders) != 4 {
		t.Errorf("the work folders are %v", folders)
	}
}

// The keys of earlier replacements do not stay on the box for ever.
func TestOldKeysLeaveTheBox(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	s := start(t, "serve", t.TempDir())
	s.login()
	s.addSimulated(name, box, "correct horse")
	for range 2 {
		s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	}
	if left, _ := filepath.Glob(filepath.Join(box.Dir, "root/var/lib/freshseal/*")); len(left) != 1 ||
		!strings.Contains(left[0], "/r2-") {
		t.Errorf("on the box lie %v", left)
	}
	if left, _ := filepath.Glob(filepath.Join(box.Dir, "root/var/lib/freshseal/r2-*/*")); len(left) != 1 ||
		filepath.Base(left[0]) != "before" {
		t.Errorf("in the work folder lie %v", left)
	}
	s.fails(1, "its copies of the old files were removed", "replacement", "revert", "r1", "--yes")
	s.ok("device", "tidy", name)
	if left, _ := filepath.Glob(filepath.Join(box.Dir, "root/var/lib/freshseal/*")); len(left) > 0 {
		t.Errorf("after tidying lie %v", left)
	}
	s.fails(1, "its copies of the old files were removed", "replacement", "revert", "r2", "--yes")
}

// A revert is refused where the slot serves something else than what was installed.
func TestARevertThatWouldUndoAnothersWorkIsRefused(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	s := start(t, "serve", t.TempDir())
	s.login()
	s.addSimulated(name, box, "correct horse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	h := newHarbour(t)
	must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
		"-keyout", h.at("other.key"), "-out", h.at("other.pem"), "-days", "9", "-subj", "/CN=technician")
	if err := box.Meddle([]byte(read(t, h.at("other.pem"))), []byte(read(t, h.at("other.key")))); err != nil {
		t.Fatal(err)
	}
	s.fails(1, "instead of the new leaf that it installed", "replacement", "revert", "r1", "--yes")
	if r := s.ok("replacement", "list"); !strings.Contains(r, "sealed") {
		t.Error(r)
	}
}

// A slot that cannot be read has no way back that could be proven; of one that serves no TLS it can be proven that it
// serves none again.
func TestASlotThatCannotBeReadStopsAtTheSurvey(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	const steps = "  activate:\n" + putBoth + "    - {step: fails, run: cat /nothing, undo: nothing}\n"
	s := families(t, "127.0.0.1:0", map[string]string{"blind": steps})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	closes, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { closes.Close() })
	go func() {
		for conn, err := closes.Accept(); err == nil; conn, err = closes.Accept() {
			conn.Close() // in the middle of the handshake
		}
	}()
	_, closesAt, _ := net.SplitHostPort(closes.Addr().String())
	s.okWith("correct horse", "device", "add", name, "--address", host, "--family", "blind", "--user", "keeper",
		"--port", sshPort,
		"--password-file", "-", "--pin", box.HostKey(), "--slot", "web="+closesAt)
	s.fails(1, "a way back could not be proven", "replace", name+"/web", "--signer", "bench", "--watch")
	s.ok("replacement", "cancel", "r1")
	s.fails(1, "r2 of "+name+"/web is held in stage activate", "replace", name+"/web", "--signer", "bench", "--watch",
		"--unseen")
	if r := s.ok("replacement", "show", "r2"); !strings.Contains(r, "nothing proves that the old certificate "+
		"is served") && !strings.Contains(r, "the wire still says") {
		t.Error(r)
	}
	s.ok("replacement", "close", "r2", "--as", "neither", "--reason", "it was never seen")
	s.ok("slot", "edit", name+"/web", "--at", daemon.FreePort(t, host))
	s.fails(1, "serves no TLS", "replace", name+"/web", "--signer", "bench", "--watch")
	s.ok("replacement", "cancel", "r3")
	s.fails(1, "r4 of "+name+"/web is reverted in stage activate", "replace", name+"/web", "--signer", "bench",
		"--watch", "--unseen")
}

// Whatever is accepted is carried out: mirror, what is always done, and seal. What
// fails of the last is told, with exit code 3, and cleared later.
func TestMirrorFinallyAndSealAreCarriedOut(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{})
	at := func(name string) string { return filepath.Join(box.Dir, "root/etc", name) }
	s := families(t, "127.0.0.1:0", map[string]string{
		"carried": "  activate:\n    - {step: maintenance, run: mkdir /etc/maintenance, undo: nothing, finally: " +
			"{run: rm -r /etc/maintenance, repeat: safe}}\n" + putBoth + "    - {step: reload, run: " +
			"\"{{reload}}\", undo: again}\n  mirror:\n    - {step: mirror, run: mkdir /etc/mirrored, undo: {run: " +
			"rm -r /etc/mirrored, when: always}}\n  seal:\n    - {step: seal, run: cat /etc/sealed, repeat: safe}\n",
		"one-way": "  activate:\n    - {step: burn, run: mkdir /etc/burnt, undo: none, because: the fuse is blown}\n" +
			putBoth + "    - {step: fails, run: cat /nothing, undo: nothing}\n",
	})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "carried")
	r := s.fails(3, "something is left on the device", "replace", name+"/web", "--signer", "bench", "--watch")
	if !strings.Contains(r.stderr, "freshseal replacement clear r1") {
		t.Error(r.stderr)
	}
	if _, err := os.Stat(at("mirrored")); err != nil {
		t.Error("the section mirror was not carried out")
	}
	if _, err := os.Stat(at("maintenance")); err == nil {
		t.Error("what is always done was not done")
	}
	s.fails(1, "r1 still has something left", "replacement", "clear", "r1")
	write(t, at("sealed"), "yes")
	s.ok("replacement", "clear", "r1")
	if text := s.ok("replacement", "show", "r1"); strings.Contains(text, "left on the device") {
		t.Error(text)
	}

	// What cannot be undone needs a person's word, and what failed is told with it.
	s.ok("device", "edit", name, "--family", "one-way")
	s.fails(1, "the fuse is blown", "replace", name+"/web", "--signer", "bench")
	s.fails(1, "is reverted in stage activate", "replace", name+"/web", "--signer", "bench", "--watch", "--one-way")
}

// Where a box cannot tell what became of a step, the replacement is held, and never
// stuck: a person who wants the way back gets it.
func TestAPersonCanGoBackFromAnUnknownStep(t *testing.T) {
	t.Parallel()
	for _, wish := range []string{"revert", "cancel"} {
		t.Run(wish, func(t *testing.T) {
			t.Parallel()
			var box *standin.Running
			box = simulated(t, standin.Box{Watch: func(what string, done bool) bool {
				if what == "boxctl apply" && !done {
					box.SetFaults(standin.Faults{Hang: true})
				}
				return true
			}})
			s := families(t, "127.0.0.1:0",
				map[string]string{"hangs": "  activate:\n" + putBoth + "    - {step: apply, run: boxctl apply, " +
					"undo: nothing, limit: 2s}\n    - {step: reload, run: \"{{reload}}\", undo: again, " +
					"repeat: safe}\n"})
			s.addSimulated(name, box, "correct horse")
			s.ok("device", "edit", name, "--family", "hangs")
			before := s.show(name + "/web").Certificate.SHA256
			s.fails(1, "may still be running on the device", "replace", name+"/web", "--signer", "bench", "--watch")
			box.SetFaults(standin.Faults{})
			s.run("", append([]string{"replacement", wish, "r1"}, map[string][]string{"revert": {"--yes"}}[wish]...)...)
			s.await("r1", "reverted")
			s.ok("sweep")
			if now := s.show(name + "/web").Certificate.SHA256; now != before {
				t.Error("the old certificate is not served")
			}
			if text := s.ok("replacement", "show", "r1"); !strings.Contains(text,
				"put back /etc/webui/tls/key.pem") || !strings.Contains(text, "may still be running") {
				t.Errorf("the way back, or the reason from before, is missing:\n%s", text)
			}
		})
	}
}
