package e2e

import (
	"encoding/json"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"freshseal/standin/daemon"
)

// The container has the program and nothing else. Its steps are carried out here without a builder: a root with the
// one file that is copied, the user and the folder that the file names, and the command that it starts. Nothing else
// is there: no shell, no zone files, no certificates.
func TestTheProgramRunsAlone(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a root of its own needs root")
	}
	root, steps := t.TempDir(), map[string]string{}
	os.Chmod(root, 0o755)
	for line := range strings.Lines(read(t, "../build/Containerfile")) {
		if word, rest, ok := strings.Cut(strings.TrimSpace(line), " "); ok && word != "#" {
			steps[word] = rest
		}
	}
	from, to, _ := strings.Cut(steps["COPY"], " ")
	if steps["FROM"] != "scratch" || from != "bin/freshseal" || steps["USER"] != "65534:65534" {
		t.Fatalf("the steps are others: %v", steps)
	}
	source, err := os.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	target, err := os.OpenFile(filepath.Join(root, to), os.O_CREATE|os.O_WRONLY, 0o755)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(target, source); err != nil || target.Close() != nil {
		t.Fatal(err)
	}
	data := filepath.Join(root, steps["VOLUME"])
	if err := os.Mkdir(data, 0o700); err != nil || os.Chown(data, 65534, 65534) != nil {
		t.Fatal(err)
	}
	var entry, command []string
	if err := json.Unmarshal([]byte(steps["ENTRYPOINT"]), &entry); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal([]byte(steps["CMD"]), &command); err != nil {
		t.Fatal(err)
	}
	port := daemon.FreePort(t, "127.0.0.1")
	for i, word := range command {
		if word == "0.0.0.0:8443" { // the port of the host is chosen outside
			command[i] = net.JoinHostPort("127.0.0.1", port)
		}
	}
	for range 2 { // the folder outlives the container
		cmd := exec.Command(entry[0], command...)
		cmd.Env, cmd.Dir = []string{"FRESHSEAL_READ_EVERY=0"}, "/"
		cmd.SysProcAttr = &syscall.SysProcAttr{Chroot: root, Credential: &syscall.Credential{Uid: 65534, Gid: 65534},
			Pdeathsig: syscall.SIGKILL}
		s := launch(t, data, cmd)
		s.login()
		s.ok("policy", "set", "fleet", "--window", "DTSTART;TZID=Europe/Oslo:20260101T010000 RRULE:FREQ=DAILY "+
			"DURATION:PT3H")
		if out := s.ok("policy", "list"); !strings.Contains(out, "Europe/Oslo") {
			t.Errorf("without zone files:\n%s", out)
		}
		s.stop()
	}
}
