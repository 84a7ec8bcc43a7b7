package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/device/ssh"
)

// shells are those that boxes have, by what stands before a script.
var shells = map[string][]string{"dash": {"dash"}, "bash": {"bash", "--posix"}, "busybox": {"busybox", "ash"},
	"csh": {"tcsh"}}

// The scripts that are sent to boxes hold what their first lines say, in every shell that boxes have.
func TestTheScriptsForBoxesRunInEveryShell(t *testing.T) {
	t.Parallel()
	scripts, _ := filepath.Glob("../device/ssh/shell/*.sh")
	if out, err := exec.CommandContext(t.Context(), "shellcheck", append([]string{"-s", "sh"}, scripts...)...).
		CombinedOutput(); err != nil || len(scripts) < 10 {
		t.Errorf("shellcheck of %d scripts: %v\n%s", len(scripts), err, out)
	}
	for name, words := range shells {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := shellBox{t, words, t.TempDir()}
			shell := words[0]
			if shell == "tcsh" {
				shell = "dash"
			}
			program, err := exec.LookPath(shell)
			if err != nil || os.Symlink(program, b.at("sh")) != nil { // what the scripts themselves call sh
				t.Fatal(err)
			}
			b.files()
			b.copies()
			b.commands()
		})
	}
}

type shellBox struct {
	t     *testing.T
	shell []string
	dir   string
}

func (b shellBox) at(name string) string { return filepath.Join(b.dir, name) }

// run runs a script and returns its exit code and output.
func (b shellBox) run(script, stdin string, args ...string) (int, string, string) {
	b.t.Helper()
	words := append(append(b.shell[1:len(b.shell):len(b.shell)], "-c", ssh.Script(script), "fs"), args...)
	if b.shell[0] == "tcsh" { // the user's own shell, which starts sh as a link has it do
		line := "sh -c"
		for _, word := range words[len(b.shell):] {
			line += " '" + strings.ReplaceAll(word, "'", `'\''`) + "'"
		}
		words = []string{"-f", "-c", line}
	}
	c := exec.CommandContext(b.t.Context(), b.shell[0], words...)
	var out, faults bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(stdin), &out, &faults
	c.Env = append(os.Environ(), "PATH="+b.dir+":"+os.Getenv("PATH"))
	c.Run()
	return c.ProcessState.ExitCode(), out.String(), faults.String()
}

// want runs a script that must end with a code.
func (b shellBox) want(code int, script, stdin string, args ...string) string {
	b.t.Helper()
	got, out, faults := b.run(script, stdin, args...)
	if got != code {
		b.t.Errorf("%s %q ends with %d instead of %d: %s%s", script, args, got, code, out, faults)
	}
	return out
}

// holds checks what a file holds and its mode; an empty text: it is not there.
func (b shellBox) holds(name, text string, mode os.FileMode) {
	b.t.Helper()
	content, err := os.ReadFile(b.at(name))
	if text == "" {
		if err == nil {
			b.t.Errorf("%s is there: %s", name, content)
		}
		return
	}
	if info, _ := os.Stat(b.at(name)); err != nil || string(content) != text || mode != 0 &&
		info.Mode().Perm() != mode {
		b.t.Errorf("%s holds %q, %v", name, content, info)
	}
}

func (b shellBox) files() {
	put := func(name, text string, mode os.FileMode) {
		b.t.Helper()
		if err := os.WriteFile(b.at(name), []byte(text), mode); err != nil {
			b.t.Fatal(err)
		}
	}
	b.want(0, "write", "quay\n", b.at("new"), "5", "")
	b.holds("new", "quay\n", 0o600)
	put("old", "before\n", 0o640)
	b.want(9, "write", "cut", b.at("old"), "500", "")
	b.holds("old", "before\n", 0o640)
	b.want(0, "write", "mole\n", b.at("old"), "5", "")
	b.holds("old", "mole\n", 0o640)
	os.Symlink("old", b.at("link"))
	b.want(0, "write", "pier\n", b.at("link"), "5", "600")
	b.holds("old", "pier\n", 0o600)
	if to, err := os.Readlink(b.at("link")); to != "old" {
		b.t.Errorf("the link leads to %s, %v", to, err)
	}
	b.want(0, "place", "", b.at("new"), b.at("old"), "644")
	b.holds("new", "pier\n", 0o644)
	b.want(9, "place", "", b.at("new"), b.at("nowhere"), "")
	b.holds("new", "pier\n", 0o644)
	put("half", "no line end", 0o600)
	b.want(0, "join", "", b.at("both"), b.at("half"), b.at("new"))
	b.holds("both", "no line end\npier\n", 0o600)
	b.want(1, "join", "", b.at("both"), b.at("half"), b.at("nowhere"))
	b.holds("both", "no line end\npier\n", 0)
	if out := b.want(0, "read", "", b.at("new"), "MARK"); out != "MARKpier\nMARK" {
		b.t.Errorf("it reads %q", out)
	}
	b.want(1, "read", "", b.at("nowhere"), "MARK")
	os.MkdirAll(b.at("folder/deep"), 0o700)
	put("folder/kept", "x", 0o600)
	put("folder/.hidden", "x", 0o600)
	put("folder/deep/file", "x", 0o600)
	b.want(0, "empty", "", b.at("folder"), "kept")
	b.holds("folder/kept", "x", 0)
	b.holds("folder/.hidden", "", 0)
	b.holds("folder/deep/file", "", 0)
	b.want(0, "empty", "", b.at("no folder"), "kept")
}

func (b shellBox) copies() {
	path, copied := b.at("live"), b.at("copy")
	os.WriteFile(path, []byte("before\n"), 0o640)
	b.want(8, "restore", "", path, copied, "yes")
	b.want(0, "keep", "", path, copied)
	os.WriteFile(path, []byte("ours\n"), 0o640)
	b.want(0, "keep", "", path, copied) // what is kept stays
	os.WriteFile(copied+".ours", []byte("ours\n"), 0o600)
	if out := b.want(0, "restore", "", path, copied, ""); out != "restored\n" {
		b.t.Errorf("it says %q", out)
	}
	b.holds("live", "before\n", 0o640)
	if out := b.want(0, "restore", "", path, copied, ""); out != "" { // the second time there is nothing to do
		b.t.Errorf("it says %q", out)
	}
	os.WriteFile(path, []byte("a third\n"), 0o640)
	b.want(7, "restore", "", path, copied, "")
	b.holds("live", "a third\n", 0)
	os.Remove(copied + ".ours")
	b.want(7, "restore", "", path, copied, "no")
	b.want(0, "restore", "", path, copied, "yes")
	b.holds("live", "before\n", 0o640)
	b.want(0, "keep", "", b.at("absent"), b.at("none"))
	os.WriteFile(b.at("absent"), []byte("ours\n"), 0o600)
	b.want(7, "restore", "", b.at("absent"), b.at("none"), "no")
	b.want(0, "restore", "", b.at("absent"), b.at("none"), "yes")
	b.holds("absent", "", 0)
	b.want(1, "keep", "", b.dir, b.at("of a folder"))
}

func (b shellBox) commands() {
	if out := b.want(0, "probe", ""); out != "fs-shell\nfs-sessions\n" {
		b.t.Errorf("it can do %q", out)
	}
	code, out, faults := b.run("run", "tide\n", b.at("one"), "cat; echo oops >&2; exit 7", "20")
	if code != 7 || out != "tide\n" || faults != "oops\n" {
		b.t.Errorf("%d %q %q", code, out, faults)
	}
	if out := b.want(0, "state", "", b.at("one")); out != "fs-stands ended 7 \n" {
		b.t.Errorf("it is %q", out)
	}
	b.want(125, "run", "", b.at("one"), "echo twice", "20")
	if out := b.want(0, "state", "", b.at("never")); out != "fs-stands never\n" {
		b.t.Errorf("it is %q", out)
	}
	b.want(125, "run", "", b.at("never"), "echo late", "20") // asked after, it never starts
	b.run("run", "", b.at("slow"), "sleep 60", "1")
	if out := b.want(0, "state", "", b.at("slow")); !strings.HasSuffix(out, " limit\n") {
		b.t.Errorf("it is %q", out)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.run("run", "", b.at("hung"), "trap : TERM; (trap : TERM; sleep 60; sleep 60) & sleep 60; sleep 60", "60")
	}()
	for {
		if _, err := os.Stat(b.at("hung/pid")); err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if out := b.want(0, "end", "", b.at("hung")); out != "fs-all-ended\n" {
		b.t.Errorf("ending it says %q", out)
	}
	<-done
	if out := b.want(0, "state", "", b.at("hung")); strings.Contains(out, "running") {
		b.t.Errorf("it is %q", out)
	}
	b.want(0, "talk", "", b.at("talk"), "exit 0")
	b.want(3, "talk", "", b.at("talk again"), "exit 3")
	os.WriteFile(b.at("ask"), []byte("#!/bin/sh\nprintf '%s\\n' \"$FS_WORD\"\n"), 0o700)
	if out := b.want(0, "raise", "pass word\nrest", b.at("ask"), `"$SUDO_ASKPASS"; cat`); out != "pass word\nrest" {
		b.t.Errorf("it reads %q", out)
	}
	b.want(125, "raise", "", b.at("ask"), "echo no")
}
