// Package device carries out procedures on devices. A folder below it is a link:
// how devices are reached over one protocol.
//
//	Runner: steps of a section → verbs (run.go, file.go, …) → link
//	          │
//	        Journal: told before each step and after
package device

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/core/language/answer"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/core/language/verb"
	"freshseal/device/https"
	"freshseal/device/links"
	"freshseal/device/ssh"
)

// Own is the service's own certificate, on which the verb service works. An act
// may be done twice without harm.
type Own interface {
	Act(ctx context.Context, act string, content []byte) (out []byte, err error)
}

// Runner carries out the steps of a procedure on one device. Links are opened
// when the first step needs them.
type Runner struct {
	Dial      links.Dial
	SSH       func(context.Context) (ssh.Target, error) // asked when the first step needs it
	Procedure procedure.Procedure
	Work      string   // the replacement's folder on the device
	As        []string // stands before file work that needs more rights
	AsWord    string   // the password that it asks for; empty: none
	Journal   Journal
	// the service's own certificate; nil: this device is another
	Own Own
	// likewise for its web interface
	Web    func(context.Context) (https.Target, error)
	Config func(context.Context) (ssh.Target, error) // likewise for NETCONF
	// devices on which some steps are done, by the setting that names them
	Helpers map[string]Helper
	// what is served, for the way back
	Sights Sights
	// reads what an address serves, as HOST:PORT
	Leaf func(ctx context.Context, address, name string) (sha256 string, err error)
	// the new certificate was seen at every address: nothing of it is on its way any more
	Proven bool
	// of the language in which the replacement began; see procedure.Read
	Edition int
	// the journal's clock; nil: the system's
	Now func() time.Time
	// reports whether a person asked to stop on the way there; nil: nobody can
	Stop func(context.Context) bool
	// ends even a step that is under way; nil: nothing does but its limit
	Hard context.Context

	link     *ssh.Link
	hidden   []string               // what the screen of the step under way must not show
	worked   bool                   // the work folder is there
	entering bool                   // a visit is being entered or left
	passing  map[string]value.Value // captured in this stretch of work, by steps whose values a restart makes wrong
	undone   bool                   // something was undone on this way back
	at       map[string]*Runner     // of the helpers
	session  *session               // of its web interface
	config   *config                // its session by NETCONF
}

// Result is what a verb gives.
type Result struct {
	Exit   int
	Stdout []byte
	Stderr []byte
	Shown  string // instead of Stdout, where that is not what people want to see

	Answered *answer.Response // of a call
}

// doers are the verbs' parts of the runner; each verb's file adds its own. id is
// the step's entry in the journal.
var doers = map[string]func(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, error){}

// Carries reports whether the runner knows a verb.
func Carries(word string) bool { return doers[word] != nil || word == "person" }

func carries(word string, do func(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result,
	error)) bool {
	doers[word] = do
	return true
}

// steps returns the context of a single step: a stop lets it come to its end.
func (r *Runner) steps(ctx context.Context) context.Context {
	if r.Hard != nil {
		return r.Hard
	}
	return context.WithoutCancel(ctx)
}

// Close signs out of the device's web interface and ends the connection to it, if there
// are any.
func (r *Runner) Close() {
	signOutWeb(r)
	endConfig(r)
	if r.link != nil {
		r.link.Close()
		r.link = nil
	}
	for _, helper := range r.at {
		helper.Close()
	}
}

// open opens the link over SSH where it is not open.
func (r *Runner) open(ctx context.Context) (*ssh.Link, error) {
	if r.link != nil {
		return r.link, nil
	}
	target, err := r.SSH(ctx)
	if err != nil {
		return nil, err
	}
	if r.link, err = ssh.Open(ctx, r.Dial, target); err != nil || r.AsWord == "" || len(r.As) == 0 {
		return r.link, err
	}
	if err = r.work(ctx); err == nil {
		err = r.link.RaiseWith(ctx, r.As, r.Work+"/"+wordFile, r.AsWord)
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	return r.link, nil
}

// wordFile is the program in the work folder that gives the password for more rights.
const wordFile = "give-word"

// files returns the device's files for a path: with more rights outside the work folder.
func (r *Runner) files(path string) ssh.Files {
	if r.inWork(path) {
		return r.link.Files(nil)
	}
	return r.link.Files(r.As)
}

// Look reads a file of the device and changes nothing.
func (r *Runner) Look(ctx context.Context, path string) ([]byte, error) {
	if _, err := r.open(ctx); err != nil {
		return nil, err
	}
	return r.files(path).Read(ctx, path)
}

func (r *Runner) inWork(path string) bool { return strings.HasPrefix(path, r.Work+"/") }

// Use gives the runner the current journal.
func (r *Runner) Use(j Journal) { r.Journal = j }

// Run runs a section's steps one after the other and returns the
// scope with what they captured. The first that fails ends it with a
// StepError. A step that may be repeated is tried a second time when the
// connection was lost in its middle.
func (r *Runner) Run(ctx context.Context, section procedure.Section, scope *procedure.Scope) (*procedure.Scope, error) {
	for _, step := range r.Procedure.Steps[section] {
		if !step.Holds(scope) {
			continue
		}
		items, err := step.Items(scope)
		if err != nil {
			return scope, &StepError{Section: section, Step: step.Name, Why: err.Error(), Cause: err}
		}
		for _, item := range items {
			if captured, done := r.wasDone(section, step, item, scope); done {
				scope = scope.WithAll(captured)
				continue
			}
			if r.stopped(ctx, section) {
				return scope, fmt.Errorf("%w before the step “%s”", ErrStopped, step.Titled(item))
			}
			within, err := enteredWeb(ctx, r, step, scope)
			if err != nil {
				return scope, err
			}
			ready, err := step.Expand(section, item, within)
			if err != nil {
				return scope, unexpanded(section, step.Titled(item), err)
			}
			captured, err := r.runReady(ctx, ready, within)
			if err != nil {
				return scope, err
			}
			scope = scope.WithAll(captured)
		}
	}
	return scope, nil
}

// now returns the time by the clock of the journal.
func (r *Runner) now() time.Time {
	if r.Now == nil {
		return time.Now()
	}
	return r.Now()
}

// ErrStopped means that a person asked to stop, and that the section was left between two steps.
var ErrStopped = errors.New("stopped")

// stopped reports whether a section is left because a person asked to stop. The way back, clearing and sealing are not.
func (r *Runner) stopped(ctx context.Context, section procedure.Section) bool {
	switch section {
	case procedure.Survey, procedure.Request, procedure.Backup, procedure.Trust, procedure.Install, procedure.Trial,
		procedure.Activate, procedure.Prove, procedure.Mirror:
		return r.Stop != nil && r.Stop(ctx)
	}
	return false
}

// wasDone says that a step need not be done again, before anything is opened for it.
func (r *Runner) wasDone(section procedure.Section, step procedure.Step, item string,
	scope *procedure.Scope) (map[string]value.Value, bool) {
	ready, err := step.Expand(section, item, scope)
	if err != nil {
		return nil, false
	}
	return r.Journal.Done(section, ready.Name(), r.text(ready, scope))
}

func unexpanded(section procedure.Section, name string, err error) error {
	why := err.Error()
	if _, rest, ok := strings.Cut(why, "”: "); ok {
		why = rest
	}
	return &StepError{Section: section, Step: name, Why: why, Repeat: true, Cause: err}
}

// runReady carries out one step, unless it was done.
func (r *Runner) runReady(ctx context.Context, ready procedure.Ready,
	scope *procedure.Scope) (map[string]value.Value, error) {
	if captured, done := r.Journal.Done(ready.Section, ready.Name(), r.text(ready, scope)); done {
		return captured, nil
	}
	return r.anew(ctx, ready, scope)
}

// again carries out one step, whatever was done before.
func (r *Runner) anew(ctx context.Context, ready procedure.Ready,
	scope *procedure.Scope) (map[string]value.Value, error) {
	if err := ctx.Err(); err != nil {
		return nil, err // between two steps is where a stop takes hold
	}
	if err := r.encloseStep(ctx, ready, scope); err != nil {
		return nil, err
	}
	if _, hand := ready.Act.(*verb.HandAct); hand {
		return nil, r.hand(ctx, ready)
	}
	captured, err := r.journalled(ctx, ready, scope)
	if errors.Is(err, errNotSignedIn) && ctx.Err() == nil { // it was refused, so it was not done
		if ready, scope, err = signedInAgain(ctx, r, ready, scope); err != nil {
			return nil, err
		}
		captured, err = r.journalled(ctx, ready, scope)
	}
	var may *mayRun
	beside := errors.As(err, &may) && may.untold // what may be repeated may also be repeated beside itself
	if errors.Is(err, links.ErrLost) && (repeatable(ready) || errors.As(err, new(*notBegun))) && ctx.Err() == nil &&
		(!runs(err) || beside) {
		captured, err = r.journalled(ctx, ready, scope)
	}
	return captured, err
}

// repeatable reports whether a step may be done again when nobody saw its end. What survey
// does only looks.
func repeatable(ready procedure.Ready) bool {
	switch ready.Section {
	case procedure.Survey, procedure.Look, procedure.Session, procedure.SignOut, procedure.Enclosure:
		return true
	}
	return ready.Step.Again()
}

func runs(err error) bool {
	var step *StepError
	return errors.As(err, &step) && step.Runs
}

// hand leaves a step to a person.
func (r *Runner) hand(ctx context.Context, ready procedure.Ready) error {
	if _, err := r.Journal.Begin(ctx, Entry{Section: ready.Section, Name: ready.Name(), Verb: ready.Step.Do.Word(),
		Text: ready.Act.Line(), Limit: ready.Step.Limit, Repeat: true, Hand: &ready}); err != nil {
		return &JournalError{err}
	}
	return ErrPerson
}

// journalled does one step between its two entries in the journal.
func (r *Runner) journalled(ctx context.Context, ready procedure.Ready,
	scope *procedure.Scope) (map[string]value.Value, error) {
	step := ready.Step
	id, err := r.Journal.Begin(ctx, Entry{Section: ready.Section, Name: ready.Name(), Verb: step.Do.Word(),
		Text: r.text(ready, scope), Limit: step.Limit, Repeat: repeatable(ready)})
	if err != nil {
		return nil, &JournalError{err}
	}
	r.hidden = scope.Secrets()
	result, stepErr := r.do(r.steps(ctx), ready, id)
	return r.ended(ctx, id, ready, scope, result, stepErr)
}

// do carries out a step within its limit, which begins before the first byte is
// sent.
func (r *Runner) do(ctx context.Context, ready procedure.Ready, id int64) (Result, error) {
	do := doers[ready.Step.Do.Word()]
	if do == nil {
		return Result{}, fmt.Errorf("the verb %s cannot be carried out here", ready.Step.Do.Word())
	}
	at, err := onHelper(r, ready.Step.On)
	if err != nil {
		return Result{}, err
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit+endGrace)
	defer cancel()
	return do(limited, at, ready, id)
}

const (
	runFolder = "run"
	endGrace  = 10 * time.Second // beyond a step's limit, for the device to end the command by itself
)
