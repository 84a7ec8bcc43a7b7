package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Where the user's own rights do not suffice, a prefix stands before all work on
// files outside the work folder.
func TestMoreRightsThroughAPrefix(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	s := start(t, "serve", t.TempDir())
	s.login()
	script(t, b.at("elevate"), "echo \"$*\" >> "+b.at("log")+"\nexec \"$@\"")
	b.add(t, s, "--setting", "as="+b.at("elevate"))
	before := s.show(realBox + "/web").Certificate.SHA256
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	if info, err := os.Stat(b.at("tls/key.pem")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the key's mode is not the old one's: %v %v", info, err)
	}
	log := read(t, b.at("log"))
	for _, file := range []string{"tls/key.pem", "tls/cert.pem"} {
		if !strings.Contains(log, b.at(file)) {
			t.Errorf("%s was worked on without the prefix:\n%s", file, log)
		}
	}
	if strings.Contains(log, "PRIVATE KEY") {
		t.Error("a key stands on a command line")
	}
	s.ok("replacement", "revert", "r1", "--yes")
	if now := s.show(realBox + "/web").Certificate.SHA256; now != before {
		t.Error("it is not reverted")
	}
	if left, _ := os.ReadDir(b.at("work")); len(left) > 0 {
		t.Errorf("left on the box after the revert: %v", left)
	}
}

// A prefix asks for a password. It is given to it for each command, whatever is in it, and
// stands on no command line, in no file of the box and nowhere here in clear. A wrong one stops
// the work before anything was changed.
func TestMoreRightsWithAPassword(t *testing.T) {
	t.Parallel()
	const word = "s4lt & 'pepper' \"$HOME\" `id` \\ ü"
	b := startBox(t)
	s := start(t, "serve", t.TempDir())
	s.login()
	script(t, b.at("elevate"), `[ "$1" = -A ] || exit 3
shift
got=$("$SUDO_ASKPASS" "Password: ")
[ "$got" = "$(cat `+b.at("expected")+`)" ] || { echo "sorry, try again" >&2; exit 1; }
grep -rlF pepper "$(dirname "$SUDO_ASKPASS")" >> `+b.at("found")+`
tr '\0' ' ' < /proc/$PPID/cmdline >> `+b.at("log")+`
echo "$*" >> `+b.at("log")+`
unset FS_WORD
exec "$@"`)
	write(t, b.at("expected"), word)
	b.add(t, s, "--setting", "as="+b.at("elevate")+" -A", "--setting", "as_password=wrong")
	before := s.show(realBox + "/web").Certificate.SHA256
	s.fails(1, "correct the settings", "replace", realBox+"/web", "--signer", "bench", "--watch")
	s.ok("replacement", "cancel", "r1")
	s.await("r1", "cancelled")
	s.ok("device", "edit", realBox, "--setting", "as_password="+word)
	if shown := s.ok("device", "show", realBox) + s.ok("replace", realBox+"/web", "--signer", "bench",
		"--rehearse"); strings.Contains(shown, "pepper") {
		t.Errorf("it is shown:\n%s", shown)
	}
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r2: sealed\n") {
		t.Error(out)
	}
	if log := read(t, b.at("log")); strings.Contains(log, "pepper") || !strings.Contains(log, b.at("tls/key.pem")) {
		t.Errorf("the box was asked for\n%s", log)
	}
	if found := read(t, b.at("found")); found != "" {
		t.Errorf("it lies on the box in %s", found)
	}
	s.ok("replacement", "revert", "r2", "--yes")
	s.await("r2", "reverted")
	if now := s.show(realBox + "/web").Certificate.SHA256; now != before {
		t.Error("it is not reverted")
	}
	if left, _ := os.ReadDir(b.at("work")); len(left) > 0 {
		t.Errorf("left on the box after the revert: %v", left)
	}
	if text := s.ok("replacement", "show", "r2", "--as", "json") + s.ok("audit", "list", "--as",
		"json"); strings.Contains(text, "pepper") {
		t.Error("the journal or the audit log has it")
	}
}

// What a command beside a step of survey let in is taken back at the very end, on a real box:
// after the seal, after a revert and after giving up, with nothing left there.
func TestWhatLetUsInIsTakenBackLast(t *testing.T) {
	t.Parallel()
	_, s, at := realFamily(t, "  survey:\n    - {step: let us in, run: \"{{tool}} in\", undo: nothing, finally: "+
		"{step: let us out, run: \"{{tool}} out\"}}\n  activate:\n"+putBoth+"    - {step: reload, run: "+
		"\"{{reload}}\", undo: again}\n")
	script(t, at("tool"), "echo $1 >> "+at("log"))
	clean := func(wanted string, kept int) {
		t.Helper()
		if log := read(t, at("log")); log != wanted {
			t.Errorf("the box was asked for %q instead of %q", log, wanted)
		}
		left, _ := filepath.Glob(at("work") + "/*/*")
		if len(left) != kept {
			t.Errorf("left on the box: %v", left)
		}
		os.Remove(at("log"))
	}
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	clean("in\nout\n", 1) // what a later revert needs stays
	s.ok("replacement", "revert", "r1", "--yes")
	s.await("r1", "reverted")
	clean("out\n", 0)
	s.ok("replace", realBox+"/web", "--signer", "desk")
	s.await("r2", "waiting")
	s.ok("replacement", "cancel", "r2")
	s.await("r2", "cancelled")
	clean("in\nout\n", 0)
}
