package e2e

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"freshseal/standin/daemon"
)

// The image is built by the steps of its file, and its command runs in what was built, as the user that it names: there
// is no shell, no zone files, no certificates. A new volume takes owner and mode of the folder in the image.
func TestTheContainerRunsTheProgramAlone(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a root of its own needs root")
	}
	work, source := t.TempDir(), t.TempDir()
	buildah := func(words ...string) string {
		t.Helper()
		cmd := exec.Command("buildah", append([]string{"--root", filepath.Join(work, "images"), "--runroot",
			filepath.Join(work, "run"), "--storage-driver", "vfs"}, words...)...)
		var problems bytes.Buffer
		cmd.Stderr = &problems
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("buildah %v: %v\n%s", words, err, &problems)
		}
		return strings.TrimSpace(string(out))
	}
	if err := os.MkdirAll(filepath.Join(source, "bin", "data"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(source, "bin", "freshseal"), []byte(read(t, program)), 0o755); err != nil {
		t.Fatal(err)
	}
	buildah("build", "--isolation", "chroot", "-f", "../build/Containerfile", "-t", "freshseal", source)
	var image struct {
		OCIv1 struct {
			Config struct {
				User            string
				Entrypoint, Cmd []string
			} `json:"config"`
		}
	}
	if err := json.Unmarshal([]byte(buildah("inspect", "--type", "image", "freshseal")), &image); err != nil {
		t.Fatal(err)
	}
	config := image.OCIv1.Config
	if config.User != "65534:65534" {
		t.Errorf("the program would run as %q", config.User)
	}
	root := buildah("mount", buildah("from", "freshseal"))
	data := filepath.Join(root, "data")
	filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() && path != filepath.Join(root, "freshseal") {
			t.Errorf("the image also has %s: %v", path, err)
		}
		return err
	})
	for at := root; at != filepath.Dir(work); at = filepath.Dir(at) { // another user walks down to it
		os.Chmod(at, 0o755)
	}
	port := daemon.FreePort(t, "127.0.0.1")
	for i, word := range config.Cmd {
		if word == "0.0.0.0:8443" { // the port of the host is chosen outside
			config.Cmd[i] = net.JoinHostPort("127.0.0.1", port)
		}
	}
	for range 2 { // the folder outlives the container
		cmd := exec.Command(config.Entrypoint[0], config.Cmd...)
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
