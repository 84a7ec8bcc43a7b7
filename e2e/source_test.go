package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/standin"
)

// A credential takes its secret from a helper, then from a file: each time when a device is signed in to, and never
// keeping it. Where the source fails, the work is held before anything is touched, says why, and goes on later.
func TestASecretIsAskedForWhereItIsKept(t *testing.T) {
	t.Parallel()
	sources := t.TempDir()
	vault := write(t, filepath.Join(sources, "vault"), "refused the vault is locked\n")
	asked := filepath.Join(t.TempDir(), "asked")
	helper := write(t, filepath.Join(sources, "ask"), "#!/bin/sh\ncat >> "+asked+"\ncat vault\n")
	if err := os.Chmod(helper, 0o700); err != nil {
		t.Fatal(err)
	}
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--secret-sources", sources)
	s.login()
	for source, why := range map[string]string{"file ../../etc/shadow": "is not the name of a file",
		"helper /bin/sh": "is not the name of a file", "helper ask $(id)": "is not a word",
		"vault x": "no kind of source"} {
		s.fails(1, why, "credential", "add", "keepers", "--user", "keeper", "--source", source)
	}
	s.fails(1, "a secret and a source are given", "credential", "add", "keepers", "--user", "keeper", "--source",
		"file x", "--password-file", vault)
	s.ok("credential", "add", "keepers", "--user", "keeper", "--source", "helper ask network/keepers")

	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--credential", "keepers")
	s.ok("sweep")
	before := s.show(name + "/web")
	s.run("", "replace", name+"/web", "--signer", "bench")
	s.rests("r1", "held")
	if out := s.ok("replacement", "show", "r1"); !strings.Contains(strings.Join(strings.Fields(out), " "),
		"the secret of the credential keepers could not be had") || !strings.Contains(out, "the vault is locked") {
		t.Errorf("it does not say why:\n%s", out)
	}
	if after := s.show(name + "/web"); after.Certificate.SHA256 != before.Certificate.SHA256 {
		t.Errorf("something was touched: %+v", after)
	}
	write(t, vault, "password correct horse\ndone\n")
	s.ok("replacement", "resume", "r1")
	s.await("r1", "sealed")
	if text := read(t, asked); !strings.HasPrefix(text, "freshseal secret 1\ncredential keepers\nuser keeper\ndevice "+
		name+"\n") {
		t.Errorf("the helper was asked\n%s", text)
	}

	// Another source in its place, and a second replacement.
	s.ok("credential", "replace", "keepers", "--user", "keeper", "--source", "file keepers")
	word := write(t, filepath.Join(sources, "keepers"), "correct horse\n")
	if err := os.Chmod(word, 0o644); err != nil {
		t.Fatal(err)
	}
	s.run("", "replace", name+"/web", "--signer", "bench")
	s.rests("r2", "held")
	if out := s.ok("replacement", "show", "r2"); !strings.Contains(strings.Join(strings.Fields(out), " "),
		"others can read it") {
		t.Errorf("it does not say why:\n%s", out)
	}
	if err := os.Chmod(word, 0o600); err != nil {
		t.Fatal(err)
	}
	s.ok("replacement", "resume", "r2")
	s.await("r2", "sealed")
	if list := s.ok("credential", "list"); !strings.Contains(list, "file keepers") {
		t.Error(list)
	}
	log := s.ok("audit", "list", "--as", "csv")
	if !strings.Contains(log, `source: ""helper ask network/keepers"" → ""file keepers""`) {
		t.Errorf("the audit log does not say what was changed:\n%s", log)
	}

	// What was given is kept nowhere; the box's own access, which was given first, is sealed.
	s.stop()
	for _, file := range []string{"freshseal.db", "freshseal.db-wal"} {
		if text, err := os.ReadFile(filepath.Join(s.dir, file)); err == nil && strings.Contains(string(text),
			"correct horse") {
			t.Errorf("the secret is in %s", file)
		}
	}
	if strings.Contains(s.log.String(), "correct horse") {
		t.Error("the secret is in the log")
	}
	again := startAt(t, "serve", s.dir, strings.TrimPrefix(s.url, "https://"))
	again.config = s.config
	again.run("", "replace", name+"/web", "--signer", "bench")
	again.rests("r3", "held")
	if out := again.ok("replacement", "show", "r3"); !strings.Contains(out, "--secret-sources") {
		t.Errorf("it does not say why:\n%s", out)
	}
	again.ok("credential", "replace", "keepers", "--user", "keeper", "--password-file",
		write(t, filepath.Join(t.TempDir(), "password"), "correct horse"))
	again.ok("replacement", "resume", "r3")
	again.await("r3", "sealed")
}
