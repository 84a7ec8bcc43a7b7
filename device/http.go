package device

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/answer"
	"freshseal/core/language/extract"
	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/https"
	"freshseal/device/links"
)

var _ = carries("http", call)

// Pauses between calls that are made again.
const (
	callAgain   = time.Second
	mostCalls   = 3
	untilAnswer = 20 * time.Second // for one call of a wait
)

// call makes a call, or makes it again and again until the answer is what is waited for.
func call(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, error) {
	act := ready.Act.(*verb.HTTPAct)
	if r.session == nil {
		return Result{}, errNotSignedIn
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	if act.Until != nil {
		return callUntil(limited, r, act, id, hides(ready.Step))
	}
	safe := ready.Step.Again() || ready.Section == procedure.Session
	var result Result
	var err error
	for n := 1; ; n++ {
		result, err = callOnce(limited, r, act, ready.Section)
		if !safe || n == mostCalls || act.Drop && errors.Is(err, links.ErrLost) || !transient(result, err) ||
			sleep(limited, callAgain) != nil {
			break
		}
	}
	if ready.Section == procedure.SignOut && (err != nil || act.Judge(*result.Answered) != nil) {
		return Result{Shown: "not signed out: the device restarts, or has ended the session already"}, nil
	}
	if act.Drop && errors.Is(err, links.ErrLost) && limited.Err() == nil {
		return Result{Shown: "the connection ended before the answer, as expected"}, nil
	}
	if err == nil {
		err = judged(act, ready.Step, *result.Answered, r.hidden)
	}
	return result, err
}

// judged returns what is wrong with an answer, and what it says itself where that may be shown.
func judged(act *verb.HTTPAct, step procedure.Step, got answer.Response, secrets []string) error {
	err := act.Judge(got)
	switch {
	case err == nil:
		return nil
	case step.Secret:
		err = errSecret
	case !hides(step) || isPage(got):
		err = fmt.Errorf("%w; it says: %s", err, said(got, secrets))
	}
	if got.Status >= 500 {
		return &unwell{err}
	}
	return err
}

// hides reports whether an answer may hold a secret that nobody knows yet.
func hides(step procedure.Step) bool {
	return step.Secret || slices.ContainsFunc(step.Capture, func(c procedure.Capture) bool { return c.Secret })
}

// errSecret means that an answer is wrong, and that what it says may not be shown.
var errSecret = errors.New("the answer is not what the step expects; it is secret")

func isPage(got answer.Response) bool {
	return strings.Contains(got.Header.Get("Content-Type"), "html")
}

// said returns what an answer says to people, in a line: of a page what is seen, without what its
// forms hide.
func said(got answer.Response, secrets []string) string {
	text := string(got.Body)
	if isPage(got) {
		if seen, err := extract.CSS(got.Body, "body", ""); err == nil {
			text = seen
		}
	}
	if text = strings.Join(strings.Fields(masked(text, secrets)), " "); text == "" {
		return "nothing"
	}
	return lastLines(text, secrets, 1)
}

// transient reports whether the same call may well succeed in a moment.
func transient(result Result, err error) bool {
	var changed https.PinChanged
	switch {
	case errors.As(err, &changed), errors.Is(err, errNotSignedIn), errors.Is(err, links.ErrFlood), https.Final(err):
		return false
	case err != nil:
		return true
	}
	return result.Answered.Status >= 500
}

// callOnce makes a call and shows what came back.
func callOnce(ctx context.Context, r *Runner, act *verb.HTTPAct, section procedure.Section) (Result, error) {
	came, err := r.session.link.Do(ctx, https.Call{Method: act.Method, Path: act.Path, Header: act.Header,
		Body: act.Body, Stay: act.Want.LeadsTo != nil})
	if err != nil {
		return Result{}, err
	}
	got := answer.Response{Status: came.Status, Header: came.Header, Body: came.Body, LeadsTo: came.LeadsTo}
	result := Result{Stdout: came.Body, Answered: &got, Shown: shownAnswer(got)}
	if section != procedure.Session && section != procedure.SignOut &&
		len(r.Procedure.Steps[procedure.Session]) > 0 && r.Procedure.Lost.Met(got) == nil {
		return result, errNotSignedIn
	}
	return result, nil
}

// mostShown is how much of an answer is in the journal, in bytes.
const mostShown = 2 << 10

func shownAnswer(got answer.Response) string {
	text := fmt.Sprintf("status %d", got.Status)
	if got.LeadsTo != "" {
		text += ", leads to " + got.LeadsTo
	}
	body := strings.ToValidUTF8(string(got.Body), "�")
	if kind := got.Header.Get("Content-Type"); strings.HasPrefix(kind, "application/octet") ||
		strings.ContainsRune(body, 0) {
		return text + fmt.Sprintf("\n[%d bytes]", len(got.Body))
	}
	if len(body) > mostShown {
		body = strings.ToValidUTF8(body[:mostShown], "") + " …"
	}
	return strings.TrimSpace(text + "\n" + body)
}

// callUntil asks again and again; that the device cannot be reached meanwhile, or answers with
// an error of its own, is no reason to stop.
func callUntil(ctx context.Context, r *Runner, act *verb.HTTPAct, id int64, secret bool) (Result, error) {
	last := "none"
	for {
		one, cancel := context.WithTimeout(ctx, untilAnswer)
		result, err := callOnce(one, r, act, procedure.Survey)
		cancel()
		var changed https.PinChanged
		switch {
		case errors.As(err, &changed), errors.Is(err, errNotSignedIn), errors.Is(err, links.ErrFlood), https.Final(err):
			return result, err
		case err != nil:
			last = err.Error()
		default:
			last = show(result.Shown, r.hidden)
			if secret {
				last = fmt.Sprintf("status %d; its answer is secret", result.Answered.Status)
			}
			if id != 0 {
				r.Journal.Show(ctx, id, last, act.Done(*result.Answered))
			}
			if act.Until.Met(*result.Answered) == nil {
				return result, act.Want.Met(*result.Answered)
			}
			if act.Fails != nil && act.Fails.Met(*result.Answered) == nil {
				return result, fmt.Errorf("the device says that it failed: %s", lastLines(last, r.hidden, 5))
			}
		}
		if sleep(ctx, act.Every) != nil {
			if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return result, fmt.Errorf("%w: the service is being stopped", links.ErrLost)
			}
			return Result{Shown: last}, fmt.Errorf("the condition was not met in time: %s; the last answer: %s",
				act.Until.Text(), lastLines(last, r.hidden, 5))
		}
	}
}
