package procedure_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
)

// ways are commands that have a value interpreted once more, by a second shell,
// an interpreter, a program that runs programs, or the first shell itself. Each
// must be refused by the check, or leave nothing that a value could do.
var ways = []string{
	// a second shell
	"sh -c {{v}}", "bash -c {{v}}", "dash -c 'echo '{{v}}", "sh {{v}}", "/bin/sh {{v}}", "s'h' -c {{v}}",
	`\sh -c {{v}}`, "sh -s < {{v}}", "echo {{v}} | sh", "echo {{v}} | bash -s",
	"ssh localhost {{v}}", "ssh -o ProxyCommand={{v}} localhost", "su -c {{v}}", "su root -c {{v}}",
	"busybox sh -c {{v}}", "sudo sh -c {{v}}", "boxctl run sh -c {{v}}", "boxctl -x perl -e {{v}}",
	"x=sh; $x -c {{v}}", "$(echo sh) -c {{v}}", "${SHELL} -c {{v}}",
	// the shell's own commands
	"eval {{v}}", "eval echo {{v}}", ". {{v}}", "source {{v}}", "trap {{v}} EXIT", "exec {{v}}", "command {{v}}",
	"builtin {{v}}", "alias ls={{v}}; ls", "set -- {{v}}; $1", "export {{v}}", "readonly {{v}}",
	"x={{v}}; eval $x", "x={{v}}; $x", "for x in {{v}}; do $x; done", "case {{v}} in *) {{v}};; esac",
	"f() { {{v}}; }; f", "f() { eval $1; }; f {{v}}", "PATH={{v}}; ls", "ENV={{v}} true", "{{v}}", "{{v}} x",
	"x{{v}}", "true && {{v}}", "true; {{v}}", "! {{v}}", "if {{v}}; then true; fi",
	"echo $(( {{v}} ))", "echo ${x:-{{v}}}", "echo ${{v}}", "echo `echo {{v}}`", "cat <<E\n{{v}}\nE",
	"echo \"{{v}}\"", "echo '{{v}}'", "true # {{v}}", "echo x >&{{v}}", "[[ {{v}} -eq 1 ]]", "read {{v}} < /dev/null",
	"unset {{v}}", "getopts {{v}} x",
	// interpreters
	"awk {{v}} /etc/hostname", "awk -f {{v}}", "gawk {{v}}", "sed {{v}} /etc/hostname", "sed -n {{v}} /etc/hostname",
	"perl -e {{v}}", "perl {{v}}", "perl -M{{v}} -e 1", "perl5.36 -e {{v}}", "python3 -c {{v}}", "python3 {{v}}",
	"ruby -e {{v}}", "lua -e {{v}}", "node -e {{v}}", "php -r {{v}}", "tclsh {{v}}", "m4 {{v}}", "bc {{v}}",
	"dc -e {{v}}", "jq {{v}} /dev/null",
	// programs that run programs
	"env {{v}}", "env -S {{v}}", "env X=1 {{v}}", "xargs {{v}} < /dev/null", "echo {{v}} | xargs", "nohup {{v}}",
	"nice {{v}}", "timeout 5 {{v}}", "setsid {{v}}", "stdbuf -o0 {{v}}", "sudo {{v}}", "chroot / {{v}}",
	"watch -n1 {{v}}", "find / -maxdepth 0 -exec {{v}} ;", "find / -maxdepth 0 -exec {{v}} \\;",
	"make -f {{v}}", "git -c core.pager={{v}} log", "tar -cf /dev/null --to-command={{v}} /etc/hostname",
	"tar -cf /dev/null --checkpoint=1 --checkpoint-action=exec={{v}} /etc/hostname", "vi -c {{v}}", "ed {{v}}",
	"less {{v}}", "crontab {{v}}", "at -f {{v}} now", "gdb -x {{v}}", "strace {{v}}", "flock /tmp {{v}}",
	"script -c {{v}}", "run-parts {{v}}", "systemd-run {{v}}", "ld.so {{v}}", "rsync -e {{v}} a b", "scp -S {{v}} a b",
	// places where a value is a word, and stays one
	"printf %s {{v}}", "cat {{v}}", "echo {{v}}{{v}}", "echo $(echo x{{v}})", "x={{v}}; echo $x",
	"for x in {{v}}; do echo $x; done", "case {{v}} in a) ;; esac", "echo x > {{v}}", "test {{v}} = a",
	"[ -n {{v}} ]", "mkdir -p {{v}}", "grep {{v}} /etc/hostname", "logger {{v}}", "echo {{v}}>/dev/null",
}

// hostile are values that try to become something else than one word. EVIL is a
// script that leaves a mark.
var hostile = []string{
	"plain", "two words", "it's", `a"b`, "$HOME", "`EVIL`", "$(EVIL)", "a;EVIL", "a|EVIL", "a&EVIL", "a>MARK", "*",
	"~", "#no", "\\", "'; EVIL; '", "a\nEVIL", "a\tb", "{a,b}", "!x", "-e", "-exec=EVIL", "--help", "", "é",
	"\xff\xfe", "a\x00b", "../../etc",
	"EVIL", "PATH=DIR", "x=EVIL", "qx:EVIL:", "exec+q:EVIL:", "%x:EVIL:", "@EVIL", "eEVIL", "1eEVIL", "w.MARK", "if",
	"2", "+EVIL", ":EVIL", "EVIL,EVIL", "a.b:c/d@e%f+g=h,i-j",
}

// The judge is a real shell, and whether the mark is there afterwards.
func TestNoValueIsInterpretedOnceMore(t *testing.T) {
	dir := t.TempDir()
	mark, evil := filepath.Join(dir, "mark"), filepath.Join(dir, "evil")
	if err := os.WriteFile(evil, []byte("#!/bin/sh\ntouch "+mark+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if len(ways) < 60 {
		t.Fatalf("only %d ways", len(ways))
	}
	names := strings.NewReplacer("EVIL", evil, "MARK", mark, "DIR", dir)
	refused := 0
	for _, way := range ways {
		text := "    - step: a\n      undo: nothing\n      run: |\n        " +
			strings.ReplaceAll(strings.ReplaceAll(way, "{{v}}", "{{label}}"), "\n", "\n        ") + "\n"
		p, faults := procedure.Parse([]byte(frame(text)))
		if procedure.Refused(faults) {
			refused++
			continue
		}
		scope := scopeOf(t, p, nil)
		for _, each := range hostile {
			text := names.Replace(each)
			line, err := act(t, p, scope.With("label", value.TextValue(text)))
			if err != nil {
				continue
			}
			if strings.HasPrefix(way, "echo x >") { // a file of that name is what was asked for
				continue
			}
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			command := exec.CommandContext(ctx, "sh", "-c", line)
			command.Dir = t.TempDir()
			out, _ := command.Output()
			cancel()
			if _, err := os.Stat(mark); err == nil {
				t.Errorf("%s runs the value %q", way, text)
				os.Remove(mark)
			}
			if way == "printf %s {{v}}" && string(out) != text {
				t.Errorf("%q arrives as %q", text, out)
			}
		}
	}
	if words := len(ways) - refused; words < 10 || words > 20 {
		t.Errorf("%d ways are refused, and %d taken", refused, words)
	}
}

// What administrators write is taken all the same.
func TestUsefulCommandsAreTaken(t *testing.T) {
	for _, command := range []string{
		"{{as}} cp -p {{folder}} {{folder}}.old && {{as}} mv -f {{folder}}.old {{folder}}",
		"test -d {{folder}} || mkdir -m 700 {{folder}}", "{{as}} systemctl reload {{label}}.service",
		"( umask 077; cat {{folder}} > {{folder}}.new )", "openssl x509 -in {{folder}} -noout -subject | grep -q " +
			"{{label}}", "if [ -f {{folder}} ]; then rm {{folder}}; fi", "boxctl --name={{label}} apply 2>&1",
		"boxctl set certificate {{folder}}", "{{as}} boxctl exec {{label}} find", "{{as}}",
		"sh -c 'echo done; sleep 1'",
	} {
		_, faults := procedure.Parse([]byte(frame("    - {step: a, undo: nothing, run: \"" + command + "\"}\n")))
		if procedure.Refused(faults) {
			t.Errorf("%s: %v", command, faults)
		}
	}
}

// Settings that become part of a command are plain words too, and so is every
// word of a command that is a setting.
func FuzzSettingsStayWords(f *testing.F) {
	for _, each := range hostile {
		f.Add(each)
	}
	p := parsed(f, "    - {step: a, undo: nothing, run: \"printf '<%s>' {{label}}\"}\n")
	f.Fuzz(func(t *testing.T, text string) {
		scope, err := procedure.NewScope(procedure.Material{Procedure: p},
			map[string]string{"label": text, "as": text}, nil)
		if err != nil || text == "" {
			return
		}
		line, err := act(t, p, scope)
		if err != nil {
			return
		}
		out, err := exec.Command("sh", "-c", line).Output()
		if err != nil || string(out) != "<"+text+">" || !utf8.ValidString(text) {
			t.Errorf("%q became %q, error %v", text, out, err)
		}
	})
}
