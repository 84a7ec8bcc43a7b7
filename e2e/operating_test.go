package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// refused runs a command of the service itself that must not work.
func refused(t *testing.T, want string, env []string, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), env...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	if err := cmd.Run(); err == nil || !strings.Contains(stderr.String(), want) || !strings.Contains(stderr.String(), "next: ") {
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
	refused(t, "cannot be restored", nil, "restore", write(t, filepath.Join(t.TempDir(), "x.db"), "not a database at all"), "--dir", s.dir)
	write(t, filepath.Join(elsewhere, "strongbox.key"), read(t, filepath.Join(s.dir, "strongbox.key")))
	for _, dir := range []string{elsewhere, s.dir} {
		must(t, "", program, "restore", copied, "--dir", dir)
		again := start(t, "serve", dir)
		again.config = write(t, filepath.Join(t.TempDir(), "client.yaml"), strings.Replace(read(t, s.config), s.url, again.url, 1))
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
	refused(t, "127.0.0.1:77777", []string{"FRESHSEAL_LISTEN=127.0.0.1:77777"}, "serve", "--dir", dir, "--settings", file)
	refused(t, "127.0.0.1:66666", []string{"FRESHSEAL_LISTEN=127.0.0.1:77777"}, "serve", "--dir", dir, "--settings", file, "--listen", "127.0.0.1:66666")
	refused(t, "the setting read-every cannot be", []string{"FRESHSEAL_READ_EVERY=often"}, "serve", "--dir", dir)
	refused(t, "which is no flag of serve", nil, "serve", "--dir", dir, "--settings", write(t, filepath.Join(dir, "typo.yaml"), "listne: x\n"))
}
