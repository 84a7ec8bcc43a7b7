package people

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store/accounts"
)

// usualPolicy is how people sign in where no rules were set.
var usualPolicy = contract.SignInPolicy{ConsoleHours: 12, ConsoleIdle: 120, ClientDays: 90, ClientIdle: 30, Confirm: 15,
	FactorFor: []contract.Role{}}

// The longest lifetimes that a policy may give.
const (
	mostConsoleHours = 720
	mostClientDays   = 365
)

// SignInPolicy returns the rules for signing in.
func (s *Service) SignInPolicy(ctx context.Context) (contract.SignInPolicy, error) {
	s.rules.Lock()
	defer s.rules.Unlock()
	if s.policy != nil {
		return *s.policy, nil
	}
	out := usualPolicy
	text, err := s.store.Sessions.SignInPolicy(ctx)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &out)
	}
	if err != nil {
		return out, fmt.Errorf("reading the rules for signing in: %w", err)
	}
	s.policy = &out
	return out, nil
}

// SetSignInPolicy sets the rules for signing in. They hold at once, for open sessions too.
func (s *Service) SetSignInPolicy(ctx context.Context, p contract.SignInPolicy) (contract.SignInPolicy, error) {
	const cannot = "the rules for signing in were not changed"
	for _, limit := range []struct {
		field string
		is    int
		least int
		most  int
	}{{"console_hours", p.ConsoleHours, 1, mostConsoleHours}, {"console_idle_minutes", p.ConsoleIdle, 0, 60 * 24 * 30},
		{"client_days", p.ClientDays, 1, mostClientDays}, {"client_idle_days", p.ClientIdle, 0, mostClientDays},
		{"confirm_minutes", p.Confirm, 0, 60 * 24}} {
		if limit.is < limit.least || limit.is > limit.most {
			return p, problem.Reject(cannot, fmt.Sprintf("%s is %d", strings.ReplaceAll(limit.field, "_", " "),
				limit.is), fmt.Sprintf("give a number from %d to %d", limit.least, limit.most),
				next.Give.On(limit.field))
		}
	}
	roles := []contract.Role{}
	for _, role := range contract.Roles[1:] {
		if slices.Contains(p.FactorFor, role) {
			roles = append(roles, role)
		}
	}
	if slices.ContainsFunc(p.FactorFor, func(r contract.Role) bool { return !slices.Contains(roles, r) }) {
		return p, problem.Reject(cannot, "a role is not one of a user", fmt.Sprintf("name some of %v",
			contract.Roles[1:]), next.Give.On("factor_for"))
	}
	p.FactorFor = roles
	before, err := s.SignInPolicy(ctx)
	if err != nil {
		return p, err
	}
	text, err := json.Marshal(p)
	if err != nil {
		return p, err
	}
	if err := s.store.Sessions.SetSignInPolicy(ctx, string(text)); err != nil {
		return p, err
	}
	s.rules.Lock()
	s.policy = &p
	s.rules.Unlock()
	audit.Differences(ctx, saidPolicy(before), saidPolicy(p))
	return p, nil
}

func saidPolicy(p contract.SignInPolicy) map[string]string {
	return map[string]string{"console hours": fmt.Sprint(p.ConsoleHours),
		"console idle minutes": fmt.Sprint(p.ConsoleIdle), "client days": fmt.Sprint(p.ClientDays),
		"client idle days": fmt.Sprint(p.ClientIdle), "confirm minutes": fmt.Sprint(p.Confirm),
		"second factor for": fmt.Sprint(p.FactorFor)}
}

// SignIn checks a name, a password and the code of a second factor, and opens a session for the console or a client.
// from is the address it is tried from.
func (s *Service) SignIn(ctx context.Context, in contract.SignIn, from string) (Bearer, error) {
	const cannot = "you are not signed in"
	u, err := s.tryPassword(ctx, cannot, in.User, in.Password, from)
	if err != nil {
		return Bearer{}, err
	}
	session := accounts.Session{Kind: "console", How: "password", Role: u.Role, From: from}
	if in.Client {
		session.Kind = "client"
	}
	if has, err := s.hasFactor(ctx, u.Name); err != nil {
		return Bearer{}, err
	} else if has && in.Code == "" {
		return Bearer{}, codeNeeded(cannot)
	} else if has {
		if session.Factor, err = s.tryCode(ctx, cannot, u.Name, in.Code, from); err != nil {
			return Bearer{}, err
		}
	}
	b, err := s.openSession(ctx, u, session)
	if err != nil {
		return Bearer{}, err
	}
	what := "sign in"
	if session.Factor != "" {
		what += " with a " + session.Factor
	}
	return b, s.Record(As(ctx, b), u.Name, what, "from "+from)
}

// Sessions are what people are signed in with.
type Sessions struct{ *Service }

// List returns the open sessions of people: of the user who asks, or of all for an admin.
func (s Sessions) List(ctx context.Context, who Bearer, all bool) ([]contract.SignedIn, error) {
	user := who.User
	if all && who.Role == contract.Admin {
		user = ""
	}
	rows, err := s.store.Sessions.SignedIn(ctx, user, s.moment())
	if err != nil {
		return nil, err
	}
	rules, err := s.SignInPolicy(ctx)
	out := make([]contract.SignedIn, 0, len(rows))
	for _, row := range rows {
		if s.holds(ctx, row, rules, "") != nil {
			continue // it cannot be used any more
		}
		life, _ := limits(row.Kind, rules)
		one := contract.SignedIn{ID: row.SHA256[:tokenID], User: row.User, Kind: row.Kind, How: row.How,
			Factor: row.Factor, From: row.From, StartedAt: row.BeganAt.Time,
			EndsAt: earlier(row.EndsAt.Time, row.BeganAt.Add(life)), Own: row.SHA256 == digest(who.Secret)}
		last := s.used.last(row.SHA256, accounts.Seen{At: row.SeenAt, From: row.SeenFrom})
		if one.SeenFrom = last.From; !last.At.IsZero() {
			one.SeenAt = &last.At.Time
		}
		out = append(out, one)
	}
	return out, err
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// End ends a session: one of the user who asks, or for an admin any.
func (s Sessions) End(ctx context.Context, who Bearer, id string) error {
	all, err := s.List(ctx, who, true)
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.ID == id {
			audit.Say(ctx, "of %s", one.User)
			return problem.Missing(s.store.Sessions.End(ctx, id), next.ListSessions, "no session is called %q", id)
		}
	}
	return problem.New(problem.NotFound, fmt.Sprintf("no session is called %q", id), "", "", next.ListSessions.On(""))
}

// EndOf ends all sessions of a user, API tokens aside.
func (s Sessions) EndOf(ctx context.Context, name string) error {
	if _, err := s.store.Users.Get(ctx, name); err != nil {
		return problem.Missing(err, next.ListUsers, "no user is called %s", name)
	}
	return s.store.Sessions.EndSignedIn(ctx, name)
}
