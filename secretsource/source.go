// Package secretsource asks for the secrets of devices where they are kept: in a file, among the credentials of
// systemd, or by a helper program. What is asked for is kept nowhere.
//
// Files and helpers are those of one folder, which whoever starts the service names; nobody who uses the service can
// name another place, so its API reads no other file and starts no other program.
//
// A helper is started without a shell, with the words that its source has, and gets four lines on standard input:
//
//	freshseal secret 1
//	credential fleet-root
//	user keeper
//	device gate-1.mainquay.tidewrack.example
//
// It answers with a line for each secret, password, key (base64 of the private key) or passphrase, and ends with done:
//
//	password correct horse
//	done
//
// or with one line, refused and why.
package secretsource

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"
)

// Kind is where a secret is kept.
type Kind string

// The kinds of sources.
const (
	File    Kind = "file"    // of the folder; what it holds is the password, or a private key
	Systemd Kind = "systemd" // a credential of the service's unit (LoadCredential=), read as a file is
	Helper  Kind = "helper"  // a program of the folder
)

// Kinds are all kinds.
var Kinds = []Kind{File, Systemd, Helper}

// Source says where a secret is kept: a kind, a name, and for a helper further words.
type Source struct {
	Kind  Kind
	Name  string
	Words []string
}

var (
	plainName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)
	plainWord = regexp.MustCompile(`^[A-Za-z0-9._:/@%+=,-]{1,200}$`)
)

const mostWords = 20

// Parse reads a source as people write it: the kind, a name and further words, with blanks between.
func Parse(text string) (Source, error) {
	words := strings.Fields(text)
	if len(words) < 2 {
		return Source{}, errors.New("a source is a kind (file, systemd or helper) and a name")
	}
	s := Source{Kind: Kind(words[0]), Name: words[1], Words: words[2:]}
	switch {
	case s.Kind != File && s.Kind != Systemd && s.Kind != Helper:
		return Source{}, fmt.Errorf("no kind of source is called %.40q; give file, systemd or helper", words[0])
	case !plainName.MatchString(s.Name):
		return Source{}, fmt.Errorf("%.100q is not the name of a file: letters, digits and . _ - are, no folders",
			s.Name)
	case s.Kind != Helper && len(s.Words) > 0:
		return Source{}, fmt.Errorf("a source of kind %s has a name alone", s.Kind)
	case len(s.Words) > mostWords:
		return Source{}, fmt.Errorf("a helper gets at most %d words", mostWords)
	}
	for _, word := range s.Words {
		if !plainWord.MatchString(word) {
			return Source{}, fmt.Errorf("%.100q is not a word for a helper: letters, digits and . _ : / @ %% + = , - "+
				"are", word)
		}
	}
	return s, nil
}

// String writes a source as Parse reads it.
func (s Source) String() string {
	return strings.Join(append([]string{string(s.Kind), s.Name}, s.Words...), " ")
}

// Secrets are what a source gives; what it does not give is empty.
type Secrets struct{ Password, Key, Passphrase string }

// Asked is for what a secret is asked for.
type Asked struct{ Credential, User, Device string }

// Places are where sources are.
type Places struct {
	Dir     string // with files and helpers; empty: there are none
	Systemd string // $CREDENTIALS_DIRECTORY; empty: the service has no credentials of systemd
}

// Limits of a source.
const (
	maxSecret = 64 << 10 // bytes
	maxAnswer = 4 * maxSecret
	maxReason = 200 // bytes of a helper's reason
	helperFor = 20 * time.Second
)

// Get asks a source. Its error says what failed, without anything of a secret.
func (p Places) Get(ctx context.Context, s Source, asked Asked) (Secrets, error) {
	switch s.Kind {
	case File:
		return file(s.Kind, p.Dir, s.Name, "the service was started without --secret-sources")
	case Systemd:
		return file(s.Kind, p.Systemd, s.Name, "the service has no credentials of systemd")
	case Helper:
		return p.helper(ctx, s, asked)
	}
	return Secrets{}, fmt.Errorf("no kind of source is called %q", s.Kind)
}

// owned returns a file of a folder that only root, or who runs the service, can change; of a secret, nobody else reads.
func owned(dir, name string, kind Kind) (string, error) {
	read := map[Kind]fs.FileMode{File: 0o077, Systemd: 0o007}[kind] // systemd lets its unit read by a list of access
	path := filepath.Join(dir, name)
	for _, at := range []string{dir, path} {
		info, err := os.Lstat(at)
		if err != nil {
			return "", errors.Unwrap(err)
		}
		owner, ok := info.Sys().(*syscall.Stat_t)
		switch {
		case at == dir && !info.IsDir():
			return "", errors.New("its folder is no folder")
		case at == path && !info.Mode().IsRegular():
			return "", errors.New("it is no regular file")
		case !ok || owner.Uid != 0 && int(owner.Uid) != os.Geteuid():
			return "", errors.New("it, or its folder, belongs to another user than root and who runs the service")
		case info.Mode().Perm()&0o022 != 0:
			return "", errors.New("others can write it, or its folder")
		case at == path && info.Mode().Perm()&read != 0:
			return "", fmt.Errorf("others can read it: its mode is %04o, and must be 0600 or 0400", info.Mode().Perm())
		case at == path && kind == Helper && info.Mode().Perm()&0o100 == 0:
			return "", errors.New("it cannot be run")
		}
	}
	return path, nil
}

func file(kind Kind, dir, name, none string) (Secrets, error) {
	if dir == "" {
		return Secrets{}, errors.New(none)
	}
	path, err := owned(dir, name, kind)
	if err != nil {
		return Secrets{}, reason(name, err)
	}
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return Secrets{}, reason(name, errors.Unwrap(err))
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxSecret+1))
	switch {
	case err != nil:
		return Secrets{}, reason(name, errors.New("it cannot be read"))
	case len(text) > maxSecret:
		return Secrets{}, reason(name, fmt.Errorf("it is longer than %d bytes", maxSecret))
	}
	if bytes.Contains(text, []byte("-----BEGIN ")) {
		return Secrets{Key: string(text)}, nil
	}
	password := strings.TrimRight(string(text), "\r\n")
	if password == "" || strings.ContainsAny(password, "\r\n\x00") {
		return Secrets{}, reason(name, errors.New("it is neither one line, a password, nor a private key"))
	}
	return Secrets{Password: password}, nil
}

func reason(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOENT) {
		return fmt.Errorf("there is no %s", name)
	}
	return fmt.Errorf("%s cannot be used: %w", name, err)
}

func (p Places) helper(ctx context.Context, s Source, asked Asked) (Secrets, error) {
	if p.Dir == "" {
		return Secrets{}, errors.New("the service was started without --secret-sources")
	}
	path, err := owned(p.Dir, s.Name, Helper)
	if err != nil {
		return Secrets{}, reason(s.Name, err)
	}
	limited, end := context.WithTimeout(ctx, helperFor)
	defer end()
	cmd := exec.CommandContext(limited, path, s.Words...)
	cmd.Dir, cmd.Env = p.Dir, []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8"}
	cmd.Stdin = strings.NewReader(fmt.Sprintf("freshseal secret 1\ncredential %s\nuser %s\ndevice %s\n",
		oneLine(asked.Credential), oneLine(asked.User), oneLine(asked.Device)))
	answer := &bounded{most: maxAnswer, stop: end}
	cmd.Stdout = answer // what it writes elsewhere may have secrets, and goes nowhere
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 2 * time.Second
	err = cmd.Run()
	if cmd.Process != nil {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it left behind
	}
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return Secrets{}, ctx.Err()
	case answer.over:
		return Secrets{}, fmt.Errorf("the helper %s answers with more than %d bytes", s.Name, maxAnswer)
	case limited.Err() != nil:
		return Secrets{}, fmt.Errorf("the helper %s did not answer within %s", s.Name, helperFor)
	case errors.As(err, &exit):
		if said, refused := refusal(answer.String()); refused {
			return Secrets{}, fmt.Errorf("the helper %s refuses: %s", s.Name, said)
		}
		return Secrets{}, fmt.Errorf("the helper %s failed: %s", s.Name, exit.ProcessState)
	case err != nil && !errors.Is(err, exec.ErrWaitDelay): // what it started holds its output open, and was ended
		return Secrets{}, fmt.Errorf("the helper %s cannot be run", s.Name)
	}
	out, err := parse(answer.String())
	if err != nil {
		return Secrets{}, fmt.Errorf("the helper %s %w", s.Name, err)
	}
	return out, nil
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// refusal returns why a helper refuses.
func refusal(answer string) (why string, refused bool) {
	line, _, _ := strings.Cut(answer, "\n")
	why, refused = strings.CutPrefix(strings.TrimRight(line, "\r"), "refused")
	if why = oneLine(why); why == "" {
		why = "it does not say why"
	}
	return strings.ToValidUTF8(why[:min(len(why), maxReason)], ""), refused
}

// parse reads the answer of a helper. Its error is without anything of it, but for the reason of a refusal.
func parse(answer string) (out Secrets, err error) {
	if why, refused := refusal(answer); refused {
		return out, fmt.Errorf("refuses: %s", why)
	}
	lines := strings.Split(strings.TrimSuffix(answer, "\n"), "\n")
	for i, line := range lines {
		word, text, _ := strings.Cut(strings.TrimSuffix(line, "\r"), " ")
		into := map[string]*string{"password": &out.Password, "key": &out.Key, "passphrase": &out.Passphrase}[word]
		switch {
		case word == "done" && text == "":
			if strings.TrimSpace(strings.Join(lines[i+1:], "")) != "" {
				return Secrets{}, errors.New("says something behind done")
			}
			if out.Password == "" && out.Key == "" {
				return Secrets{}, errors.New("gives neither a password nor a key")
			}
			return out, nil
		case into == nil:
			return Secrets{}, fmt.Errorf("says something else than password, key, passphrase, done or refused in "+
				"line %d", i+1)
		case *into != "" || text == "" || len(text) > maxSecret || strings.ContainsRune(text, 0):
			return Secrets{}, fmt.Errorf("gives the %s twice, empty or too long", word)
		case word == "key":
			raw, err := base64.StdEncoding.DecodeString(text)
			if err != nil || len(raw) == 0 {
				return Secrets{}, errors.New("gives a key that is not base64")
			}
			text = string(raw)
		}
		*into = text
	}
	return Secrets{}, errors.New("does not end with done")
}

// bounded keeps up to most bytes; at more it stops the program that writes them. The buffer is no embedded one: its
// ReadFrom would take all that comes.
type bounded struct {
	kept bytes.Buffer
	most int
	stop func()
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.kept.Len()+len(p) > b.most {
		b.over = true
		b.stop()
		return 0, errors.New("too long")
	}
	return b.kept.Write(p)
}

func (b *bounded) String() string { return b.kept.String() }
