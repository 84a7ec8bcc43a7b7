package standin

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Terminal is what an interactive program of a box talks on. It echoes nothing.
type Terminal struct {
	out io.Writer
	in  *bufio.Reader
}

func newTerminal(channel io.ReadWriter) *Terminal {
	return &Terminal{out: channel, in: bufio.NewReader(channel)}
}

// Say writes text with the line ends of a terminal.
func (t *Terminal) Say(format string, args ...any) {
	io.WriteString(t.out, strings.ReplaceAll(fmt.Sprintf(format, args...), "\n", "\r\n"))
}

// ErrHungUp means that whoever typed is gone.
var ErrHungUp = errors.New("hung up")

// Ask writes a prompt and reads a line. What was typed before it, is thrown away where
// it is a password's.
func (t *Terminal) Ask(prompt string) (string, error) {
	t.Say("%s", prompt)
	return t.Line()
}

// AskSecret asks for a line that is not shown while it is typed.
func (t *Terminal) AskSecret(prompt string) (string, error) {
	if n := t.in.Buffered(); n > 0 {
		t.in.Discard(n)
	}
	answer, err := t.Ask(prompt)
	t.Say("\n")
	return answer, err
}

// Line reads up to Enter; Ctrl-C and Ctrl-D hang up.
func (t *Terminal) Line() (string, error) {
	var b strings.Builder
	for b.Len() < 4096 {
		c, err := t.in.ReadByte()
		switch {
		case err != nil, c == 3, c == 4:
			return "", ErrHungUp
		case c == '\r' || c == '\n':
			return b.String(), nil
		}
		b.WriteByte(c)
	}
	return b.String(), nil
}

// key reads a single key.
func (t *Terminal) Pressed() (byte, error) {
	c, err := t.in.ReadByte()
	if err != nil {
		return 0, ErrHungUp
	}
	return c, nil
}

// Takes lets a moment of the box's time pass: a second of its maker's manual is a
// small part of one here, unless Restart says otherwise.
func (r *Running) Takes(part int) { time.Sleep(r.Restart / time.Duration(part)) }
