package device

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"freshseal/core/language/dialog"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
)

func (r *Runner) text(ready procedure.Ready, scope *procedure.Scope) string {
	return show(ready.Line(), scope.Secrets())
}

// ended judges what became of a step and writes it into the journal.
func (r *Runner) ended(ctx context.Context, id int64, ready procedure.Ready, scope *procedure.Scope, result Result,
	stepErr error) (map[string]value.Value, error) {
	step, secrets := ready.Step, scope.Secrets()
	var captured map[string]value.Value
	refused, stepErr := refusal(ready, result, secrets, stepErr)
	if stepErr == nil {
		if captured, stepErr = step.Captured(result.Stdout, result.Stderr, result.Answered); stepErr != nil &&
			result.Shown != "" {
			result.Shown = unveiledScreen(r, string(result.Stdout)) // what was looked for may have left the screen
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

// refusal reports whether the device refused the step and changed nothing, and what is wrong with its outcome.
func refusal(ready procedure.Ready, result Result, secrets []string, err error) (bool, error) {
	refused := whole(err, result) && ready.Step.Refused.Of(result.Exit, string(result.Stdout), string(result.Stderr),
		result.Answered)
	if err == nil {
		err = judge(ready, result, secrets)
	}
	if refused && err == nil {
		err = errors.New("the device refuses it, and says that it changed nothing")
	}
	if told := (*dialog.Refused)(nil); errors.As(err, &told) {
		refused = told.Nothing
	}
	return refused, err
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
	return fmt.Errorf("%w: %s", err, lastLines(said, secrets, 5))
}

var privateKey = regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`)

// scrub takes private keys out of a text, whatever command printed them.
func scrub(text string) string {
	return privateKey.ReplaceAllString(text, "[a private key stood here]")
}

func lastLines(text string, secrets []string, n int) string {
	lines := strings.Split(masked(text, secrets), "\n")
	text = strings.Join(lines[max(0, len(lines)-n):], "; ")
	if len(text) > 600 {
		text = "… " + strings.ToValidUTF8(text[len(text)-600:], "")
	}
	return text
}
