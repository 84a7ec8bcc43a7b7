// Package e2e starts the real program and drives it from outside: through its
// client, its API and, for the console, a browser.
package e2e

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

var program string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "freshseal-e2e-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		if program = os.Getenv("FRESHSEAL_PROGRAM"); program != "" { // it was built already
			return m.Run()
		}
		program = filepath.Join(dir, "freshseal")
		build := exec.Command("go", "build", "-o", program, "../cmd/freshseal")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
			return 1
		}
		return m.Run()
	}())
}

// server is a running service with the client that is signed in to it.
type server struct {
	t      testing.TB
	dir    string
	url    string
	config string // the client's file
	log    *bytes.Buffer
	cmd    *exec.Cmd
	gone   chan struct{} // closed when it was killed
}

// start runs serve or demo on a free port and waits until it is ready. It is
// stopped with the test.
func start(t testing.TB, verb, dir string) *server {
	t.Helper()
	return startAt(t, verb, dir, "127.0.0.1:0")
}

func startAt(t testing.TB, verb, dir, listen string, more ...string) *server {
	t.Helper()
	return launch(t, dir, exec.Command(program, append([]string{verb, "--dir", dir, "--listen", listen}, more...)...))
}

// launch runs a command that becomes the service, and waits until it is ready.
func launch(t testing.TB, dir string, cmd *exec.Cmd) *server {
	t.Helper()
	s := &server{t: t, dir: dir, log: &bytes.Buffer{}, config: filepath.Join(dir, "client.yaml"), cmd: cmd,
		gone: make(chan struct{})}
	s.cmd.Stderr = s.log
	// what a test adds is read when the test asks, and never by itself: its addresses may be anybody's
	if s.cmd.Env == nil {
		s.cmd.Env = append(os.Environ(), "FRESHSEAL_READ_EVERY=0")
		if _, measured := t.(*testing.B); !measured {
			s.cmd.Env = append(s.cmd.Env, "GOGC=400") // hundreds are started: time is dearer here than memory
		}
	}
	if s.cmd.SysProcAttr == nil {
		s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	}
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.stop)
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if url, ok := strings.CutPrefix(lines.Text(), "ready: "); ok {
			s.url = url
			return s
		}
	}
	t.Fatalf("%v does not get ready:\n%s", cmd.Args, s.log)
	return nil
}

// cmdAgain is the command with which a service was started.
func cmdAgain(s *server) *exec.Cmd { return exec.Command(s.cmd.Args[0], s.cmd.Args[1:]...) }

// stop ends the service as an administrator does, and expects it to end well.
func (s *server) stop() {
	if s.cmd.ProcessState != nil {
		return
	}
	s.cmd.Process.Signal(syscall.SIGTERM)
	if err := s.cmd.Wait(); err != nil {
		s.t.Errorf("the service ended with %v:\n%s", err, s.log)
	}
}

// kill ends the service as a power failure does.
func (s *server) kill() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
	close(s.gone)
}

// login signs the client in with the password of the first start.
func (s *server) login() {
	s.t.Helper()
	text, err := os.ReadFile(filepath.Join(s.dir, "first-sign-in.txt"))
	if err != nil {
		s.t.Fatal(err)
	}
	_, password, _ := strings.Cut(string(text), "password: ")
	s.okWith(strings.TrimSpace(password), "login", s.url, "--password-file", "-", "--certificate", s.pin())
}

// result is what a command left.
type result struct {
	stdout, stderr string
	code           int
}

// run runs a client's command.
func (s *server) run(stdin string, args ...string) result {
	s.t.Helper()
	cmd := exec.Command(program, append([]string{"--config", s.config}, args...)...)
	cmd.Stdin = strings.NewReader(stdin)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		s.t.Fatal(err)
	}
	return result{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()}
}

// ok runs a command that must succeed and returns what it printed.
func (s *server) ok(args ...string) string {
	s.t.Helper()
	return s.okWith("", args...)
}

func (s *server) okWith(stdin string, args ...string) string {
	s.t.Helper()
	r := s.run(stdin, args...)
	if r.code != 0 {
		s.t.Fatalf("freshseal %s: exit code %d\n%s%s", strings.Join(args, " "), r.code, r.stdout, r.stderr)
	}
	return r.stdout
}

// fails runs a command that must end with this exit code, and whose complaint
// has at most three lines, one of which says what to do next.
func (s *server) fails(code int, want string, args ...string) result {
	s.t.Helper()
	return s.failsWith("", code, want, args...)
}

// failsWith is fails with something on standard input.
func (s *server) failsWith(stdin string, code int, want string, args ...string) result {
	s.t.Helper()
	r := s.run(stdin, args...)
	if r.code != code || !strings.Contains(r.stdout+r.stderr, want) {
		s.t.Fatalf("freshseal %s: exit code %d, want %d and %q\n%s%s", strings.Join(args, " "), r.code, code, want,
			r.stdout, r.stderr)
	}
	if code != 3 && (strings.Count(r.stderr, "\n") > 3 || !strings.Contains(r.stderr, "next: ")) {
		s.t.Errorf("freshseal %s complains badly:\n%s", strings.Join(args, " "), r.stderr)
	}
	return r
}

// slot is the part of a slot's JSON that the tests look at.
type slot struct {
	Condition   string
	Certificate struct{ SHA256 string }
	Findings    []struct{ Code, Remedy string }
	Chain       []struct{ Role, Name string }
}

// show reads a slot's JSON.
func (s *server) show(name string) slot {
	s.t.Helper()
	var out slot
	s.json(&out, "slot", "show", name)
	return out
}

func (s *server) json(out any, args ...string) {
	s.t.Helper()
	if err := json.Unmarshal([]byte(s.ok(append(args, "--as", "json")...)), out); err != nil {
		s.t.Fatal(err)
	}
}

// progress is where a replacement stands.
type progress struct {
	State, Why, Stage, Closed string
	WaitingFor                string `json:"waiting_for"`
}

// polling asks the API itself: a client that is started for each look costs thirty times as much, and tests look often.
var polling = &http.Client{Timeout: 20 * time.Second,
	Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, MaxIdleConnsPerHost: 4}}

// token is what the client signs in with.
func (s *server) token() string {
	s.t.Helper()
	text, err := os.ReadFile(s.config)
	if err != nil {
		s.t.Fatal(err)
	}
	_, token, _ := strings.Cut(string(text), "token: ")
	token, _, _ = strings.Cut(token, "\n")
	return token
}

// stands looks where a replacement stands.
func (s *server) progress(id string) (out progress) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), "GET", s.url+"/api/v1/replacements/"+id, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+s.token())
	answer, err := polling.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	defer answer.Body.Close()
	if body, err := io.ReadAll(answer.Body); err != nil || answer.StatusCode != 200 {
		s.t.Fatalf("%s cannot be looked at: %s %v\n%s", id, answer.Status, err, body)
	} else if err := json.Unmarshal(body, &out); err != nil {
		s.t.Fatal(err)
	}
	return out
}

// within looks until something holds, for at most a given time: often at first, because most things happen soon, and
// then less often, because many tests wait at the same time.
func within(limit time.Duration, holds func() bool) bool {
	pause := 30 * time.Millisecond
	for begun := time.Now(); time.Since(begun) < limit; pause = min(pause*5/4, 400*time.Millisecond) {
		if holds() {
			return true
		}
		time.Sleep(pause)
	}
	return holds()
}

// await waits until a replacement is in a state.
func (s *server) await(id, state string) {
	s.t.Helper()
	var r progress
	if within(2*time.Minute, func() bool { r = s.progress(id); return r.State == state }) {
		return
	}
	s.t.Fatalf("%s is %s in stage %s, want %s: %s\n%s", id, r.State, r.Stage, state, r.Why, s.log)
}

// write writes a file for a test.
func write(t testing.TB, file, content string) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// must runs a command of the system and returns what it printed.
func must(t testing.TB, stdin string, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Stdin = strings.NewReader(stdin)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s%s", name, strings.Join(args, " "), err, out, stderr.String())
	}
	return string(out)
}
