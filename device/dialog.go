package device

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"freshseal/core/language/dialog"
	"freshseal/core/language/procedure"
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
	act := ready.Act.(*procedure.DialogAct)
	link, err := r.open(ctx)
	if err != nil {
		return Result{}, readied(err)
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	var able ssh.Able
	if act.Command != "" {
		if able, err = link.Able(limited); err != nil {
			return Result{}, readied(err)
		}
	}
	if able.Sessions || uses(ready.Step) {
		if err := r.work(limited); err != nil {
			return Result{}, readied(err)
		}
	}
	start := func() (*ssh.Talk, error) { return link.Talk(limited, act.Command) }
	if able.Sessions = able.Sessions && id != 0; able.Sessions { // a look leaves no trace
		start = func() (*ssh.Talk, error) { return link.TalkTracked(limited, r.runIn(id), act.Command) }
	}
	program, err := start()
	if err != nil {
		return Result{}, err
	}
	c := &dialog.Conversation{Turns: act.Talk, Meanwhile: act.Meanwhile}
	exit, err := r.converse(limited, program, c, id, ready.Step.Secret)
	ended := err == nil || told(err) || endsByItself(limited, program, err)
	program.Close()
	screen := r.unveiled(c.Screen())
	result := Result{Exit: exit, Stdout: c.Text(), Shown: screen}
	if act.Command == "" {
		result.Exit = 0 // of a command line the code says nothing
	}
	switch {
	case err == nil:
		return result, nil
	case able.Sessions:
		if endErr := r.over(context.WithoutCancel(ctx), id); endErr != nil {
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

// unveiled is a screen without secrets: a program that echoes one may have it broken by
// the end of a line.
func (r *Runner) unveiled(screen string) string {
	for _, secret := range r.hidden {
		var broken strings.Builder
		for i, c := range secret {
			if i > 0 {
				broken.WriteString(`\n?`)
			}
			broken.WriteString(regexp.QuoteMeta(string(c)))
		}
		screen = regexp.MustCompile(broken.String()).ReplaceAllLiteralString(screen, "••••••")
	}
	return screen
}

// told says that the program told its own failure: what it did is over then.
func told(err error) bool { return errors.As(err, new(*dialog.Refused)) }

// endsByItself says that a program whose text ended has ended.
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

// uses says that the step names the work folder.
func uses(s procedure.Step) bool {
	w, ok := s.Do.(interface{ UsesWork() bool })
	return ok && w.UsesWork()
}

// leaves says that an act has a program on the device which may outlive the service.
func leaves(a procedure.Act) bool {
	switch a := a.(type) {
	case *procedure.DialogAct:
		return a.Command != ""
	case *procedure.WaitAct:
		return a.First != ""
	}
	return false
}

// hangUp ends the program of a step in whose middle the service was stopped. still
// says that something of it may go on; without begun it never began, and never will.
func (r *Runner) hangUp(ctx context.Context, id int64) (begun, still bool, err error) {
	stands, _, err := r.commandState(ctx, r.runIn(id))
	if errors.Is(err, ErrCannotTell) {
		return true, false, fmt.Errorf("the service was stopped during the step, and %w", err)
	}
	if err == nil && stands == ssh.Never {
		return false, false, nil
	}
	if err == nil {
		err = r.over(ctx, id)
	}
	return true, err != nil, err
}

// over ends what is left of a program.
func (r *Runner) over(ctx context.Context, id int64) error {
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	link, err := r.open(limited)
	if err == nil {
		err = link.End(limited, r.runIn(id), r.As)
	}
	if lost(err) {
		r.Close()
		if link, err = r.open(limited); err == nil {
			err = link.End(limited, r.runIn(id), r.As)
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

// converse goes through the turns until the program ends.
func (r *Runner) converse(ctx context.Context, program *ssh.Talk, c *dialog.Conversation, id int64,
	secret bool) (exit int, err error) {
	told := ""
	tell := func() {
		if now := c.Screen(); now != told && !secret {
			told = now
			if id != 0 {
				r.Journal.Show(ctx, id, show(r.unveiled(now), r.hidden), c.Percent())
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
	answer := func(say func([]byte) error) error {
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
	wait()
	var silence <-chan time.Time
	for {
		select {
		case text, open := <-program.Heard():
			if !open {
				if err := answer(func([]byte) error { return nil }); err != nil { // what it wrote last
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
			if err := answer(program.Say); err != nil {
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
