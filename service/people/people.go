package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"freshseal/contract"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/events"
)

// tryPassword checks a password, and counts the attempt before it does. An unknown name takes as long as a known one.
func (s *Service) tryPassword(ctx context.Context, cannot, name, password, from string) (accounts.User, error) {
	if wait := s.tries.begin(s.now(), name, from); wait > 0 {
		return accounts.User{}, problem.New(problem.TooMany, cannot, "there were too many wrong passwords",
			fmt.Sprintf("wait %s, then try again", wait.Round(time.Second)))
	}
	u, err := s.store.Users.Get(ctx, name)
	hash := u.Password
	if errors.Is(err, store.ErrNotFound) {
		hash = nobody()
	} else if err != nil {
		return u, err
	}
	fits := false
	busy := s.queue.do(ctx, network(from), s.Knows(from), func() { fits = passwordFits(hash, password) })
	if busy != nil {
		s.tries.takeBack(name, from) // it was not tried
		return u, problem.New(problem.TooMany, cannot, busy.Error(), "try again in a minute")
	}
	if !fits || err != nil {
		who := name
		if err != nil {
			who = "a name that nobody has" // it may well be a password
		}
		if err := s.Record(ctx, "freshseal", "wrong password", who+" from "+from); err != nil {
			return u, err
		}
		return u, problem.New(problem.Denied, cannot, "the name or the password is wrong",
			"try again; the first password is in the file "+firstSignIn+" of the data folder")
	}
	s.tries.succeeded(name, from)
	s.known.add(network(from), s.now())
	return u, nil
}

// Knows reports whether somebody has signed in from the network of an address since the service started.
func (s *Service) Knows(from string) bool { return s.known.has(network(from), s.now()) }

// Saw remembers that a call came from an address whose session or token is valid.
func (s *Service) Saw(from string) { s.known.add(network(from), s.now()) }

// ClientToken creates a token without a password, for the demo.
func (s *Service) ClientToken(ctx context.Context, name string) (Bearer, error) {
	u, err := s.store.Users.Get(ctx, name)
	if err != nil {
		return Bearer{}, err
	}
	return s.openSession(ctx, u, accounts.Session{Kind: "client", How: "demo",
		Role: string(contract.Admin)})
}

// openSession opens a session for a user as read: if the password or role was changed since, there is none. Where it
// is not said when it ends, the rules for signing in say so.
func (s *Service) openSession(ctx context.Context, u accounts.User, session accounts.Session) (Bearer, error) {
	rules, err := s.SignInPolicy(ctx)
	if err != nil {
		return Bearer{}, err
	}
	secret := rand.Text()
	session.SHA256, session.User, session.BeganAt = digest(secret), u.Name, s.moment()
	if session.Label == "" {
		life, _ := limits(session.Kind, rules)
		session.EndsAt, session.ConfirmedAt = store.At(s.now().Add(life)), s.moment()
	}
	if err := s.store.Sessions.Add(ctx, session, u); errors.Is(err, store.ErrStale) {
		return Bearer{}, problem.New(problem.Denied, "you are not signed in", "your password or role was changed "+
			"at this moment", "sign in again")
	} else if err != nil {
		return Bearer{}, err
	}
	role := contract.Role(session.Role)
	return Bearer{User: u.Name, Role: role, Secret: secret, EndsAt: session.EndsAt.Time, Through: through(session),
		From:   session.From,
		Factor: session.Factor != "", MustSetUp: session.Label == "" && session.Factor == "" &&
			slices.Contains(rules.FactorFor, contract.Role(u.Role))}, nil
}

// SignOut ends the session of a secret, or with everywhere all sessions of its user.
func (s *Service) SignOut(ctx context.Context, who Bearer, everywhere bool) error {
	if everywhere {
		return s.store.Sessions.EndOf(ctx, who.User)
	}
	err := s.store.Sessions.End(ctx, digest(who.Secret))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// ChangePassword changes the password of the caller and ends all other sessions of that user.
func (s *Service) ChangePassword(ctx context.Context, who Bearer, old, new string) error {
	if err := byHand(who, "the password was not changed"); err != nil {
		return err
	}
	if err := checkPassword(new); err != nil {
		return err
	}
	if _, err := s.tryPassword(ctx, "the password was not changed", who.User, old, who.From); err != nil {
		return err
	}
	if err := s.store.Users.SetPassword(ctx, who.User, hashPassword(new, peopleCost), digest(who.Secret)); err != nil {
		return err
	}
	s.forgetFirst(who.User)
	return nil
}

// forgetFirst removes the file with the first password once it is no longer valid.
func (s *Service) forgetFirst(name string) {
	if name != firstName {
		return
	}
	if err := os.Remove(filepath.Join(s.dir, firstSignIn)); err != nil && !errors.Is(err, os.ErrNotExist) {
		s.log.Warn("the file with the first password cannot be removed", "error", err)
	}
}

func checkPassword(password string) error {
	if len(password) < 10 || len(password) > 1000 {
		return problem.Reject("the password was not accepted", "it has fewer than 10 characters, or more than 1000",
			"choose a longer one; several words are good")
	}
	return nil
}

// AddUser adds a user.
func (s *Service) AddUser(ctx context.Context, n contract.NewUser) (contract.User, error) {
	switch {
	case n.Name == events.Itself:
		return contract.User{}, problem.Reject("the user cannot be added", n.Name+" is the name under which the "+
			"service itself acts", "choose another name")
	case !naming.Device(n.Name):
		return contract.User{},
			problem.Reject("the user cannot be added", fmt.Sprintf("%q is not a valid user name", n.Name), naming.Rule)
	case n.Role == contract.Monitor:
		return contract.User{}, problem.Reject("the user cannot be added", "the role monitor is for API tokens alone",
			"add a token for the monitoring system, or give viewer, approver, operator or admin")
	case !slices.Contains(contract.Roles, n.Role):
		return contract.User{},
			problem.Reject("the user cannot be added", fmt.Sprintf("no role is called %q", n.Role),
				fmt.Sprintf("give one of %v", contract.Roles))
	}
	if err := checkPassword(n.Password); err != nil {
		return contract.User{}, err
	}
	audit.Say(ctx, "%s as %s", n.Name, n.Role)
	u := accounts.User{Name: n.Name, Password: hashPassword(n.Password, peopleCost), Role: string(n.Role),
		AddedAt: s.moment()}
	err := s.store.Users.Add(ctx, u)
	if errors.Is(err, store.ErrTaken) {
		return contract.User{}, problem.New(problem.Conflict, "the user cannot be added", n.Name+" already exists",
			"choose another name")
	}
	return contract.User{Name: u.Name, Role: n.Role, AddedAt: u.AddedAt.Time}, err
}

// Users returns all users by name.
func (s *Service) Users(ctx context.Context) ([]contract.User, error) {
	rows, err := s.store.Users.List(ctx)
	out := make([]contract.User, 0, len(rows))
	for _, u := range rows {
		out = append(out, contract.User{Name: u.Name, Role: contract.Role(u.Role), AddedAt: u.AddedAt.Time,
			Factor: u.HasFactor})
	}
	return out, err
}

// errNoAdmin means that a change would leave no admin.
var errNoAdmin = errors.New("no admin is left")

// anAdminStays is the rule for every change of users: an admin must remain to undo it.
func anAdminStays(left []accounts.User) error {
	if slices.ContainsFunc(left, func(u accounts.User) bool { return u.Role == string(contract.Admin) }) {
		return nil
	}
	return errNoAdmin
}

// RemoveUser deletes a user and ends all their sessions.
func (s *Service) RemoveUser(ctx context.Context, name string) error {
	err := s.store.Users.Remove(ctx, name, anAdminStays)
	if errors.Is(err, errNoAdmin) {
		return problem.New(problem.Conflict, name+" cannot be removed", "there is no other admin",
			"add another admin first")
	}
	return problem.Missing(err, next.ListUsers, "no user is called %s", name)
}

// EditUser gives a user another role or a new password; all sessions of that
// user end.
func (s *Service) EditUser(ctx context.Context, name string, c contract.UserChange) (contract.User, error) {
	cannot := name + " was not changed"
	u, err := s.store.Users.Get(ctx, name)
	if err != nil {
		return contract.User{}, problem.Missing(err, next.ListUsers, "no user is called %q", name)
	}
	if c.Role != nil {
		if !slices.Contains(contract.Roles, *c.Role) || *c.Role == contract.Monitor {
			return contract.User{}, problem.Reject(cannot, fmt.Sprintf("no role is called %q", *c.Role),
				"give viewer, approver, operator or admin")
		}
		audit.Differences(ctx, map[string]string{"role": u.Role}, map[string]string{"role": string(*c.Role)})
		u.Role = string(*c.Role)
	}
	if c.Password != nil {
		if err := checkPassword(*c.Password); err != nil {
			return contract.User{}, err
		}
		u.Password = hashPassword(*c.Password, peopleCost)
		audit.Say(ctx, "a new password")
	}
	err = s.store.Users.Change(ctx, u, anAdminStays)
	if errors.Is(err, errNoAdmin) {
		return contract.User{}, problem.New(problem.Conflict, cannot, "there is no other admin",
			"make another user admin first")
	}
	if err == nil && c.Password != nil {
		s.forgetFirst(name)
	}
	return contract.User{Name: u.Name, Role: contract.Role(u.Role), AddedAt: u.AddedAt.Time}, err
}

// Reset gives a user a new password, which it returns, and removes the second factor.
func (s *Service) Reset(ctx context.Context, name string) (password string, err error) {
	u, err := s.store.Users.Get(ctx, name)
	if err != nil {
		return "", problem.Missing(err, next.ListUsers, "no user is called %q", name)
	}
	if err := s.Record(ctx, events.Itself, "sign-in reset", name+" on the machine of the service"); err != nil {
		return "", err
	}
	if err := s.store.Factors.Remove(ctx, name, ""); err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	password = rand.Text()
	u.Password = hashPassword(password, machineCost)
	return password, s.store.Users.Change(ctx, u, func([]accounts.User) error { return nil })
}

// FirstUser makes the first user of an empty database and writes the password
// into a file that only the owner can read.
func (s *Service) FirstUser(ctx context.Context) error {
	n, err := s.store.Users.Count(ctx)
	if err != nil || n > 0 {
		return err
	}
	password := rand.Text()
	file := filepath.Join(s.dir, firstSignIn)
	text := fmt.Sprintf("user: admin\npassword: %s\n", password)
	// The file first: a password that nobody knows would be of no use.
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the first password: %w", err)
	}
	return s.store.Users.Add(ctx, accounts.User{Name: firstName, Password: hashPassword(password, machineCost),
		Role: string(contract.Admin), AddedAt: s.moment()})
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}
