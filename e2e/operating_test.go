package e2e

import (
	"bytes"
	"crypto/tls"
	"database/sql"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
)

// refused runs a command of the service itself that must not work.
func refused(t *testing.T, want string, env []string, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), env...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	if err := cmd.Run(); err == nil || !strings.Contains(stderr.String(), want) ||
		!strings.Contains(stderr.String(), "next: ") {
		t.Errorf("%s: %v\n%s", strings.Join(args, " "), err, stderr.String())
	}
}

func TestACopyBringsTheServiceBack(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	s.ok("device", "add", "camera.saltmere.tidewrack.example", "--address", "127.0.0.1", "--slot", "web=1")
	copied := filepath.Join(t.TempDir(), "copy.db")
	s.ok("backup", "--out", copied)
	s.fails(1, "name a new file", "backup", "--out", copied)
	refused(t, "another service runs on it", nil, "serve", "--dir", s.dir, "--listen", "127.0.0.1:0")
	refused(t, "another service runs on it", nil, "restore", copied, "--dir", s.dir)
	s.ok("device", "remove", "camera.saltmere.tidewrack.example", "--yes")
	s.stop()

	elsewhere := t.TempDir()
	refused(t, "has no strongbox.key", nil, "restore", copied, "--dir", elsewhere)
	refused(t, "cannot be restored", nil, "restore",
		write(t, filepath.Join(t.TempDir(), "x.db"), "not a database at all"), "--dir", s.dir)
	write(t, filepath.Join(elsewhere, "strongbox.key"), read(t, filepath.Join(s.dir, "strongbox.key")))
	for _, dir := range []string{elsewhere, s.dir} {
		must(t, "", program, "restore", copied, "--dir", dir)
		again := start(t, "serve", dir)
		again.config = write(t, filepath.Join(t.TempDir(), "client.yaml"),
			strings.Replace(read(t, s.config), s.url, again.url, 1))
		if list := again.ok("device", "list"); !strings.Contains(list, "camera.saltmere") {
			t.Errorf("in %s the device is lost:\n%s", dir, list)
		}
		again.stop()
	}
	if _, err := os.Stat(filepath.Join(s.dir, "freshseal.db.before")); err != nil {
		t.Errorf("what stood there is not kept: %v", err)
	}
	// Another key opens nothing, and says so.
	write(t, filepath.Join(elsewhere, "strongbox.key"), strings.Repeat("ab", 32)+"\n")
	refused(t, "cannot be opened", nil, "serve", "--dir", elsewhere, "--listen", "127.0.0.1:0")
}

func TestSettingsComeFromFlagsEnvironmentAndFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := write(t, filepath.Join(dir, "serve.yaml"), "listen: 127.0.0.1:99999\nread-every: 1h\n")
	refused(t, "127.0.0.1:99999", nil, "serve", "--dir", dir, "--settings", file)
	refused(t, "127.0.0.1:77777", []string{"FRESHSEAL_LISTEN=127.0.0.1:77777"}, "serve", "--dir", dir, "--settings",
		file)
	refused(t, "127.0.0.1:66666", []string{"FRESHSEAL_LISTEN=127.0.0.1:77777"}, "serve", "--dir", dir, "--settings",
		file, "--listen", "127.0.0.1:66666")
	refused(t, "the setting read-every cannot be", []string{"FRESHSEAL_READ_EVERY=often"}, "serve", "--dir", dir)
	refused(t, "which is no flag of serve", nil, "serve", "--dir", dir, "--settings",
		write(t, filepath.Join(dir, "typo.yaml"), "listne: x\n"))
}

// A disk that is full is said plainly, and nothing is lost or half written by it.
func TestAFullDiskLosesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	// The service gets a small disk of its own, in a name space of its own.
	small := exec.Command("unshare", "-rm", "sh", "-c",
		`mount -t tmpfs -o size=4m tmpfs "$1" && exec "$2" serve --dir "$1" --listen 127.0.0.1:0`, "sh", dir, program)
	if out, err := exec.Command("unshare", "-rm", "true").CombinedOutput(); err != nil {
		t.Skipf("this machine gives no mount name space: %s", out)
	}
	s := launch(t, dir, small)
	s.dir = fmt.Sprintf("/proc/%d/root%s", small.Process.Pid, dir) // as it is seen from there
	s.login()
	s.ok("device", "add", "camera.saltmere.tidewrack.example", "--address", "127.0.0.9", "--slot", "web=9")
	filler := filepath.Join(s.dir, "filler")
	f, err := os.Create(filler)
	if err != nil {
		t.Fatal(err)
	}
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	f.Close()
	full := func() bool {
		for range 200 { // what is left of the last page still takes some
			if r := s.run("", "token", "add", "more", "--role", "viewer", "--days", "1"); r.code != 0 {
				return strings.Contains(r.stderr, "the disk of the service is full") &&
					strings.Contains(r.stderr, "next: make room")
			}
		}
		return false
	}
	if !full() {
		t.Error("nobody says that the disk is full")
	}
	if status := s.ready(); status != http.StatusServiceUnavailable {
		t.Errorf("on a full disk /readyz answers %d", status)
	}
	s.fails(1, "nothing was changed", "device", "add", "crane.saltmere.tidewrack.example", "--address", "127.0.0.9",
		"--slot", "web=9")
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	s.ok("device", "add", "crane.saltmere.tidewrack.example", "--address", "127.0.0.9", "--slot", "web=9")
	s.ok("audit", "verify")
	if list := s.ok("device", "list", "--text", "saltmere", "--as", "csv"); strings.Count(list, "\n") != 3 {
		t.Error(list)
	}
	time.Sleep(1100 * time.Millisecond) // the answer is kept for a second
	if status := s.ready(); status != http.StatusOK {
		t.Errorf("with room again /readyz answers %d", status)
	}
}

// ready is the status of /readyz.
func (s *server) ready() int {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), http.MethodGet, s.url+"/readyz", nil)
	if err != nil {
		s.t.Fatal(err)
	}
	answer, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}).Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	answer.Body.Close()
	return answer.StatusCode
}

// A program that holds the database for long is reported as that: nothing is changed, and nothing is lost.
func TestADatabaseThatAnotherProgramHolds(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	db, err := sql.Open("sqlite", filepath.Join(s.dir, "freshseal.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	held, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := held.ExecContext(t.Context(), "PRAGMA busy_timeout = 30000; BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	s.fails(1, "another program holds the database", "token", "add", "x", "--role", "viewer", "--days", "1")
	if status := s.ready(); status != http.StatusServiceUnavailable {
		t.Errorf("/readyz answers %d", status)
	}
	if _, err := held.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	s.ok("token", "add", "x", "--role", "viewer", "--days", "1")
	s.ok("audit", "verify")
}

// Without its key a database is not started on, and no other key is made; with it everything is there.
func TestADatabaseWithoutItsKey(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	s.stop()
	key := filepath.Join(s.dir, "strongbox.key")
	text := read(t, key)
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		refused(t, "no strongbox.key", nil, "serve", "--dir", s.dir, "--listen", "127.0.0.1:0")
		if _, err := os.Stat(key); err == nil {
			t.Fatal("a new key was made")
		}
	}
	write(t, key, text)
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	start(t, "serve", s.dir).stop()
}

// Procedures of your own stand beside the built-in ones. The folder is read again
// when something in it changes; a faulty file takes only its own family out of use.
func TestAFolderOfProcedures(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder)
	s.login()
	mine := strings.Replace(s.ok("procedure", "show", "web-pages-by-hand"), "procedure: web-pages-by-hand",
		"procedure: harbour-lights", 1)
	file := filepath.Join(folder, "harbour-lights.procedure.yaml")
	until := func(want string) string {
		t.Helper()
		for range 60 {
			if list := s.ok("procedure", "list"); strings.Contains(list, want) {
				return list
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatalf("the list never says %q:\n%s", want, s.ok("procedure", "list"))
		return ""
	}
	write(t, file, mine)
	write(t, filepath.Join(folder, "lamps.yaml"), mine)
	until("harbour-lights")
	if log := s.log.String(); !strings.Contains(log, "lamps.yaml is passed over: procedures end in .procedure.yaml") {
		t.Errorf("nobody tells of the file with another ending:\n%s", log)
	}
	light := "light.saltmere.tidewrack.example"
	s.ok("device", "add", light, "--address", "127.0.0.9", "--slot", "web=9", "--family", "harbour-lights")
	write(t, file, strings.Replace(mine, "person: ", "persn: ", 1))
	if list := until(`harbour-lights: line 20, column 7: a step has no key "persn"; write person`); !strings.Contains(
		list, "web-files-ssh") {
		t.Error(list)
	}
	s.fails(1, "the procedure harbour-lights cannot be used", "replace", light+"/web", "--signer", "bench", "--unseen")
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	until("its file is not there")
	if list := s.ok("device", "list"); !strings.Contains(list, light) {
		t.Errorf("the family's devices are gone:\n%s", list)
	}
	write(t, file, mine)
	if list := until("harbour-lights"); strings.Contains(list, "its file is not there") {
		until("harbour-lights        yes")
	}
	write(t, filepath.Join(folder, "web-files-ssh.procedure.yaml"),
		strings.Replace(mine, "harbour-lights", "web-files-ssh", 1))
	s.fails(3, "a built-in procedure is called web-files-ssh", "procedure", "check", folder)
}

// A replacement goes on with the procedure that it began with, whatever becomes of
// the file meanwhile.
func TestAReplacementKeepsItsProcedure(t *testing.T) {
	t.Parallel()
	const steps = "  activate:\n" + putBoth + "    - {step: reload, run: \"{{reload}}\", undo: again}\n"
	s := families(t, "127.0.0.1:0", map[string]string{"kept": steps})
	file := filepath.Join(s.cmd.Args[len(s.cmd.Args)-1], "kept.procedure.yaml")
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "kept")
	h := newHarbour(t)
	s.ok("trust-group", "add", "fleet", h.at("root.pem"))
	s.ok("replace", name+"/web", "--signer", "desk")
	s.await("r1", "waiting")
	request := packed(t, s, "desk")[0]
	write(t, file, strings.Replace(read(t, file), "file: key_file", "file: /etc/elsewhere.pem", 1))
	time.Sleep(3 * time.Second) // the folder has been read again
	s.ok("intake", h.sign(request), h.at("sub.pem"))
	s.await("r1", "sealed")
	if _, err := os.Stat(filepath.Join(box.Dir, "root/etc/elsewhere.pem")); err == nil {
		t.Error("it followed the new text")
	}
}
