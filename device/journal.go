package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/device/links"
	"freshseal/device/ssh"
)

// Journal is reported every step before it is done and after, and remembers what
// was done before.
type Journal interface {
	// Done gives what a step captured that need not be done again: it was done in
	// this very action, with the same final text.
	Done(section procedure.Section, name, text string) (captured map[string]value.Value, done bool)
	// Fate returns what is known of a step, over the whole replacement.
	Fate(section procedure.Section, name string) Fate
	Begin(ctx context.Context, e Entry) (id int64, err error)
	End(ctx context.Context, id int64, o Outcome) error
	// Show tells what stands on the screen of a dialog that is under way, and how much
	// it says is done, in percent; 0 where it says nothing.
	Show(ctx context.Context, id int64, screen string, percent int)
}

// Fate is what the journal knows of a step.
type Fate struct {
	Begun   bool
	Done    bool      // it came to a good end at some time
	Refused bool      // its last end that was seen is a refusal: the device changed nothing
	Ended   time.Time // when its last end was seen
	Until   time.Time // until when an end that nobody saw may still come; zero: all were seen

	Limit time.Duration // of the step whose end nobody saw: Until is not waited for longer, whatever the clock says

	Last, LastDone int64 // the numbers of its last entry, and of the last that came to a good end
}

// switched returns when the device last changed by the step, as far as is known.
func (f Fate) switched() time.Time {
	if f.Until.After(f.Ended) {
		return f.Until
	}
	return f.Ended
}

// JournalError means that the journal could not be written: nothing more is done.
type JournalError struct{ Cause error }

func (e *JournalError) Error() string { return "writing the journal: " + e.Cause.Error() }
func (e *JournalError) Unwrap() error { return e.Cause }

// Entry is a step that is about to be done. Its text shows no secret.
type Entry struct {
	Section procedure.Section
	Name    string
	Verb    string
	Text    string
	Limit   time.Duration
	Repeat  bool             // may be done again when its outcome is unknown
	Hand    *procedure.Ready // a step that a person does; nil: the runner does it
}

// ErrPerson means that the next step is a person's: it is in the journal,
// and whoever keeps the journal ends it once it is done.
var ErrPerson = errors.New("waits for a person")

// Outcome is what became of a step.
type Outcome struct {
	OK       bool
	Unknown  bool // nobody saw its end
	Refused  bool // the device says that it changed nothing
	Exit     int
	Output   string // what people may see of it
	Captured map[string]value.Value
	Why      string // of a failure
}

// StepError says which step failed, why, and what to do about it.
type StepError struct {
	Section procedure.Section
	Step    string
	Why     string
	Remedy  string
	Repeat  bool // the step may be done again
	Refused bool // the device says that it changed nothing
	Runs    bool // its command may still be running on the device
	Cause   error
}

func (e *StepError) Error() string {
	text := fmt.Sprintf("%s, step “%s”: %s", e.Section, e.Step, e.Why)
	if e.Runs {
		text += ". Its command may still be running on the device"
	}
	if e.Remedy != "" {
		text += ". What to do: " + e.Remedy
	}
	return text
}

func (e *StepError) Unwrap() error { return e.Cause }

// Unknown reports whether a person must look: the step's command may still be running,
// or nobody saw the end of a step that may not be repeated. One whose time ran out
// and that was ended for certain has failed: what it did is undone.
func (e *StepError) Unknown() bool {
	if errors.As(e.Cause, new(*notBegun)) {
		return false
	}
	return e.Runs || !e.Repeat && lost(e.Cause) && !errors.Is(e.Cause, links.ErrTimeLimit)
}

// notBegun means that the line broke before anything of the step was begun.
type notBegun struct{ cause error }

func (e *notBegun) Error() string { return "nothing was begun: " + e.cause.Error() }
func (e *notBegun) Unwrap() error { return e.cause }

// readied is the error of what is done before a step is begun.
func readied(err error) error {
	if err == nil {
		return nil
	}
	return &notBegun{err}
}

func lost(err error) bool {
	return errors.Is(err, links.ErrLost) || errors.Is(err, links.ErrTimeLimit) || errors.Is(err, links.ErrFlood)
}

// NotReached is what helps if nothing was sent to a device.
const NotReached = "see that the device is on and can be reached at its address and port, then try again"

func remedy(step procedure.Step, err error) string {
	var changed ssh.HostKeyChanged
	switch {
	case errors.As(err, &changed):
		return "find out why: a new device, a new installation, or somebody in between. If the new key is right, " +
			"change the host key of the device"
	case errors.Is(err, links.ErrSignIn):
		return "correct the device's user, password or key"
	case errors.Is(err, links.ErrTimeLimit):
		return "see whether the device hangs; if it is only slow, give the step a larger limit"
	case errors.As(err, new(*notBegun)) && (errors.As(err, new(*net.OpError)) || errors.Is(err, links.ErrLost)):
		return NotReached
	}
	return step.Otherwise
}

// spellings returns a secret as it is, and as a page, JSON or a form writes it: a device may
// send back what it was sent.
func spellings(secret string) []string {
	out := []string{secret, html.EscapeString(secret), url.QueryEscape(secret), url.PathEscape(secret)}
	for _, escape := range []bool{true, false} {
		var text strings.Builder
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(escape)
		if e.Encode(secret) == nil {
			out = append(out, strings.Trim(text.String(), "\"\n"))
		}
	}
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}

// Shown returns what of a device's text may be shown, on one line of at most 200 bytes: no secret of the scope and no
// private key.
func Shown(text string, scope *procedure.Scope) string {
	const most = 200
	text = strings.Join(strings.Fields(show(text, scope.Secrets())), " ")
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return strconv.Quote(text)
}

// masked returns a text without secrets and private keys. It comes before every cut: half of a secret is none that can
// be found.
func masked(text string, secrets []string) string {
	text = scrub(strings.ToValidUTF8(text, "�"))
	for _, secret := range secrets {
		for _, written := range spellings(secret) {
			text = strings.ReplaceAll(text, written, "••••••")
		}
	}
	return text
}

// show returns what of a text may be journalled: no secret, no private key, and not
// more than people read.
func show(text string, secrets []string) string {
	const most = 8 << 10
	if text = masked(text, secrets); len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return text
}
