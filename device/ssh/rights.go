package ssh

import (
	"context"
	"errors"
	"strings"
)

// moreRights is what a command with more rights needs: the word goes before its input, is
// read by the shell into the environment of this one command, and is given by a program in
// the work folder to whoever asks for it (SUDO_ASKPASS, sudo(8)). It is never part of a
// command's text and lies in no file.
type moreRights struct {
	prefix  string // of the commands that need it
	program string // the file that gives it
	word    string
}

// giveWord is that program.
const giveWord = "#!/bin/sh\nprintf '%s\\n' \"$FS_WORD\"\n"

// RaiseWith gives a password to the commands that begin with as from now on. program is a file of
// ours in the work folder.
func (l *Link) RaiseWith(ctx context.Context, as []string, program, password string) error {
	if strings.ContainsAny(password, "\x00\r\n") {
		return errors.New("a password for more rights cannot hold a line end")
	}
	if err := l.Files(nil).Write(ctx, program, []byte(giveWord), 0o700); err != nil {
		return err
	}
	l.more = moreRights{strings.Join(as, " ") + " ", program, password}
	return nil
}

// raised returns a command with its input as it is sent: with the word, where it needs that.
func (m moreRights) raised(command string, stdin []byte) (string, []byte) {
	if m.word == "" || !strings.Contains(command, m.prefix) {
		return command, stdin
	}
	return script(raiseScript, m.program, command), append([]byte(m.word+"\n"), stdin...)
}
