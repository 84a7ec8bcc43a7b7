package device

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/language/extract"
	"freshseal/core/language/procedure"
	"freshseal/device/https"
	"freshseal/device/links"
)

var _ = carries("http", call)

// session is a device's web interface that was signed in to.
type session struct {
	link   *https.Link
	values map[string]procedure.Value // that signing in captured
	scope  *procedure.Scope
	over   bool // it is being signed out of
	unused bool // what signing in captured freshly was used by no call yet
}

// errNotSignedIn says that the device answered as it does to who is not signed in. It did
// nothing of what it was asked.
var errNotSignedIn = errors.New("the device no longer knows the session")

// entered signs in where a step needs the web interface, and adds to the scope what that
// captured.
func (r *Runner) entered(ctx context.Context, step procedure.Step, scope *procedure.Scope) (*procedure.Scope, error) {
	scope, err := r.renewed(ctx, step, scope)
	if err != nil {
		return scope, err
	}
	if step.Do.Link() != procedure.HTTPS {
		return scope, nil
	}
	for began := time.Now(); r.session == nil; {
		err := r.signIn(ctx, scope)
		switch {
		case err == nil:
		case !away(err) || !r.disturbed() || ctx.Err() != nil || time.Since(began) > r.Procedure.Traits.RestartLimit:
			return scope, err
		case sleep(ctx, callAgain) != nil:
			return scope, err
		}
	}
	if err := r.freshen(ctx, step, scope); err != nil {
		return scope, err
	}
	return scope.WithAll(r.session.values), nil
}

// freshen asks again for what counts for one call alone, such as the token of a form, before a call that changes
// something.
func (r *Runner) freshen(ctx context.Context, step procedure.Step, scope *procedure.Scope) error {
	if step.Do.Changes() == procedure.Looks {
		return nil
	}
	if r.session.unused {
		r.session.unused = false
		return nil
	}
	for _, each := range r.Procedure.Steps[procedure.Session] {
		inside := scope.WithAll(r.session.values)
		if !each.Fresh || !each.Holds(inside) {
			continue
		}
		ready, err := each.Expand(procedure.Session, "", inside)
		if err != nil {
			return unexpanded(procedure.Session, each.Name, err)
		}
		captured, err := r.journalled(ctx, ready, inside)
		if err != nil {
			return err
		}
		for name, v := range captured {
			r.session.values[name] = v
		}
	}
	return nil
}

// renewed captures anew what a step names and what a restart makes wrong, such as a process id, unless that was done
// in this stretch of work.
func (r *Runner) renewed(ctx context.Context, step procedure.Step, scope *procedure.Scope) (*procedure.Scope, error) {
	for _, name := range step.Names() {
		from, passing := r.Procedure.Passing(name)
		if !passing || !from.Holds(scope) {
			continue
		}
		if r.passing[name].Known {
			scope = scope.With(name, r.passing[name])
			continue
		}
		within, err := r.entered(ctx, from, scope)
		if err != nil {
			return scope, err
		}
		ready, err := from.Expand(procedure.Survey, "", within)
		if err != nil {
			return scope, unexpanded(procedure.Survey, from.Name, err)
		}
		captured, err := r.anew(ctx, ready, within)
		if err != nil {
			return scope, err
		}
		scope = scope.WithAll(captured)
		if r.passing == nil {
			r.passing = map[string]procedure.Value{}
		}
		for each, v := range captured {
			r.passing[each] = v
		}
	}
	return scope, nil
}

// away reports whether a device did not answer at all, or with an error of its own, as it does while it restarts.
func away(err error) bool {
	var changed https.PinChanged
	return !errors.As(err, &changed) && (errors.Is(err, links.ErrLost) || errors.Is(err, https.ErrNotReached) ||
		errors.As(err, new(*unwell)))
}

// unwell is an answer with a status of 500 and above.
type unwell struct{ cause error }

func (e *unwell) Error() string { return e.cause.Error() }
func (e *unwell) Unwrap() error { return e.cause }

// disturbed reports whether this replacement did something after which the device may be restarting.
func (r *Runner) disturbed() bool {
	for _, section := range []procedure.Section{procedure.Install, procedure.Activate, procedure.Mirror} {
		for _, step := range r.Procedure.Steps[section] {
			if r.Journal.Fate(section, step.Name).Begun {
				return true
			}
		}
	}
	return false
}

func (r *Runner) signIn(ctx context.Context, scope *procedure.Scope) error {
	if r.Web == nil {
		return errors.New("the device has no access over https")
	}
	target, err := r.Web(ctx)
	if err != nil {
		return err
	}
	link, err := https.New(r.Dial, target)
	if err != nil {
		return err
	}
	r.session = &session{link: link, values: map[string]procedure.Value{}}
	for _, step := range r.Procedure.Steps[procedure.Session] {
		inside := scope.WithAll(r.session.values)
		if !step.Holds(inside) {
			continue
		}
		ready, err := step.Expand(procedure.Session, "", inside)
		if err != nil {
			r.signOut()
			return unexpanded(procedure.Session, step.Name, err)
		}
		captured, err := r.journalled(ctx, ready, inside)
		if err != nil {
			if r.session != nil && !step.Do.Safe() && !errors.Is(err, links.ErrLost) { // it may have let us in
				r.session.scope = inside
			}
			r.signOut()
			return err
		}
		for name, v := range captured {
			r.session.values[name] = v
		}
	}
	r.session.scope, r.session.unused = scope.WithAll(r.session.values), true
	return nil
}

// signOutLimit is how long signing out may take, all in all.
const signOutLimit = 20 * time.Second

// signOut signs out of the web interface. That it fails is told in the journal and has no
// consequence.
func (r *Runner) signOut() {
	s := r.session
	if s == nil || s.over {
		return
	}
	s.over = true
	defer func() { r.session = nil }()
	if s.scope == nil { // signing in did not come to its end
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), signOutLimit)
	defer cancel()
	for _, step := range r.Procedure.Steps[procedure.SignOut] {
		if r.freshen(ctx, step, s.scope) != nil {
			return
		}
		s.scope = s.scope.WithAll(s.values)
		ready, err := step.Expand(procedure.SignOut, "", s.scope)
		if err != nil || !step.Holds(s.scope) {
			continue
		}
		if _, err := r.journalled(ctx, ready, s.scope); err != nil {
			return
		}
	}
}

// signedInAgain signs in once more and brings a step into its final form anew.
func (r *Runner) signedInAgain(ctx context.Context, ready procedure.Ready,
	scope *procedure.Scope) (procedure.Ready, *procedure.Scope, error) {
	r.signOut() // it may be only its token that is too old
	scope, err := r.entered(ctx, ready.Step, scope)
	if err != nil {
		return ready, scope, err
	}
	anew, err := ready.Anew(scope)
	return anew, scope, err
}

// Pauses between calls that are made again.
const (
	callAgain   = time.Second
	mostCalls   = 3
	untilAnswer = 20 * time.Second // for one call of a wait
)

// call makes a call, or makes it again and again until the answer is what is waited for.
func call(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (_ Result, err error) {
	act := ready.Act.(*procedure.HTTPAct)
	if r.session == nil {
		return Result{}, errNotSignedIn
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	if act.Until != nil {
		return r.until(limited, act, id, hides(ready.Step))
	}
	safe := ready.Step.Again() || ready.Section == procedure.Session
	var result Result
	for n := 1; ; n++ {
		result, err = r.once(limited, act, ready.Section)
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
		err = act.Judge(*result.Answered)
		sick := err != nil && result.Answered.Status >= 500
		defer func() {
			if sick {
				err = &unwell{err}
			}
		}()
		switch {
		case err != nil && ready.Step.Secret:
			err = errSecret
		case err != nil && (!hides(ready.Step) || isPage(*result.Answered)):
			err = fmt.Errorf("%w; it says: %s", err, said(*result.Answered))
		}
	}
	return result, err
}

// hides says that an answer may hold a secret that nobody knows yet.
func hides(step procedure.Step) bool {
	return step.Secret || slices.ContainsFunc(step.Capture, func(c procedure.Capture) bool { return c.Secret })
}

// errSecret says that an answer is wrong, and that what it says may not be shown.
var errSecret = errors.New("the answer is not what the step expects; it is secret")

func isPage(got procedure.Response) bool {
	return strings.Contains(got.Header.Get("Content-Type"), "html")
}

// said is what an answer says to people, in a line: of a page what is seen, without what its
// forms hide.
func said(got procedure.Response) string {
	text := string(got.Body)
	if isPage(got) {
		if seen, err := extract.CSS(got.Body, "body", ""); err == nil {
			text = seen
		}
	}
	if text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "�")), " "); text == "" {
		return "nothing"
	}
	return lastLines(text, 1)
}

// transient says that the same call may well succeed in a moment.
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

// once makes a call and shows what came back.
func (r *Runner) once(ctx context.Context, act *procedure.HTTPAct, section procedure.Section) (Result, error) {
	answer, err := r.session.link.Do(ctx, https.Call{Method: act.Method, Path: act.Path, Header: act.Header,
		Body: act.Body, Stay: act.Want.LeadsTo != nil})
	if err != nil {
		return Result{}, err
	}
	got := procedure.Response{Status: answer.Status, Header: answer.Header, Body: answer.Body, LeadsTo: answer.LeadsTo}
	result := Result{Stdout: answer.Body, Answered: &got, Shown: shownAnswer(got)}
	if section != procedure.Session && section != procedure.SignOut &&
		len(r.Procedure.Steps[procedure.Session]) > 0 && r.Procedure.Lost.Met(got) == nil {
		return result, errNotSignedIn
	}
	return result, nil
}

// mostShown is how much of an answer stands in the journal, in bytes.
const mostShown = 2 << 10

func shownAnswer(got procedure.Response) string {
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

// until asks again and again; that the device cannot be reached meanwhile, or answers with
// an error of its own, is no reason to stop.
func (r *Runner) until(ctx context.Context, act *procedure.HTTPAct, id int64, secret bool) (Result, error) {
	last := "none"
	for {
		one, cancel := context.WithTimeout(ctx, untilAnswer)
		result, err := r.once(one, act, procedure.Survey)
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
				return result, fmt.Errorf("the device says that it failed: %s", lastLines(last, 5))
			}
		}
		if sleep(ctx, act.Every) != nil {
			if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return result, fmt.Errorf("%w: the service is being stopped", links.ErrLost)
			}
			return Result{Shown: last}, fmt.Errorf("the condition was not met in time: %s; the last answer: %s",
				act.Until.Text(), lastLines(last, 5))
		}
	}
}
