package standin

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// terminal is what an interactive program of a box talks on. It echoes nothing.
type terminal struct {
	out io.Writer
	in  *bufio.Reader
}

func newTerminal(channel io.ReadWriter) *terminal {
	return &terminal{out: channel, in: bufio.NewReader(channel)}
}

// say writes text with the line ends of a terminal.
func (t *terminal) say(format string, args ...any) {
	io.WriteString(t.out, strings.ReplaceAll(fmt.Sprintf(format, args...), "\n", "\r\n"))
}

// errHungUp says that whoever typed is gone.
var errHungUp = errors.New("hung up")

// ask writes a prompt and reads a line. What was typed before it, is thrown away where
// it is a password's.
func (t *terminal) ask(prompt string) (string, error) {
	t.say("%s", prompt)
	return t.line()
}

func (t *terminal) secret(prompt string) (string, error) {
	if n := t.in.Buffered(); n > 0 {
		t.in.Discard(n)
	}
	answer, err := t.ask(prompt)
	t.say("\n")
	return answer, err
}

// line reads up to Enter; Ctrl-C and Ctrl-D hang up.
func (t *terminal) line() (string, error) {
	var b strings.Builder
	for b.Len() < 4096 {
		c, err := t.in.ReadByte()
		switch {
		case err != nil, c == 3, c == 4:
			return "", errHungUp
		case c == '\r' || c == '\n':
			return b.String(), nil
		}
		b.WriteByte(c)
	}
	return b.String(), nil
}

// key reads a single key.
func (t *terminal) pressed() (byte, error) {
	c, err := t.in.ReadByte()
	if err != nil {
		return 0, errHungUp
	}
	return c, nil
}

// program is what a box lets run on a terminal.
type program func(*terminal) error

// programs are the box's interactive programs by their command; that of the empty
// command is its own command line.
func (r *Running) programs() map[string]program {
	switch r.Kind {
	case MenuManager:
		return map[string]program{"trustdesk": r.trustDesk}
	case EncryptionAppliance:
		return map[string]program{"cipherdesk": r.cipherDesk}
	case NetworkGear:
		return map[string]program{"": r.gearLine}
	case StagedVault:
		return map[string]program{"": r.stageDesk}
	case SignalMast:
		return map[string]program{"": r.mastMenu}
	}
	return nil
}

// takes lets a moment of the box's time pass: a second of its maker's manual is a
// small part of one here, unless Restart says otherwise.
func (r *Running) takes(part int) { time.Sleep(r.Restart / time.Duration(part)) }
