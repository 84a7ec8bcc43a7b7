package device

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/core/language/dialog"
	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/links"
	"freshseal/device/ssh"
)

var _ = carries("dialog", talk)

// quiet is how long a program must have been silent before it is answered: what is
// typed while it still writes its question may be thrown away.
const quiet = 30 * time.Millisecond

// ending is how long a program may take to end after the last answer.
const ending = 30 * time.Second

// talk holds a dialog. Where the device can tell how a program stands, one that got
// stuck is ended for certain before anything else is done; where it cannot, it may
// still be running.
func talk(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, error) {
	act := ready.Act.(*verb.DialogAct)
	link, err := r.open(ctx)
	if err != nil {
		return Result{}, readied(err)
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	program, tracked, err := startProgram(limited, r, link, ready, id)
	if err != nil {
		return Result{}, err
	}
	c := &dialog.Conversation{Turns: act.Talk, Meanwhile: act.Meanwhile}
	exit, err := converse(limited, r, program, c, id, ready.Step.Secret)
	ended := err == nil || told(err) || endsByItself(limited, program, err)
	program.Close()
	screen := unveiledScreen(r, c.Screen())
	result := Result{Exit: exit, Stdout: c.Text(), Shown: screen}
	if act.Command == "" {
		result.Exit = 0 // of a command line the code says nothing
	}
	switch {
	case err == nil:
		return result, nil
	case tracked:
		if endErr := dialogOver(context.WithoutCancel(ctx), r, id); endErr != nil {
			return result, &mayRun{cause: fmt.Errorf("%w; %v", err, endErr)}
		}
	// What goes on in survey and request touches nothing that is live.
	case !ended && ready.Section != procedure.Survey && ready.Section != procedure.Look &&
		ready.Section != procedure.Request:
		err = &mayRun{cause: err}
	}
	if screen != "" && !told(err) && !ready.Step.Secret {
		err = &stuck{err, screen}
	}
	return result, err
}

// startProgram starts the program of a dialog. It reports whether the device keeps track of it, so that it can be ended
// for certain.
func startProgram(ctx context.Context, r *Runner, link *ssh.Link, ready procedure.Ready, id int64) (program *ssh.Talk,
	tracked bool, err error) {
	command := ready.Act.(*verb.DialogAct).Command
	var able ssh.Able
	if command != "" {
		if able, err = link.Able(ctx); err != nil {
			return nil, false, readied(err)
		}
	}
	if able.Sessions || uses(ready.Step) {
		if err := r.work(ctx); err != nil {
			return nil, false, readied(err)
		}
	}
	if able.Sessions && id != 0 { // a look, which has no id, leaves no trace
		program, err = link.TalkTracked(ctx, runInFolder(r, id), command)
		return program, true, err
	}
	program, err = link.Talk(ctx, command)
	return program, false, err
}

// unveiledScreen returns a screen without secrets: a program that echoes one may have it broken by
// the end of a line.
func unveiledScreen(r *Runner, screen string) string {
	for _, secret := range r.hidden {
		screen = withoutBroken(screen, secret)
	}
	return screen
}

// withoutBroken takes a secret out of a screen, wherever lines end within it.
func withoutBroken(screen, secret string) string {
	secret = strings.ReplaceAll(secret, "\n", "")
	if secret == "" || len(secret) > len(screen) {
		return screen
	}
	flat, at := make([]byte, 0, len(screen)), make([]int, 0, len(screen)) // without line ends, and where each byte is
	for i := range len(screen) {
		if screen[i] != '\n' {
			flat, at = append(flat, screen[i]), append(at, i)
		}
	}
	var out strings.Builder
	from := 0
	for start := 0; ; {
		n := strings.Index(string(flat[start:]), secret)
		if n < 0 {
			out.WriteString(screen[from:])
			return out.String()
		}
		out.WriteString(screen[from:at[start+n]])
		out.WriteString("••••••")
		start += n + len(secret)
		from = at[start-1] + 1
	}
}

// told reports whether the program told its own failure: what it did is over then.
func told(err error) bool { return errors.As(err, new(*dialog.Refused)) }

// endsByItself reports whether a program whose text ended has ended.
func endsByItself(ctx context.Context, program *ssh.Talk, err error) bool {
	if lost(err) {
		return false
	}
	select {
	case _, open := <-program.Heard():
		return !open
	case <-time.After(quiet):
	case <-ctx.Done():
	}
	return false
}

// uses reports whether the step names the work folder.
func uses(s procedure.Step) bool {
	w, ok := s.Do.(interface{ UsesWork() bool })
	return ok && w.UsesWork()
}

// leaves reports whether an act has a program on the device which may outlive the service.
func leaves(a procedure.Act) bool {
	switch a := a.(type) {
	case *verb.DialogAct:
		return a.Command != ""
	case *verb.WaitAct:
		return a.First != ""
	}
	return false
}

// hangUp ends the program of a step in whose middle the service was stopped. still
// says that something of it may go on; without begun it never began, and never will.
func hangUp(ctx context.Context, r *Runner, id int64) (begun, still bool, err error) {
	stands, _, err := commandState(ctx, r, runInFolder(r, id))
	if errors.Is(err, ErrCannotTell) {
		return true, false, fmt.Errorf("the service was stopped during the step, and %w", err)
	}
	if err == nil && stands == ssh.Never {
		return false, false, nil
	}
	if err == nil {
		err = dialogOver(ctx, r, id)
	}
	return true, err != nil, err
}

// dialogOver ends what is left of a program.
func dialogOver(ctx context.Context, r *Runner, id int64) error {
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	link, err := r.open(limited)
	if err == nil {
		err = link.End(limited, runInFolder(r, id), r.As)
	}
	if lost(err) {
		r.Close()
		if link, err = r.open(limited); err == nil {
			err = link.End(limited, runInFolder(r, id), r.As)
		}
	}
	return err
}

// stuck is a dialog that did not go as written, with what stood on the screen.
type stuck struct {
	cause  error
	screen string
}

func (e *stuck) Error() string { return e.cause.Error() + ". The screen showed:\n" + e.screen }
func (e *stuck) Unwrap() error { return e.cause }

// answerProgram sends what the conversation has ready; wait is called after each answer, tell before an error is
// returned.
func answerProgram(c *dialog.Conversation, say func([]byte) error, tell, wait func()) error {
	for {
		next, err := c.Next()
		if err != nil {
			tell()
		}
		if err != nil || next == nil {
			return err
		}
		if err := say(next.Say); err != nil {
			return err
		}
		c.Typed(next)
		wait()
	}
}

// converse goes through the turns until the program ends.
func converse(ctx context.Context, r *Runner, program *ssh.Talk, c *dialog.Conversation, id int64,
	secret bool) (exit int, err error) {
	told := ""
	tell := func() {
		if now := c.Screen(); now != told && !secret {
			told = now
			if id != 0 {
				r.Journal.Show(ctx, id, show(unveiledScreen(r, now), r.hidden), c.Percent())
			}
		}
	}
	ticks := time.NewTicker(time.Second)
	defer ticks.Stop()
	patience := time.NewTimer(ending)
	defer patience.Stop()
	wait := func() {
		limit := ending
		if w := c.Waits(); w != nil {
			limit = w.Within
		}
		patience.Reset(limit)
	}
	wait()
	var silence <-chan time.Time
	for {
		select {
		case text, open := <-program.Heard():
			if !open {
				if err := answerProgram(c, func([]byte) error { return nil }, tell, wait); err != nil {
					return 0, err
				}
				if exit, err = program.Wait(); err != nil {
					return exit, err
				}
				return exit, c.Cut()
			}
			if err := c.Hear(text); err != nil {
				return 0, err
			}
			silence = time.After(quiet)
		case <-silence:
			silence = nil
			if err := answerProgram(c, program.Say, tell, wait); err != nil {
				return 0, err
			}
		case <-ticks.C:
			tell()
		case <-patience.C:
			tell()
			return 0, c.Stuck()
		case <-ctx.Done():
			return 0, fmt.Errorf("%w: the dialog as a whole took too long", links.ErrTimeLimit)
		}
	}
}
