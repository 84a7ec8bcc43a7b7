package device

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"freshseal/core/procedure"
)

// Journal is told of every step before it is done and after, and remembers
// those that were done before the service was stopped.
type Journal interface {
	Done(section procedure.Section, name string) (captured []byte, done bool)
	Begin(ctx context.Context, e Entry) (id int64, err error)
	End(ctx context.Context, id int64, o Outcome) error
}

// Entry is a step that is about to be done. Its text shows no secret.
type Entry struct {
	Section procedure.Section
	Name    string
	Verb    procedure.Verb
	Text    string
	Repeat  bool             // may be done again when its outcome is unknown
	Hand    *procedure.Ready // a step that a person does; nil: the runner does it
}

// ErrPerson says that the next step is a person's: it stands in the journal,
// and whoever keeps the journal ends it once it is done.
var ErrPerson = errors.New("waits for a person")

// Outcome is what became of a step.
type Outcome struct {
	OK       bool
	Exit     int
	Output   string // what people may see of it
	Capture  string // the name under which Captured is kept
	Captured []byte
	Why      string // of a failure
}

// StepError says which step failed, why, and what to do about it.
type StepError struct {
	Section procedure.Section
	Step    string
	Why     string
	Remedy  string
	Repeat  bool // the step may be done again
	Cause   error
}

func (e *StepError) Error() string {
	text := fmt.Sprintf("%s, step “%s”: %s", e.Section, e.Step, e.Why)
	if e.Remedy != "" {
		text += ". What to do: " + e.Remedy
	}
	return text
}

func (e *StepError) Unwrap() error { return e.Cause }

// Unknown says that nobody knows whether the step was done, and that it may not
// be repeated: the connection was lost or the time ran out in its middle.
func (e *StepError) Unknown() bool {
	return !e.Repeat && (errors.Is(e.Cause, ErrLost) || errors.Is(e.Cause, ErrTimeLimit))
}

// Own is the service's own certificate, on which the verb service works. An act
// may be done twice without harm.
type Own interface {
	Act(ctx context.Context, act string, content []byte) (out []byte, err error)
}

// errNotOwn says that a procedure for the service itself was given to another device.
var errNotOwn = errors.New("this procedure is for Fresh Seal's own certificate, and the device is another")

// Runner carries out the steps of procedures on one device.
type Runner struct {
	Dial    Dial
	Target  Target
	Journal Journal
	Own     Own             // the service's own certificate; nil: this device is another
	Hard    context.Context // ends even a step that is under way; nil: nothing does but its limit

	link *Link
}

// steps is the context of a single step: a stop lets it come to its end.
func (r *Runner) steps(ctx context.Context) context.Context {
	if r.Hard != nil {
		return r.Hard
	}
	return context.WithoutCancel(ctx)
}

// Close ends the connection to the device, if there is one.
func (r *Runner) Close() {
	if r.link != nil {
		r.link.Close()
		r.link = nil
	}
}

// Carry carries out a section's steps one after the other and returns the
// scope with what they captured. The first that fails ends it with a
// StepError. A step that may be repeated is tried a second time when the
// connection was lost in its middle.
func (r *Runner) Carry(ctx context.Context, p procedure.Procedure, section procedure.Section, scope procedure.Scope) (procedure.Scope, error) {
	for _, step := range p.Expand(section, scope) {
		if captured, done := r.Journal.Done(section, step.Name); done {
			scope = withCapture(scope, step, captured)
			continue
		}
		if err := ctx.Err(); err != nil {
			return scope, err // between two steps is where a stop takes hold
		}
		ready, err := procedure.ExpandStep(section, step, scope)
		if err != nil {
			return scope, &StepError{section, step.Name, err.Error(), "correct the device's settings", step.Repeat, err}
		}
		if step.Verb == procedure.Hand {
			return scope, r.hand(ctx, ready)
		}
		out, err := r.journalled(ctx, ready)
		if errors.Is(err, ErrLost) && step.Repeat && ctx.Err() == nil {
			out, err = r.journalled(ctx, ready)
		}
		if err != nil {
			return scope, err
		}
		scope = withCapture(scope, step, out)
	}
	return scope, nil
}

// hand leaves a step to a person.
func (r *Runner) hand(ctx context.Context, ready procedure.Ready) error {
	if _, err := r.Journal.Begin(ctx, Entry{ready.Section, ready.Step.Name, ready.Step.Verb, ready.Text, ready.Step.Repeat, &ready}); err != nil {
		return fmt.Errorf("writing the journal before the step: %w", err)
	}
	return ErrPerson
}

func withCapture(scope procedure.Scope, step procedure.Step, out []byte) procedure.Scope {
	if step.Capture == "" {
		return scope
	}
	return scope.With(step.Capture, procedure.ContentValue(out))
}

// journalled does one step between its two entries in the journal.
func (r *Runner) journalled(ctx context.Context, ready procedure.Ready) ([]byte, error) {
	step := ready.Step
	id, err := r.Journal.Begin(ctx, Entry{ready.Section, step.Name, step.Verb, journalText(ready), step.Repeat, nil})
	if err != nil {
		return nil, fmt.Errorf("writing the journal before the step: %w", err)
	}
	out, exit, stepErr := r.do(r.steps(ctx), ready)
	o := Outcome{OK: stepErr == nil, Exit: exit, Output: visible(step, out)}
	if stepErr != nil {
		o.Why = stepErr.Error()
	} else if step.Capture != "" {
		o.Capture, o.Captured = step.Capture, out
	}
	// The outcome is written even when the service is being stopped.
	if err := r.Journal.End(context.WithoutCancel(ctx), id, o); err != nil {
		return nil, fmt.Errorf("writing the journal after the step: %w", err)
	}
	if stepErr == nil {
		return out, nil
	}
	if errors.Is(stepErr, ErrLost) || errors.Is(stepErr, ErrTimeLimit) {
		r.Close()
	}
	return nil, &StepError{ready.Section, step.Name, stepErr.Error(), remedy(step, stepErr), step.Repeat, stepErr}
}

func journalText(ready procedure.Ready) string {
	if ready.Step.Verb == procedure.Put {
		return fmt.Sprintf("%s (%d bytes, mode %s)", ready.Text, len(ready.Content), procedure.ModeText(ready.Step.Mode))
	}
	return ready.Text
}

func remedy(step procedure.Step, err error) string {
	var changed HostKeyChanged
	switch {
	case errors.As(err, &changed):
		return "find out why: a new device, a new installation, or somebody in between. If the new key is right: freshseal device edit DEVICE --host-key KEY"
	case errors.Is(err, ErrSignIn):
		return "correct the device's user, password or key"
	case errors.Is(err, ErrTimeLimit):
		return "see whether the device hangs; if it is only slow, give the step a larger limit"
	}
	return step.Otherwise
}

func (r *Runner) do(ctx context.Context, ready procedure.Ready) (out []byte, exit int, err error) {
	step := ready.Step
	limited, cancel := context.WithTimeout(ctx, step.Limit)
	defer cancel()
	if step.Verb == procedure.Wait {
		select {
		case <-time.After(step.Pause):
		case <-ctx.Done():
			err = ctx.Err()
		}
		return nil, 0, err
	}
	if step.Verb == procedure.Own {
		if r.Own == nil {
			return nil, 0, errNotOwn
		}
		out, err = r.Own.Act(ctx, ready.Text, ready.Content)
		return out, 0, err
	}
	if r.link == nil {
		if r.link, err = Open(ctx, r.Dial, r.Target); err != nil {
			return nil, 0, err
		}
	}
	switch step.Verb {
	case procedure.Put:
		return nil, 0, r.link.Put(limited, ready.Text, step.Mode, ready.Content)
	case procedure.Fetch:
		out, err = r.link.Fetch(limited, ready.Text)
		return out, 0, err
	}
	printed, err := r.link.Run(limited, ready.Text)
	if err != nil {
		return nil, printed.Exit, err
	}
	return printed.Stdout, printed.Exit, judge(ready, printed)
}

// judge compares what a command left with what the step expects.
func judge(ready procedure.Ready, out Output) error {
	expect := ready.Step.Expect
	switch {
	case out.Exit != expect.Exit:
		said := strings.TrimSpace(string(out.Stderr))
		if said == "" {
			said = strings.TrimSpace(string(out.Stdout))
		}
		if ready.Step.Secret {
			said = "its output is secret"
		}
		return fmt.Errorf("exit code %d instead of %d: %s", out.Exit, expect.Exit, lastLines(scrub(said), 5))
	case expect.Match != nil && !expect.Match.Match(out.Stdout):
		return fmt.Errorf("its output does not match %s", expect.Match)
	case expect.Same != "" && strings.TrimSpace(string(out.Stdout)) != strings.TrimSpace(ready.Same):
		return errors.New("its output is not what it must be")
	}
	return nil
}

// visible is what of an output may be journalled.
func visible(step procedure.Step, out []byte) string {
	const most = 8 << 10
	if step.Secret || len(out) == 0 {
		return ""
	}
	text := scrub(strings.ToValidUTF8(string(out), "�"))
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return text
}

var privateKey = regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`)

// scrub takes private keys out of a text, whatever command printed them.
func scrub(text string) string {
	return privateKey.ReplaceAllString(text, "[a private key stood here]")
}

func lastLines(text string, n int) string {
	lines := strings.Split(text, "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "; ")
}
