package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"freshseal/core/terminal/screen"

	crypto "golang.org/x/crypto/ssh"
)

// Talk is a program on a terminal of the device.
type Talk struct {
	link    *Link
	ctx     context.Context
	session *crypto.Session
	in      io.WriteCloser
	out     chan []byte
	reading sync.WaitGroup
	over    chan struct{}
	stop    func() bool
}

// Talk starts a program on a terminal that does not echo; without a command, the
// device's own command line. The context's end closes the whole link, as with Exec.
func (l *Link) Talk(ctx context.Context, command string) (*Talk, error) {
	t := &Talk{link: l, ctx: ctx, out: make(chan []byte), over: make(chan struct{})}
	t.stop = context.AfterFunc(ctx, func() { l.client.Close() })
	session, err := l.client.NewSession()
	if err != nil {
		t.stop()
		return nil, l.lost(ctx, err)
	}
	t.session = session
	if err := t.start(command); err != nil {
		session.Close()
		t.stop()
		if ctx.Err() == nil && l.lives() {
			return nil, fmt.Errorf("the device does not let it talk on a terminal: %w", err)
		}
		return nil, l.lost(ctx, err)
	}
	return t, nil
}

func (t *Talk) start(command string) error {
	modes := crypto.TerminalModes{crypto.ECHO: 0, crypto.ECHOE: 0, crypto.ECHOK: 0, crypto.ECHONL: 0}
	if err := t.session.RequestPty("xterm", screen.Rows, screen.Columns, modes); err != nil {
		return err
	}
	out, err := t.session.StdoutPipe()
	if err != nil {
		return err
	}
	if t.in, err = t.session.StdinPipe(); err != nil {
		return err
	}
	if command == "" {
		err = t.session.Shell()
	} else {
		err = t.session.Start(command)
	}
	if err != nil {
		return err
	}
	t.reading.Go(func() { t.read(out) })
	return nil
}

func (t *Talk) read(out io.Reader) {
	defer close(t.out)
	for {
		buffer := make([]byte, 4096)
		n, err := out.Read(buffer)
		if n > 0 {
			select {
			case t.out <- buffer[:n]:
			case <-t.over:
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// Heard returns what the program writes; it is closed when the program or the link ends.
func (t *Talk) Heard() <-chan []byte { return t.out }

// typed is how much is typed at once, and pause how long the terminal then gets to
// take it: a line discipline keeps 4 KiB and drops what comes after.
const (
	typed = 1024
	pause = 20 * time.Millisecond
)

// Say types.
func (t *Talk) Say(text []byte) error {
	for len(text) > 0 {
		n := min(len(text), typed)
		if _, err := t.in.Write(text[:n]); err != nil {
			return t.link.lost(t.ctx, err)
		}
		if text = text[n:]; len(text) > 0 {
			time.Sleep(pause)
		}
	}
	return nil
}

// Wait returns the exit code, once Heard is closed. A device that tells none has ended
// well, as far as it says.
func (t *Talk) Wait() (exit int, err error) {
	err = t.session.Wait()
	var code *crypto.ExitError
	var none *crypto.ExitMissingError
	switch {
	case err == nil:
		return 0, nil
	case errors.As(err, &code) && code.Signal() == "":
		return code.ExitStatus(), nil
	case errors.As(err, &none) && t.link.lives():
		return 0, nil
	}
	return 0, t.link.lost(t.ctx, err)
}

// lives reports whether the link still answers.
func (l *Link) lives() bool {
	_, _, err := l.client.SendRequest("keepalive@openssh.com", true, nil)
	return err == nil
}

// Close hangs up: a program that does not ignore it ends.
func (t *Talk) Close() {
	close(t.over)
	t.session.Close()
	t.reading.Wait()
	t.stop()
}

// TalkTracked is Talk with a program that State and End know by its folder, which must
// not exist.
func (l *Link) TalkTracked(ctx context.Context, folder, command string) (*Talk, error) {
	return l.Talk(ctx, script(talkScript, folder, command))
}
