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
	"regexp"
	"strings"
	"time"

	"freshseal/core/language/dialog"
	"freshseal/core/language/procedure"
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
	hidden   []string                   // what the screen of the step under way must not show
	worked   bool                       // the work folder is there
	entering bool                       // a visit is being entered or left
	passing  map[string]procedure.Value // captured in this stretch of work, by steps whose values a restart makes wrong
	undone   bool                       // something was undone on this way back
	at       map[string]*Runner         // of the helpers
	session  *session                   // of its web interface
	config   *config                    // its session by NETCONF
}

// Result is what a verb gives.
type Result struct {
	Exit   int
	Stdout []byte
	Stderr []byte
	Shown  string // instead of Stdout, where that is not what people want to see

	Answered *procedure.Response // of a call
}

// doers are the verbs' parts of the runner; each verb's file adds its own. id is
// the step's entry in the journal.
var doers = map[string]func(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, error){}

// Carries says that the runner knows a verb.
func Carries(word string) bool { return doers[word] != nil || word == "person" }

func carries(word string, do func(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result,
	error)) bool {
	doers[word] = do
	return true
}

// steps is the context of a single step: a stop lets it come to its end.
func (r *Runner) steps(ctx context.Context) context.Context {
	if r.Hard != nil {
		return r.Hard
	}
	return context.WithoutCancel(ctx)
}

// Close signs out of the device's web interface and ends the connection to it, if there
// are any.
func (r *Runner) Close() {
	r.signOut()
	r.endConfig()
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

// files are the device's files for a path: with more rights outside the work folder.
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
			within, err := r.entered(ctx, step, scope)
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

// now is the time by the clock of the journal.
func (r *Runner) now() time.Time {
	if r.Now == nil {
		return time.Now()
	}
	return r.Now()
}

// ErrStopped says that a person asked to stop, and that the section was left between two steps.
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
	scope *procedure.Scope) (map[string]procedure.Value, bool) {
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
	scope *procedure.Scope) (map[string]procedure.Value, error) {
	if captured, done := r.Journal.Done(ready.Section, ready.Name(), r.text(ready, scope)); done {
		return captured, nil
	}
	return r.anew(ctx, ready, scope)
}

// anew carries out one step, whatever was done before.
func (r *Runner) anew(ctx context.Context, ready procedure.Ready,
	scope *procedure.Scope) (map[string]procedure.Value, error) {
	if err := ctx.Err(); err != nil {
		return nil, err // between two steps is where a stop takes hold
	}
	if err := r.encloseStep(ctx, ready, scope); err != nil {
		return nil, err
	}
	if _, hand := ready.Act.(*procedure.HandAct); hand {
		return nil, r.hand(ctx, ready)
	}
	captured, err := r.journalled(ctx, ready, scope)
	if errors.Is(err, errNotSignedIn) && ctx.Err() == nil { // it was refused, so it was not done
		if ready, scope, err = r.signedInAgain(ctx, ready, scope); err != nil {
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

// repeatable says that a step may be done again when nobody saw its end. What survey
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

func (r *Runner) text(ready procedure.Ready, scope *procedure.Scope) string {
	return show(ready.Line(), scope.Secrets())
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
	scope *procedure.Scope) (map[string]procedure.Value, error) {
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
	at, err := r.on(ready.Step.On)
	if err != nil {
		return Result{}, err
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit+endGrace)
	defer cancel()
	return do(limited, at, ready, id)
}

// ended judges what became of a step and writes it into the journal.
func (r *Runner) ended(ctx context.Context, id int64, ready procedure.Ready, scope *procedure.Scope, result Result,
	stepErr error) (map[string]procedure.Value, error) {
	step, secrets := ready.Step, scope.Secrets()
	var captured map[string]procedure.Value
	refused := whole(stepErr, result) && step.Refused.Of(result.Exit, string(result.Stdout), string(result.Stderr),
		result.Answered)
	if stepErr == nil {
		stepErr = judge(ready, result, secrets)
	}
	if refused && stepErr == nil {
		stepErr = errors.New("the device refuses it, and says that it changed nothing")
	}
	if told := (*dialog.Refused)(nil); errors.As(stepErr, &told) {
		refused = told.Nothing
	}
	if stepErr == nil {
		if captured, stepErr = step.Captured(result.Stdout, result.Stderr, result.Answered); stepErr != nil &&
			result.Shown != "" {
			result.Shown = r.unveiled(string(result.Stdout)) // what was looked for may have left the screen
		}
	}
	failure := &StepError{Section: ready.Section, Step: ready.Name(), Repeat: repeatable(ready), Refused: refused,
		Cause: stepErr}
	var stillRuns *mayRun
	failure.Runs = errors.As(stepErr, &stillRuns)
	for _, v := range captured {
		if v.Secret {
			secrets = append(secrets, v.Text)
		}
	}
	shown := result.Shown
	if shown == "" {
		shown = string(result.Stdout)
	}
	switch {
	case step.Secret:
		shown = ""
	case stepErr != nil && result.Answered != nil && hides(step): // what was to be captured is in it
		shown = fmt.Sprintf("status %d; the answer is secret", result.Answered.Status)
	}
	o := Outcome{OK: stepErr == nil, Refused: refused, Exit: result.Exit, Output: show(shown, secrets),
		Captured: captured}
	if stepErr != nil {
		o.Why, o.Unknown = show(stepErr.Error(), secrets), lost(stepErr) && !errors.As(stepErr, new(*notBegun))
		failure.Why, failure.Remedy = o.Why, remedy(step, stepErr)
	}
	// The outcome is written even when the service is being stopped.
	if err := r.Journal.End(context.WithoutCancel(ctx), id, o); err != nil {
		return nil, &JournalError{err}
	}
	if stepErr == nil {
		return captured, nil
	}
	if lost(stepErr) {
		r.Close()
	}
	return nil, failure
}

// whole reports whether what a device answered is complete, so that it may be taken for a refusal.
func whole(err error, result Result) bool {
	return err == nil || result.Answered != nil && !lost(err)
}

// judge compares what a step left with what it expects, and shows the output
// where that is not it.
func judge(ready procedure.Ready, result Result, secrets []string) error {
	if !ready.Step.Do.Expects() {
		return nil
	}
	err := ready.Step.Expect.Met(result.Exit, string(result.Stdout), string(result.Stderr), ready.Same)
	if err == nil {
		return nil
	}
	said := strings.TrimSpace(string(result.Stderr))
	if unmet := (*procedure.Unmet)(nil); said == "" || errors.As(err, &unmet) && !unmet.InErrors {
		said = strings.TrimSpace(string(result.Stdout))
	}
	switch {
	case ready.Step.Secret:
		return fmt.Errorf("%w; its output is secret", err)
	case said == "":
		return fmt.Errorf("%w, and it printed nothing", err)
	}
	return fmt.Errorf("%w: %s", err, lastLines(show(said, secrets), 5))
}

var privateKey = regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`)

// scrub takes private keys out of a text, whatever command printed them.
func scrub(text string) string {
	return privateKey.ReplaceAllString(text, "[a private key stood here]")
}

func lastLines(text string, n int) string {
	lines := strings.Split(text, "\n")
	text = strings.Join(lines[max(0, len(lines)-n):], "; ")
	if len(text) > 600 {
		text = "… " + strings.ToValidUTF8(text[len(text)-600:], "")
	}
	return text
}

const (
	runFolder = "run"
	endGrace  = 10 * time.Second // beyond a step's limit, for the device to end the command by itself
)
