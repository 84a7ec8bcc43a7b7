package e2e

import (
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The Debian package has a manual page of every command that the reference names, and completions that the shell can
// read and that complete commands.
func TestThePackageHasPagesAndCompletions(t *testing.T) {
	t.Parallel()
	out, root := t.TempDir(), t.TempDir()
	inHouse := func(name string, args ...string) {
		t.Helper()
		c := exec.CommandContext(t.Context(), name, args...)
		c.Dir, c.Env = "..", append(os.Environ(), "DPKG_DEB_COMPRESSOR_TYPE=none") // compressing takes ten seconds
		if said, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s %v: %v\n%s", name, args, err, said)
		}
	}
	inHouse("sh", "build/package.sh", out)
	packages, _ := filepath.Glob(out + "/freshseal_*.deb")
	if len(packages) != 1 {
		t.Fatalf("it made %v", packages)
	}
	inHouse("dpkg-deb", "-x", packages[0], root)
	seen := 0
	for line := range strings.Lines(read(t, "../docs/commands.md")) {
		command, ok := strings.CutPrefix(strings.TrimLeft(line, "#"), " freshseal ")
		if !ok || !strings.HasPrefix(line, "##") {
			continue
		}
		name := "freshseal"
		for _, word := range strings.Fields(command) {
			if strings.ToLower(word) != word || strings.ContainsAny(word, "[.|<…") || word[0] == '-' {
				break
			}
			name += "-" + word
		}
		page := unpacked(t, root+"/usr/share/man/man1/"+name+".1.gz")
		if !strings.Contains(page, ".SH SYNOPSIS") {
			t.Errorf("the page of %s is\n%s", name, page)
		}
		seen++
	}
	if seen < 100 {
		t.Errorf("the reference names %d commands", seen)
	}
	completes := exec.CommandContext(t.Context(), "bash", "-c", `. "$1"; COMP_WORDS=(freshseal trust-g); COMP_CWORD=1;
		COMP_LINE="freshseal trust-g"; COMP_POINT=17; COMP_TYPE=9; _get_comp_words_by_ref() { :; }
		_init_completion() { words=("${COMP_WORDS[@]}"); cword=1; cur=trust-g; prev=freshseal; }
		__ltrim_colon_completions() { :; }; PATH="$2:$PATH"; __start_freshseal; echo "${COMPREPLY[@]}"`,
		"bash", root+"/usr/share/bash-completion/completions/freshseal", root+"/usr/bin")
	if said, err := completes.CombinedOutput(); err != nil || !strings.Contains(string(said), "trust-group") {
		t.Errorf("trust-g is completed to %q, %v", said, err)
	}
	for _, file := range []string{"zsh/vendor-completions/_freshseal", "fish/vendor_completions.d/freshseal.fish"} {
		if text := read(t, root+"/usr/share/"+file); !strings.Contains(text, "__complete ") {
			t.Errorf("%s asks nothing of the program", file)
		}
	}
}

func unpacked(t *testing.T, name string) string {
	t.Helper()
	file, err := os.Open(name)
	if err != nil {
		t.Error(err)
		return ""
	}
	defer file.Close()
	z, err := gzip.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
