package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"freshseal/core/language/value"
	"freshseal/device/links"

	crypto "golang.org/x/crypto/ssh"
)

// Output is what a command left.
type Output struct {
	Exit   int
	Stdout []byte
	Stderr []byte
}

// Able is what a device's shell can do.
type Able struct {
	Shell    bool // runs a POSIX shell's commands
	Sessions bool // can end a command with all its children, and tell how one stands
}

// Exec carries out a command as it is. An exit code other than 0 is not an error
// here. The context's end closes the whole link, since closing a channel ends no
// command; the error is then ErrTimeLimit. Every limit begins before the first
// byte is sent.
func (l *Link) Exec(ctx context.Context, command string, stdin []byte) (Output, error) {
	defer context.AfterFunc(ctx, func() { l.client.Close() })()
	command, stdin = l.more.raised(command, stdin)
	session, err := l.client.NewSession()
	if err != nil {
		return Output{}, l.lost(ctx, err)
	}
	defer session.Close()
	stdout, stderr := &bounded{end: l.client}, &bounded{end: l.client}
	session.Stdout, session.Stderr = stdout, stderr
	session.Stdin = bytes.NewReader(stdin)
	err = session.Run(command)
	out := Output{Stdout: stdout.bytes(), Stderr: stderr.bytes()}
	var exit *crypto.ExitError
	switch {
	case err == nil:
		return out, nil
	case ctx.Err() != nil:
		return out, limitError(ctx)
	case stdout.over() || stderr.over():
		return out, fmt.Errorf("%w: the command printed more than %d bytes", links.ErrFlood, maxOutput)
	case errors.As(err, &exit) && exit.Signal() == "":
		out.Exit = exit.ExitStatus()
		return out, nil
	// the request itself was refused; the library has no type for it
	case strings.HasPrefix(err.Error(), "ssh: command ") && l.lives():
		return out, ErrNoCommands
	}
	return out, l.lost(ctx, err)
}

// ErrNoCommands means that the device takes no commands over SSH: it has a command line
// of its own alone.
var ErrNoCommands = errors.New("the device runs no commands over SSH")

func (l *Link) lost(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return limitError(ctx)
	}
	return fmt.Errorf("%w: %v", links.ErrLost, err)
}

// limitError tells a passed limit from a stop of the whole service.
func limitError(ctx context.Context) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return links.ErrTimeLimit
	}
	return fmt.Errorf("%w: %v", links.ErrLost, ctx.Err())
}

// bounded keeps up to maxOutput bytes and ends the link when more come. It is no
// bytes.Buffer on purpose: that one reads from a stream past Write.
type bounded struct {
	lock   sync.Mutex
	buffer bytes.Buffer
	full   bool
	end    io.Closer
}

// Write takes bytes up to the limit.
func (b *bounded) Write(p []byte) (int, error) {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.buffer.Len()+len(p) > maxOutput {
		b.full = true
		b.end.Close()
		return 0, links.ErrFlood
	}
	return b.buffer.Write(p)
}

func (b *bounded) bytes() []byte {
	b.lock.Lock()
	defer b.lock.Unlock()
	return bytes.Clone(b.buffer.Bytes())
}

func (b *bounded) over() bool {
	b.lock.Lock()
	defer b.lock.Unlock()
	return b.full
}

// Able returns what the device's shell can do; it is asked once for a link.
func (l *Link) Able(ctx context.Context) (Able, error) {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.able != nil {
		return *l.able, nil
	}
	out, err := l.Exec(ctx, script(probeScript), nil)
	if err != nil && !errors.Is(err, ErrNoCommands) {
		return Able{}, err
	}
	text := string(out.Stdout)
	l.able = &Able{Shell: strings.Contains(text, "fs-shell"), Sessions: strings.Contains(text, "fs-sessions")}
	return *l.able, nil
}

// CommandState is how a command stands that was begun earlier.
type CommandState string

// The standings.
const (
	Never    CommandState = "never"    // it was not begun, and now never will be
	Starting CommandState = "starting" // it is about to begin
	Going    CommandState = "running"
	Ended    CommandState = "ended"   // with the exit code of its output
	Stopped  CommandState = "stopped" // its time ran out, or it was ended from outside
	Gone     CommandState = "gone"    // nothing of it is left, nor what became of it
)

// Run carries out a command in a session of its own, so that it can be ended and
// asked after, even over another link. folder keeps what becomes of it; it must
// not exist. Where the device itself ended the command at its limit, the error is
// ErrTimeLimit.
func (l *Link) Run(ctx context.Context, folder, command string, stdin []byte, limit time.Duration) (Output, error) {
	seconds := strconv.Itoa(max(1, int(limit.Round(time.Second)/time.Second)))
	out, err := l.Exec(ctx, script(runScript, folder, command, seconds), stdin)
	if err != nil {
		return out, err
	}
	switch out.Exit {
	case 124, 137, 143: // its own code, or that of its end
		stands, _, err := l.State(ctx, folder)
		if err != nil {
			return out, err
		}
		if stands == Stopped {
			return out, links.ErrTimeLimit
		}
	case 125:
		if bytes.Contains(out.Stderr, []byte(folder)) {
			return out, fmt.Errorf("the device cannot keep what becomes of a command: %s",
				strings.TrimSpace(string(out.Stderr)))
		}
	}
	return out, nil
}

// State returns how a command stands, with its output where it has ended.
func (l *Link) State(ctx context.Context, folder string) (CommandState, Output, error) {
	said, err := l.Exec(ctx, script(stateScript, folder), nil)
	if err != nil {
		return "", Output{}, err
	}
	_, text, ok := strings.Cut(string(said.Stdout), "fs-stands ")
	words := strings.Fields(text)
	if !ok || len(words) == 0 {
		return "", Output{}, fmt.Errorf("the device does not say how a command stands: %s",
			strings.TrimSpace(string(said.Stderr)))
	}
	stands := CommandState(words[0])
	if words[len(words)-1] == "limit" && stands != Going {
		return Stopped, Output{}, nil
	}
	if stands != Ended || len(words) < 2 {
		return stands, Output{}, nil
	}
	out, err := l.Exec(ctx, script(`cat "$1/out";cat "$1/err" >&2`, folder), nil)
	if err != nil {
		return "", out, err
	}
	out.Exit, err = strconv.Atoi(words[1])
	return Ended, out, err
}

// End ends a command with all that it began, and is sure of it: an error says
// that something of it may still run. as stands before the commands that end it,
// for what runs with more rights.
func (l *Link) End(ctx context.Context, folder string, as []string) error {
	for _, prefix := range [][]string{nil, as} {
		words := ""
		for _, w := range prefix {
			words += value.Quote(w) + " "
		}
		said, err := l.Exec(ctx, words+script(endScript, folder), nil)
		if err != nil {
			return err
		}
		if bytes.Contains(said.Stdout, []byte("fs-all-ended")) {
			return nil
		}
		if len(as) == 0 {
			break
		}
	}
	return errors.New("it does not end, whatever signal it gets")
}
