package people

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/events"
)

// Bearer is an admitted user with the secret that proves it. The secret is returned once and stored nowhere.
type Bearer struct {
	User      string
	Role      contract.Role
	Secret    string
	EndsAt    time.Time
	From      string // the address of the call
	Factor    bool   // the user has a second factor
	MustSetUp bool   // the user must set up a second factor before anything else
	Token     bool   // a program's, made by a user
	Final     bool   // of a token: it may do what cannot be taken back
	Through   string // names the session or token in the audit log

	confirmed time.Time // when the password or a code was last given
}

// Admit returns the user whose session or token has this secret, and takes it as used; from is the address of the call.
func (s *Service) Admit(ctx context.Context, secret, from string) (Bearer, error) {
	who, err := s.Still(ctx, secret, from)
	if err == nil {
		s.used.add(digest(secret), accounts.Seen{At: s.moment(), From: from})
	}
	return who, err
}

// Still is Admit for what goes on by itself, such as a stream of events.
func (s *Service) Still(ctx context.Context, secret, from string) (Bearer, error) {
	session, err := s.store.Sessions.Get(ctx, digest(secret), s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Bearer{}, notSignedIn("", "sign in")
	} else if err != nil {
		return Bearer{}, err
	}
	rules, err := s.SignInPolicy(ctx)
	if err != nil {
		return Bearer{}, err
	}
	if err := s.holds(ctx, session, rules, from); err != nil {
		return Bearer{}, err
	}
	// A role is what the user has now, and at most what the token was given.
	role := contract.Role(session.Role)
	if now := contract.Role(session.Now); !now.Reaches(role) {
		role = now
	}
	token := session.Label != ""
	return Bearer{User: session.User, Role: role, EndsAt: session.EndsAt.Time, From: from, Factor: session.HasFactor,
		MustSetUp: !token && slices.Contains(rules.FactorFor, contract.Role(session.Now)) && !session.HasFactor,
		Token:     token, Final: session.Final, Through: through(session), confirmed: session.ConfirmedAt.Time}, nil
}

// As returns a context in which the audit log says by which session or token somebody acts, and from where.
func As(ctx context.Context, who Bearer) context.Context {
	return events.WithSource(ctx, events.Source{Through: who.Through, Address: who.From})
}

func notSignedIn(why, say string) error {
	return problem.New(problem.Denied, "you are not signed in", why, say, next.SignIn.On(""))
}

// through names a session in the audit log.
func through(session accounts.Session) string {
	id := session.SHA256[:tokenID]
	switch {
	case session.Kind == feedKind:
		return "calendar " + id
	case session.Label != "":
		return fmt.Sprintf("token %s %q", id, session.Label)
	case session.Factor != "":
		return fmt.Sprintf("%s %s, %s and %s", session.Kind, id, session.How, session.Factor)
	}
	return fmt.Sprintf("%s %s, %s", session.Kind, id, session.How)
}

// holds returns why a session or token that has not ended cannot be used now.
func (s *Service) holds(ctx context.Context, session accounts.Session, rules contract.SignInPolicy, from string) error {
	if session.Label != "" {
		if inside(from, session.Networks.V) {
			return nil
		}
		if s.strange.first(session.SHA256+network(from), s.now()) {
			if err := s.Record(ctx, "freshseal", "token refused", fmt.Sprintf("%s of %s from %s, outside of its "+
				"networks", through(session), session.User, from)); err != nil {
				return err
			}
		}
		return notSignedIn(fmt.Sprintf("this token may not be used from %s", from), "use it from one of its networks, "+
			"or make a token for this one")
	}
	life, idle := limits(session.Kind, rules)
	now := s.now()
	if life > 0 && now.Sub(session.BeganAt.Time) > life {
		return notSignedIn("the session is older than the policy allows", "sign in again")
	}
	last := s.used.last(session.SHA256, accounts.Seen{At: session.SeenAt}).At.Time
	if last.IsZero() {
		last = session.BeganAt.Time
	}
	if idle > 0 && now.Sub(last) > idle {
		return notSignedIn("the session was not used for longer than the policy allows", "sign in again")
	}
	if session.HasFactor && session.Factor == "" && slices.Contains(rules.FactorFor, contract.Role(session.Now)) {
		return notSignedIn("your role needs a second factor, and this session was opened without one",
			"sign in again, with a code")
	}
	return nil
}

// limits returns how long a session of a kind lasts from the sign-in on, and without use; zero: without end.
func limits(kind string, rules contract.SignInPolicy) (life, idle time.Duration) {
	if kind == "console" {
		return time.Duration(rules.ConsoleHours) * time.Hour, time.Duration(rules.ConsoleIdle) * time.Minute
	}
	const day = 24 * time.Hour
	return time.Duration(rules.ClientDays) * day, time.Duration(rules.ClientIdle) * day
}

// inside reports whether an address is in one of some networks; none are all.
func inside(from string, networks []string) bool {
	at, err := netip.ParseAddr(from)
	return len(networks) == 0 || err == nil && slices.ContainsFunc(networks, func(text string) bool {
		n, err := netip.ParsePrefix(text)
		return err == nil && n.Contains(at.Unmap().WithZone(""))
	})
}

// Sure returns why somebody may not do now what cannot be taken back.
func (s *Service) Sure(ctx context.Context, who Bearer) error {
	if who.Token {
		if who.Final {
			return nil
		}
		return problem.New(problem.Refused, "this token may not do that", "it cannot be taken back, and the token was "+
			"not made for it", "make a token that may do what cannot be taken back, or sign in")
	}
	rules, err := s.SignInPolicy(ctx)
	if err != nil {
		return err
	}
	limit := time.Duration(rules.Confirm) * time.Minute
	if limit == 0 || s.now().Sub(who.confirmed) <= limit {
		return nil
	}
	with := "your password"
	if who.Factor {
		with = "a code of your authenticator"
	}
	return problem.New(problem.Unconfirmed, "confirm that it is you", "this cannot be taken back, and "+with+
		fmt.Sprintf(" was last given more than %d minutes ago", rules.Confirm), "give "+with, next.Confirm.On(""))
}

// Confirm takes a password or a code again, for what cannot be taken back.
func (s *Service) Confirm(ctx context.Context, who Bearer, c contract.Confirmation) error {
	const cannot = "it is not confirmed"
	if who.Token {
		return problem.New(problem.Conflict, cannot, "a token cannot confirm anything", "sign in")
	}
	factor := ""
	if who.Factor {
		if c.Code == "" {
			return codeNeeded(cannot)
		}
		var err error
		if factor, err = s.tryCode(ctx, cannot, who.User, c.Code, who.From); err != nil {
			return err
		}
	} else if _, err := s.tryPassword(ctx, cannot, who.User, c.Password, who.From); err != nil {
		return err
	}
	if err := s.store.Sessions.Confirm(ctx, digest(who.Secret), factor, s.moment()); err != nil {
		return problem.Missing(err, next.SignIn, "your session has ended")
	}
	return nil
}
