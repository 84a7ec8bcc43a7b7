package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"freshseal/store"
)

// How long a sign-in holds.
const (
	consoleSession = 12 * time.Hour
	clientToken    = 90 * 24 * time.Hour
)

// Role is what somebody may do.
type Role string

// The roles, each may do what the ones before it may.
const (
	Viewer   Role = "viewer"   // look
	Operator Role = "operator" // read, replace, pack and take in
	Admin    Role = "admin"    // everything
)

// Roles are all roles, the least first.
var Roles = []Role{Viewer, Operator, Admin}

// Reaches says that a role may do what this one is needed for.
func (r Role) Reaches(needed Role) bool {
	return slices.Contains(Roles, r) && slices.Index(Roles, r) >= slices.Index(Roles, needed)
}

// Bearer is who was let in, and the secret that proves it. The secret is
// given once and kept nowhere.
type Bearer struct {
	User   string
	Role   Role
	Secret string
	EndsAt time.Time
}

// SignIn checks a name and a password and opens a session for the console, or
// with client a token for a client. from is the address it is tried from.
func (s *Service) SignIn(ctx context.Context, name, password, from string, client bool) (Bearer, error) {
	if wait := s.tries.wait(s.now(), name, from); wait > 0 {
		return Bearer{}, &Error{TooMany, "you are not signed in", "there were too many wrong passwords", fmt.Sprintf("wait %s, then try again", wait.Round(time.Second))}
	}
	u, err := s.store.User(ctx, name)
	hash := u.Password
	if errors.Is(err, store.ErrNotFound) {
		hash = nobody() // as slow as for somebody, so that names cannot be guessed
	} else if err != nil {
		return Bearer{}, err
	}
	if !passwordFits(hash, password) || err != nil {
		s.tries.failed(s.now(), name, from)
		return Bearer{}, &Error{Denied, "you are not signed in", "the name or the password is wrong", "try again; the first password stands in the file " + firstSignIn + " of the service's data folder"}
	}
	s.tries.forget(name, from)
	if err := s.Record(ctx, u.Name, "sign in", "from "+from); err != nil {
		return Bearer{}, err
	}
	return s.openSession(ctx, u.Name, Role(u.Role), client, "", clientToken)
}

// ClientToken opens a token without a password; the demo uses it on its own fleet.
func (s *Service) ClientToken(ctx context.Context, name string) (Bearer, error) {
	return s.openSession(ctx, name, Admin, true, "", clientToken)
}

func (s *Service) openSession(ctx context.Context, name string, role Role, client bool, label string, life time.Duration) (Bearer, error) {
	secret := randomText(32)
	session := store.Session{SHA256: digest(secret), User: name, Kind: "console", Role: string(role), Label: label, BeganAt: s.moment(), EndsAt: store.At(s.now().Add(consoleSession))}
	if client {
		session.Kind, session.EndsAt = "client", store.At(s.now().Add(life))
	}
	return Bearer{name, role, secret, session.EndsAt.Time}, s.store.AddSession(ctx, session)
}

// Admit finds out who bears a secret.
func (s *Service) Admit(ctx context.Context, secret string) (Bearer, error) {
	session, err := s.store.Session(ctx, digest(secret), s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Bearer{}, &Error{Denied, "you are not signed in", "", "sign in: freshseal login URL"}
	}
	return Bearer{User: session.User, Role: Role(session.Role), EndsAt: session.EndsAt.Time}, err
}

// SignOut ends the session of a secret, or with everywhere all of its user.
func (s *Service) SignOut(ctx context.Context, who Bearer, everywhere bool) error {
	if everywhere {
		return s.store.EndSessionsOf(ctx, who.User)
	}
	err := s.store.EndSession(ctx, digest(who.Secret))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// ChangePassword changes one's own password and ends all other sessions.
func (s *Service) ChangePassword(ctx context.Context, who Bearer, old, new string) error {
	u, err := s.store.User(ctx, who.User)
	if err != nil {
		return err
	}
	if !passwordFits(u.Password, old) {
		return invalid("the password was not changed", "the old one is wrong", "try again")
	}
	if err := checkPassword(new); err != nil {
		return err
	}
	return s.store.SetPassword(ctx, who.User, hashPassword(new, peopleCost), digest(who.Secret))
}

func checkPassword(password string) error {
	if len(password) < 10 || len(password) > 1000 {
		return invalid("the password was not taken", "it has fewer than 10 characters, or more than 1000", "choose a longer one; several words are good")
	}
	return nil
}

// User is somebody who may sign in, as the API shows it.
type User struct {
	Name    string    `json:"name" required:"true"`
	Role    Role      `json:"role" required:"true" enum:"viewer,operator,admin"`
	AddedAt time.Time `json:"added_at" required:"true"`
}

// NewUser is what is given to add one.
type NewUser struct {
	Name     string `json:"name" required:"true"`
	Role     Role   `json:"role" required:"true" enum:"viewer,operator,admin"`
	Password string `json:"password" required:"true"`
}

// AddUser lets somebody sign in.
func (s *Service) AddUser(ctx context.Context, n NewUser) (User, error) {
	switch {
	case !deviceName.MatchString(n.Name):
		return User{}, invalid("the user cannot be added", fmt.Sprintf("%q is no user's name", n.Name), nameRule)
	case !slices.Contains(Roles, n.Role):
		return User{}, invalid("the user cannot be added", fmt.Sprintf("no role is called %q", n.Role), fmt.Sprintf("give one of %v", Roles))
	}
	if err := checkPassword(n.Password); err != nil {
		return User{}, err
	}
	u := store.User{Name: n.Name, Password: hashPassword(n.Password, peopleCost), Role: string(n.Role), AddedAt: s.moment()}
	err := s.store.AddUser(ctx, u)
	if errors.Is(err, store.ErrTaken) {
		return User{}, &Error{Conflict, "the user cannot be added", n.Name + " is there already", "choose another name"}
	}
	return User{u.Name, n.Role, u.AddedAt.Time}, err
}

// Users are all users by name.
func (s *Service) Users(ctx context.Context) ([]User, error) {
	rows, err := s.store.Users(ctx)
	out := make([]User, 0, len(rows))
	for _, u := range rows {
		out = append(out, User{u.Name, Role(u.Role), u.AddedAt.Time})
	}
	return out, err
}

// RemoveUser ends all sessions of somebody and lets them in no more.
func (s *Service) RemoveUser(ctx context.Context, name string) error {
	err := s.store.RemoveUser(ctx, name)
	if errors.Is(err, store.ErrTaken) {
		return &Error{Conflict, name + " cannot be removed", "nobody else is an admin", "add another admin first"}
	}
	return notFound(err, "see: freshseal user list", "no user is called %s", name)
}

// Token lets a program in, as the API shows it. Its secret is given once.
type Token struct {
	ID     string    `json:"id" required:"true"`
	Label  string    `json:"label" required:"true"`
	User   string    `json:"user" required:"true"`
	Role   Role      `json:"role" required:"true" enum:"viewer,operator,admin"`
	EndsAt time.Time `json:"ends_at" required:"true"`
	Secret string    `json:"secret,omitempty" description:"only in the answer to making it"`
}

// NewToken is what is given to make one.
type NewToken struct {
	Label string `json:"label" required:"true"`
	Role  Role   `json:"role" required:"true" enum:"viewer,operator,admin"`
	Days  int    `json:"days" required:"true" description:"how long it holds, at most 730"`
}

// UserChange is what is to be different about a user; what is nil stays.
type UserChange struct {
	Role     *Role   `json:"role,omitempty" enum:"viewer,operator,admin"`
	Password *string `json:"password,omitempty" description:"for somebody who forgot it"`
}

// EditUser gives a user another role or a new password; all sessions of that
// user end.
func (s *Service) EditUser(ctx context.Context, name string, c UserChange) (User, error) {
	cannot := name + " was not changed"
	u, err := s.store.User(ctx, name)
	if err != nil {
		return User{}, notFound(err, "see: freshseal user list", "no user is called %q", name)
	}
	if c.Role != nil {
		if !slices.Contains(Roles, *c.Role) {
			return User{}, invalid(cannot, fmt.Sprintf("no role is called %q", *c.Role), "give viewer, operator or admin")
		}
		u.Role = string(*c.Role)
	}
	if c.Password != nil {
		if err := checkPassword(*c.Password); err != nil {
			return User{}, err
		}
		u.Password = hashPassword(*c.Password, peopleCost)
	}
	err = s.store.ChangeUser(ctx, u)
	if errors.Is(err, store.ErrTaken) {
		return User{}, &Error{Conflict, cannot, "nobody else is admin", "make somebody else admin first"}
	}
	return User{Name: u.Name, Role: Role(u.Role), AddedAt: u.AddedAt.Time}, err
}

// AddToken makes a token for a program, in the name of who asks.
func (s *Service) AddToken(ctx context.Context, n NewToken, by Bearer) (Token, error) {
	if !slices.Contains(Roles, n.Role) || n.Days < 1 || n.Days > 730 || n.Label == "" || len(n.Label) > 100 {
		return Token{}, invalid("the token was not made", "its label, role or days are not right", "give a label, a role of viewer, operator or admin, and 1 to 730 days")
	}
	b, err := s.openSession(ctx, by.User, n.Role, true, n.Label, time.Duration(n.Days)*24*time.Hour)
	return Token{ID: digest(b.Secret)[:tokenID], Label: n.Label, User: by.User, Role: n.Role, EndsAt: b.EndsAt, Secret: b.Secret}, err
}

// tokenID is how much of a token's digest names it.
const tokenID = 12

// Tokens are all tokens that have not ended.
func (s *Service) Tokens(ctx context.Context) ([]Token, error) {
	rows, err := s.store.Tokens(ctx, s.moment())
	out := make([]Token, 0, len(rows))
	for _, row := range rows {
		out = append(out, Token{ID: row.SHA256[:tokenID], Label: cmp.Or(row.Label, "a client that signed in"), User: row.User, Role: Role(row.Role), EndsAt: row.EndsAt.Time})
	}
	return out, err
}

// RemoveToken ends a token.
func (s *Service) RemoveToken(ctx context.Context, id string) error {
	err := store.ErrNotFound
	if len(id) == tokenID {
		err = s.store.EndSession(ctx, id)
	}
	return notFound(err, "see: freshseal token list", "no token is called %q", id)
}

// firstUser makes the first user of an empty database and writes the password
// into a file that only the owner can read.
func (s *Service) firstUser(ctx context.Context) error {
	n, err := s.store.CountUsers(ctx)
	if err != nil || n > 0 {
		return err
	}
	password := randomText(12)
	file := filepath.Join(s.options.Dir, firstSignIn)
	text := fmt.Sprintf("user: admin\npassword: %s\n", password)
	// The file first: a password that nobody knows would be of no use.
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the first password: %w", err)
	}
	return s.store.AddUser(ctx, store.User{Name: "admin", Password: hashPassword(password, machineCost), Role: string(Admin), AddedAt: s.moment()})
}

func randomText(bytes int) string {
	secret := make([]byte, bytes)
	rand.Read(secret)
	return base64.RawURLEncoding.EncodeToString(secret)
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}
