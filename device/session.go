package device

import (
	"context"
	"errors"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/device/https"
	"freshseal/device/links"
)

// session is a device's web interface that was signed in to.
type session struct {
	link   *https.Link
	values map[string]value.Value // that signing in captured
	scope  *procedure.Scope
	over   bool // it is being signed out of
	unused bool // what signing in captured freshly was used by no call yet
}

// errNotSignedIn means that the device answered as it does to who is not signed in. It did
// nothing of what it was asked.
var errNotSignedIn = errors.New("the device no longer knows the session")

// enteredWeb signs in where a step needs the web interface, and adds to the scope what that
// captured.
func enteredWeb(ctx context.Context, r *Runner, step procedure.Step, scope *procedure.Scope) (*procedure.Scope, error) {
	scope, err := renewedSession(ctx, r, step, scope)
	if err != nil {
		return scope, err
	}
	if step.Do.Link() != procedure.HTTPS {
		return scope, nil
	}
	for began := time.Now(); r.session == nil; {
		err := signInWeb(ctx, r, scope)
		switch {
		case err == nil:
		case !away(err) || !disturbedSession(r) || ctx.Err() != nil ||
			time.Since(began) > r.Procedure.Traits.RestartLimit:
			return scope, err
		case sleep(ctx, callAgain) != nil:
			return scope, err
		}
	}
	if err := freshenSession(ctx, r, step, scope); err != nil {
		return scope, err
	}
	return scope.WithAll(r.session.values), nil
}

// freshenSession asks again for what counts for one call alone, such as the token of a form, before a call that changes
// something.
func freshenSession(ctx context.Context, r *Runner, step procedure.Step, scope *procedure.Scope) error {
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

// renewedSession captures again what a step names and what a restart makes wrong, such as a process id, unless that
// was done in this stretch of work.
func renewedSession(ctx context.Context, r *Runner, step procedure.Step,
	scope *procedure.Scope) (*procedure.Scope, error) {
	for _, name := range step.Names() {
		from, passing := r.Procedure.Passing(name)
		if !passing || !from.Holds(scope) {
			continue
		}
		if r.passing[name].Known {
			scope = scope.With(name, r.passing[name])
			continue
		}
		within, err := enteredWeb(ctx, r, from, scope)
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
			r.passing = map[string]value.Value{}
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

// disturbedSession reports whether this replacement did something after which the device may be restarting.
func disturbedSession(r *Runner) bool {
	for _, section := range []procedure.Section{procedure.Install, procedure.Activate, procedure.Mirror} {
		for _, step := range r.Procedure.Steps[section] {
			if r.Journal.Fate(section, step.Name).Begun {
				return true
			}
		}
	}
	return false
}

func signInWeb(ctx context.Context, r *Runner, scope *procedure.Scope) error {
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
	r.session = &session{link: link, values: map[string]value.Value{}}
	for _, step := range r.Procedure.Steps[procedure.Session] {
		inside := scope.WithAll(r.session.values)
		if !step.Holds(inside) {
			continue
		}
		ready, err := step.Expand(procedure.Session, "", inside)
		if err != nil {
			signOutWeb(r)
			return unexpanded(procedure.Session, step.Name, err)
		}
		captured, err := r.journalled(ctx, ready, inside)
		if err != nil {
			if r.session != nil && !step.Do.Safe() && !errors.Is(err, links.ErrLost) { // it may have let us in
				r.session.scope = inside
			}
			signOutWeb(r)
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

// signOutWeb signs out of the web interface. That it fails is told in the journal and has no
// consequence.
func signOutWeb(r *Runner) {
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
		if freshenSession(ctx, r, step, s.scope) != nil {
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

// signedInAgain signs in once more and brings a step into its final form again.
func signedInAgain(ctx context.Context, r *Runner, ready procedure.Ready,
	scope *procedure.Scope) (procedure.Ready, *procedure.Scope, error) {
	signOutWeb(r) // it may be only its token that is too old
	scope, err := enteredWeb(ctx, r, ready.Step, scope)
	if err != nil {
		return ready, scope, err
	}
	anew, err := ready.Anew(scope)
	return anew, scope, err
}
