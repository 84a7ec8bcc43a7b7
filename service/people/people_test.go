package people

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/events"
)

// memory is the store of a few users and sessions, in memory.
type memory struct {
	users    map[string]accounts.User
	views    []accounts.View
	sessions []accounts.Session
	acts     []string
	entries  []events.AuditEntry
	wrong    error // of Verify
	factors  map[string]accounts.Factor
	policy   string
}

type (
	memoryUsers    struct{ *memory }
	memoryFactors  struct{ *memory }
	memorySessions struct{ *memory }
	memoryAudit    struct{ *memory }
)

func (m memoryUsers) Add(_ context.Context, u accounts.User) error {
	if _, has := m.users[u.Name]; has {
		return store.ErrTaken
	}
	m.users[u.Name] = u
	return nil
}

func (m memoryUsers) Get(_ context.Context, name string) (accounts.User, error) {
	u, has := m.users[name]
	if !has {
		return u, store.ErrNotFound
	}
	return u, nil
}

func (m memoryUsers) List(context.Context) (out []accounts.User, err error) {
	for _, u := range m.users {
		out = append(out, u)
	}
	slices.SortFunc(out, func(a, b accounts.User) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (m memoryUsers) Count(context.Context) (int, error) { return len(m.users), nil }

// left are the users without one, and with u in place of an older one.
func (m memoryUsers) left(without string, with ...accounts.User) (out []accounts.User) {
	for _, u := range m.users {
		if u.Name != without {
			out = append(out, u)
		}
	}
	return append(out, with...)
}

func (m memoryUsers) Change(_ context.Context, u accounts.User, allowed func([]accounts.User) error) error {
	if err := allowed(m.left(u.Name, u)); err != nil {
		return err
	}
	m.users[u.Name] = u
	return nil
}

func (m memoryUsers) Remove(_ context.Context, name string, allowed func([]accounts.User) error) error {
	if _, has := m.users[name]; !has {
		return store.ErrNotFound
	}
	if err := allowed(m.left(name)); err != nil {
		return err
	}
	delete(m.users, name)
	return nil
}

func (m memoryUsers) SetPassword(_ context.Context, name, password, keep string) error {
	u := m.users[name]
	u.Password = password
	m.users[name] = u
	m.sessions = slices.DeleteFunc(m.sessions, func(s accounts.Session) bool {
		return s.User == name && s.SHA256 != keep
	})
	return nil
}

func (m memoryUsers) Views(_ context.Context, user string) (out []accounts.View, err error) {
	for _, v := range m.views {
		if v.User == user {
			out = append(out, v)
		}
	}
	return out, nil
}

func (m memoryUsers) PutView(_ context.Context, v accounts.View, most int) error {
	if len(m.views) >= most {
		return store.ErrTaken
	}
	m.views = append(m.views, v)
	return nil
}

func (m memoryUsers) RemoveView(_ context.Context, user, page, name string) error {
	n := len(m.views)
	m.views = slices.DeleteFunc(m.views, func(v accounts.View) bool {
		return v.User == user && v.Page == page && v.Name == name
	})
	if len(m.views) == n {
		return store.ErrNotFound
	}
	return nil
}

func (m memorySessions) Add(_ context.Context, s accounts.Session, seen accounts.User) error {
	if m.users[seen.Name] != seen {
		return store.ErrStale
	}
	m.sessions = append(m.sessions, s)
	return nil
}

func (m memorySessions) Get(_ context.Context, sha256 string, now store.Moment) (accounts.Session, error) {
	for _, s := range m.sessions {
		if s.SHA256 == sha256 && s.EndsAt.After(now.Time) {
			s.Now, s.HasFactor = m.users[s.User].Role, len(m.factors[s.User].Secret) > 0
			return s, nil
		}
	}
	return accounts.Session{}, store.ErrNotFound
}

func (m memorySessions) Of(_ context.Context, user, kind string, _ store.Moment) (out []accounts.Session, err error) {
	for _, s := range m.sessions {
		if s.User == user && s.Kind == kind {
			out = append(out, s)
		}
	}
	return out, nil
}

func (m memorySessions) Tokens(context.Context, store.Moment) (out []accounts.Session, err error) {
	for _, s := range m.sessions {
		if s.Kind == "client" {
			out = append(out, s)
		}
	}
	return out, nil
}

func (m memorySessions) End(_ context.Context, beginning string) error {
	n := len(m.sessions)
	m.sessions = slices.DeleteFunc(m.sessions, func(s accounts.Session) bool {
		return strings.HasPrefix(s.SHA256, beginning)
	})
	if len(m.sessions) == n {
		return store.ErrNotFound
	}
	return nil
}

func (m memorySessions) EndOf(_ context.Context, user string) error {
	m.sessions = slices.DeleteFunc(m.sessions, func(s accounts.Session) bool { return s.User == user })
	return nil
}

func (m memorySessions) Confirm(_ context.Context, sha256, factor string, at store.Moment) error {
	for i := range m.sessions {
		if s := &m.sessions[i]; s.SHA256 == sha256 {
			s.ConfirmedAt, s.Factor = at, cmp.Or(factor, s.Factor)
			return nil
		}
	}
	return store.ErrNotFound
}

func (m memorySessions) SetEnd(_ context.Context, sha256 string, ends store.Moment) error {
	for i := range m.sessions {
		if m.sessions[i].SHA256 == sha256 {
			m.sessions[i].EndsAt = ends
		}
	}
	return nil
}

func (m memorySessions) SetSeen(_ context.Context, seen map[string]accounts.Seen) error {
	for i := range m.sessions {
		if last, ok := seen[m.sessions[i].SHA256]; ok {
			m.sessions[i].SeenAt, m.sessions[i].SeenFrom = last.At, last.From
		}
	}
	return nil
}

func (m memorySessions) SignInPolicy(context.Context) (string, error) { return m.policy, nil }

func (m memorySessions) SetSignInPolicy(_ context.Context, text string) error {
	m.memory.policy = text
	return nil
}

func (m memorySessions) SignedIn(_ context.Context, user string,
	now store.Moment) (out []accounts.Session, err error) {
	for _, s := range m.sessions {
		if (user == "" || s.User == user) && s.Label == "" && s.Kind != feedKind && s.EndsAt.After(now.Time) {
			out = append(out, s)
		}
	}
	return out, nil
}

func (m memorySessions) EndSignedIn(_ context.Context, user string) error {
	m.endSignedIn(user, "")
	return nil
}

func (m *memory) endSignedIn(user, keep string) {
	m.sessions = slices.DeleteFunc(m.sessions, func(s accounts.Session) bool {
		return s.User == user && s.Label == "" && s.Kind != feedKind && s.SHA256 != keep
	})
}

func (m memoryFactors) Get(_ context.Context, user string) (accounts.Factor, error) {
	f, has := m.factors[user]
	if !has {
		return f, store.ErrNotFound
	}
	return f, nil
}

func (m memoryFactors) SetPending(_ context.Context, user string, sealed []byte, _ store.Moment) error {
	f := m.factors[user]
	f.User, f.Pending = user, sealed
	m.factors[user] = f
	return nil
}

func (m memoryFactors) TakePending(_ context.Context, seen accounts.Factor, step int64, recovery []string, keep string,
	_ store.Moment) error {
	f := m.factors[seen.User]
	if string(f.Pending) != string(seen.Pending) {
		return store.ErrStale
	}
	f.Secret, f.Pending, f.Step, f.Recovery.V = f.Pending, nil, step, recovery
	m.factors[seen.User] = f
	m.endSignedIn(seen.User, keep)
	return nil
}

func (m memoryFactors) SetRecovery(_ context.Context, user string, digests []string) error {
	f, has := m.factors[user]
	if !has {
		return store.ErrNotFound
	}
	f.Recovery.V = digests
	m.factors[user] = f
	return nil
}

func (m memoryFactors) Use(_ context.Context, seen accounts.Factor, step int64) error {
	f := m.factors[seen.User]
	if f.Step >= step {
		return store.ErrStale
	}
	f.Step = step
	m.factors[seen.User] = f
	return nil
}

func (m memoryFactors) UseRecovery(_ context.Context, user, digest string) error {
	f := m.factors[user]
	at := slices.Index(f.Recovery.V, digest)
	if at < 0 {
		return store.ErrStale
	}
	f.Recovery.V = slices.Delete(slices.Clone(f.Recovery.V), at, at+1)
	m.factors[user] = f
	return nil
}

func (m memoryFactors) Remove(_ context.Context, user, keep string) error {
	if _, has := m.factors[user]; !has {
		return store.ErrNotFound
	}
	delete(m.factors, user)
	m.endSignedIn(user, keep)
	return nil
}

// open is a box that seals nothing.
type open struct{}

func (open) Seal(_ string, secret []byte) []byte          { return secret }
func (open) Open(_ string, sealed []byte) ([]byte, error) { return sealed, nil }

func (m *memory) Act(_ context.Context, _ store.Moment, who, what, about string) error {
	m.acts = append(m.acts, who+": "+what+" "+about)
	return nil
}

func (m memoryAudit) Count(_ context.Context, f events.AuditFilter) (int, error) {
	rows, _, err := m.Page(context.Background(), f, store.Page{})
	return len(rows), err
}

func (m memoryAudit) Head(context.Context) (events.AuditEntry, error) {
	if len(m.entries) == 0 {
		return events.AuditEntry{}, store.ErrNotFound
	}
	return m.entries[len(m.entries)-1], nil
}

func (m memoryAudit) Entry(_ context.Context, id int64) (events.AuditEntry, error) {
	if id < 1 || int(id) > len(m.entries) {
		return events.AuditEntry{}, store.ErrNotFound
	}
	return m.entries[id-1], nil
}

func (m memoryAudit) Page(_ context.Context, f events.AuditFilter,
	p store.Page) (out []events.AuditEntry, _ string, _ error) {
	for _, e := range m.entries {
		if (f.From.IsZero() || !e.At.Before(f.From.Time)) && (f.Until.IsZero() || e.At.Before(f.Until.Time)) {
			out = append(out, e)
		}
	}
	if p.Desc {
		slices.Reverse(out)
	}
	return out, "", nil
}

func (m memoryAudit) Walk(_ context.Context, look func(events.AuditEntry) error) error {
	for _, e := range m.entries {
		if err := look(e); err != nil {
			return err
		}
	}
	return nil
}

func (m memoryAudit) Verify(context.Context) (int, error) { return len(m.entries), m.wrong }

// office is the room with a clock that stands still unless it is moved.
type office struct {
	*Service
	*memory
	at time.Time
}

func newOffice(t *testing.T) *office {
	t.Helper()
	m := &memory{users: map[string]accounts.User{}, factors: map[string]accounts.Factor{}}
	o := &office{memory: m, at: time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)}
	o.Service = &Service{store: storage{Audit: memoryAudit{m}, Factors: memoryFactors{m}, Outbox: m,
		Sessions: memorySessions{m}, Users: memoryUsers{m}}, box: open{},
		dir: t.TempDir(), log: slog.New(slog.DiscardHandler), clock: func() time.Time { return o.at }}
	o.Service.whole()
	for name, role := range map[string]contract.Role{"tern": contract.Admin, "gull": contract.Operator} {
		m.users[name] = accounts.User{Name: name, Role: string(role),
			Password: hashPassword("correct "+name, machineCost)}
	}
	return o
}

// signIn signs in from an address.
func (o *office) signIn(t *testing.T, user, password string, client bool) (Bearer, error) {
	t.Helper()
	return o.SignIn(t.Context(), contract.SignIn{User: user, Password: password, Client: client}, "192.0.2.1")
}

// refused checks the kind of a problem; an empty kind: there must be none.
func refused(t *testing.T, err error, kind problem.Kind, what string) {
	t.Helper()
	var p *problem.Error
	if errors.As(err, &p); kind == "" && err != nil || kind != "" && (p == nil || p.Kind != kind) {
		t.Errorf("%s: %v", what, err)
	}
}

func TestWhoSignsInIsAdmittedUntilTheSessionEnds(t *testing.T) {
	o := newOffice(t)
	for name, c := range map[string]struct {
		client bool
		life   time.Duration
		kind   string
	}{"the console": {false, 12 * time.Hour, "console"}, "a client": {true, 90 * 24 * time.Hour, "client"}} {
		b, err := o.signIn(t, "gull", "correct gull", c.client)
		if err != nil || !b.EndsAt.Equal(o.at.Add(c.life)) || b.Role != contract.Operator {
			t.Fatalf("%s: %+v, %v", name, b, err)
		}
		if o.sessions[len(o.sessions)-1].Kind != c.kind || strings.Contains(fmt.Sprint(o.sessions), b.Secret) {
			t.Errorf("%s: what is kept is %+v", name, o.sessions)
		}
		in, err := o.Admit(t.Context(), b.Secret, "192.0.2.1")
		if err != nil || in.User != "gull" || in.Role != contract.Operator || in.Secret != "" {
			t.Errorf("%s: %+v, %v", name, in, err)
		}
		_, err = o.Admit(t.Context(), b.Secret+"x", "192.0.2.1")
		refused(t, err, problem.Denied, name)
		began := o.at
		o.at = o.at.Add(c.life + time.Second)
		_, err = o.Admit(t.Context(), b.Secret, "192.0.2.1")
		refused(t, err, problem.Denied, name+" after its end")
		o.at = began
	}
	if o.acts[0] != "gull: sign in from 192.0.2.1" {
		t.Errorf("%q", o.acts)
	}
}

func TestAWrongPasswordIsRecordedWithoutWhatWasTyped(t *testing.T) {
	o := newOffice(t)
	_, err := o.signIn(t, "gull", "wrong", false)
	refused(t, err, problem.Denied, "a wrong password")
	_, err = o.signIn(t, "correct gull", "gull", false) // the fields were confused
	refused(t, err, problem.Denied, "a password as a name")
	want := []string{"freshseal: wrong password gull from 192.0.2.1",
		"freshseal: wrong password a name that nobody has from 192.0.2.1"}
	if !slices.Equal(o.acts, want) || len(o.sessions) != 0 {
		t.Errorf("%q, %v", o.acts, o.sessions)
	}
	for range freeTries {
		_, err = o.signIn(t, "gull", "wrong", false)
	}
	refused(t, err, problem.TooMany, "after too many")
	if _, err = o.signIn(t, "gull", "correct gull", false); err == nil {
		t.Error("the wait is not kept")
	}
}

func TestATokenReachesNoFurtherThanItsUserDoesNow(t *testing.T) {
	o := newOffice(t)
	by := Bearer{User: "tern"}
	for name, n := range map[string]contract.NewToken{
		"no label": {Role: contract.Viewer, Days: 1}, "no role": {Label: "x", Role: "captain", Days: 1},
		"no day": {Label: "x", Role: contract.Viewer}, "too long": {Label: "x", Role: contract.Viewer, Days: 731},
		"a long label": {Label: strings.Repeat("x", 101), Role: contract.Viewer, Days: 1}} {
		_, err := o.Tokens.Add(t.Context(), n, by)
		refused(t, err, problem.Invalid, name)
	}
	made, err := o.Tokens.Add(t.Context(), contract.NewToken{Label: "monitoring", Role: contract.Operator, Days: 730},
		by)
	if err != nil || !made.EndsAt.Equal(o.at.AddDate(0, 0, 730)) || len(made.ID) != tokenID {
		t.Fatalf("%+v, %v", made, err)
	}
	for _, c := range []struct{ now, may contract.Role }{{contract.Admin, contract.Operator},
		{contract.Viewer, contract.Viewer}, {contract.Operator, contract.Operator}} {
		u := o.users["tern"]
		u.Role = string(c.now)
		o.users["tern"] = u
		if in, err := o.Admit(t.Context(), made.Secret, "192.0.2.1"); err != nil || in.Role != c.may {
			t.Errorf("as %s it reaches %s, %v", c.now, in.Role, err)
		}
	}
	all, err := o.Tokens.List(t.Context())
	if err != nil || len(all) != 1 || all[0].Label != "monitoring" || all[0].Secret != "" || all[0].ID != made.ID {
		t.Errorf("%+v, %v", all, err)
	}
	refused(t, o.Tokens.Remove(t.Context(), made.ID[:tokenID-1]), problem.NotFound, "a shorter id")
	refused(t, o.Tokens.Remove(t.Context(), made.ID), "", "its id")
	refused(t, o.Tokens.Remove(t.Context(), made.ID), problem.NotFound, "the second time")
}

func TestThereIsAlwaysAnAdmin(t *testing.T) {
	o := newOffice(t)
	viewer, admin := contract.Viewer, contract.Admin
	refused(t, o.RemoveUser(t.Context(), "tern"), problem.Conflict, "the only admin is removed")
	_, err := o.EditUser(t.Context(), "tern", contract.UserChange{Role: &viewer})
	refused(t, err, problem.Conflict, "the only admin is made viewer")
	if _, err := o.EditUser(t.Context(), "gull", contract.UserChange{Role: &admin}); err != nil {
		t.Fatal(err)
	}
	refused(t, o.RemoveUser(t.Context(), "tern"), "", "there is another admin")
	refused(t, o.RemoveUser(t.Context(), "tern"), problem.NotFound, "the second time")
}

func TestUsersAreCheckedAndWhatChangesIsNoted(t *testing.T) {
	o := newOffice(t)
	for name, c := range map[string]struct {
		contract.NewUser
		kind problem.Kind
	}{
		"a name of two words": {contract.NewUser{Name: "two words", Role: contract.Viewer, Password: "long enough 1"},
			problem.Invalid},
		"the role monitor": {contract.NewUser{Name: "skua", Role: contract.Monitor, Password: "long enough 1"},
			problem.Invalid},
		"no role": {contract.NewUser{Name: "skua", Role: "captain", Password: "long enough 1"},
			problem.Invalid},
		"a short password": {contract.NewUser{Name: "skua", Role: contract.Viewer, Password: "123456789"},
			problem.Invalid},
		"a huge password": {contract.NewUser{Name: "skua", Role: contract.Viewer,
			Password: strings.Repeat("x", 1001)}, problem.Invalid},
		"a name that is there": {contract.NewUser{Name: "gull", Role: contract.Viewer, Password: "long enough 1"},
			problem.Conflict},
	} {
		_, err := o.AddUser(t.Context(), c.NewUser)
		refused(t, err, c.kind, name)
	}
	ctx, notes := audit.Collect(t.Context())
	added, err := o.AddUser(ctx, contract.NewUser{Name: "skua", Role: contract.Viewer, Password: "1234567890"})
	if err != nil || !added.AddedAt.Equal(o.at) {
		t.Fatalf("%+v, %v", added, err)
	}
	operator, password := contract.Operator, "another password"
	if _, err := o.EditUser(ctx, "skua", contract.UserChange{Role: &operator, Password: &password}); err != nil {
		t.Fatal(err)
	}
	said := notes.String()
	if !strings.Contains(said, "skua as viewer") || !strings.Contains(said, `"viewer" → "operator"`) ||
		!strings.Contains(said, "a new password") || strings.Contains(said, password) {
		t.Errorf("what is noted: %s", said)
	}
	if _, err := o.signIn(t, "skua", password, false); err != nil {
		t.Error(err)
	}
	monitor, short := contract.Monitor, "short"
	_, err = o.EditUser(t.Context(), "skua", contract.UserChange{Role: &monitor})
	refused(t, err, problem.Invalid, "made monitor")
	_, err = o.EditUser(t.Context(), "skua", contract.UserChange{Password: &short})
	refused(t, err, problem.Invalid, "a short password")
	_, err = o.EditUser(t.Context(), "nobody", contract.UserChange{Role: &operator})
	refused(t, err, problem.NotFound, "nobody")
	all, err := o.Users(t.Context())
	if err != nil || len(all) != 3 || all[1].Name != "skua" || all[1].Role != contract.Operator {
		t.Errorf("%+v, %v", all, err)
	}
}

// A new password ends all sessions of its user but the one it was changed in, and the file with the first one goes.
func TestANewPasswordEndsTheOtherSessions(t *testing.T) {
	o := newOffice(t)
	o.users = map[string]accounts.User{}
	o.memory.users = o.users
	o.Service.store.Users = memoryUsers{o.memory}
	if err := o.FirstUser(t.Context()); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(o.dir, firstSignIn)
	text, err := os.ReadFile(file)
	if info, _ := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("%v, %v", info, err)
	}
	if err := o.FirstUser(t.Context()); err != nil || len(o.users) != 1 {
		t.Fatalf("the second start makes %d users, %v", len(o.users), err)
	}
	_, password, _ := strings.Cut(strings.TrimSpace(string(text)), "password: ")
	var bearers []Bearer
	for range 3 {
		b, err := o.signIn(t, firstName, password, false)
		if err != nil {
			t.Fatal(err)
		}
		bearers = append(bearers, b)
	}
	refused(t, o.ChangePassword(t.Context(), bearers[0], password, "short"), problem.Invalid, "a short one")
	refused(t, o.ChangePassword(t.Context(), bearers[0], "wrong", "a new password"), problem.Denied,
		"the old one is wrong")
	if _, err := os.Stat(file); err != nil {
		t.Error("the file went although nothing was changed")
	}
	refused(t, o.ChangePassword(t.Context(), bearers[0], password, "a new password"), "", "a good one")
	if _, err := os.Stat(file); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the file with the first password: %v", err)
	}
	if _, err := o.Admit(t.Context(), bearers[0].Secret, "192.0.2.1"); err != nil {
		t.Error(err)
	}
	_, err = o.Admit(t.Context(), bearers[1].Secret, "192.0.2.1")
	refused(t, err, problem.Denied, "another session")
	refused(t, o.SignOut(t.Context(), bearers[0], false), "", "signing out")
	refused(t, o.SignOut(t.Context(), bearers[0], false), "", "the second time")
	if b, err := o.signIn(t, firstName, "a new password", true); err != nil ||
		o.SignOut(t.Context(), b, true) != nil || len(o.sessions) != 0 {
		t.Errorf("everywhere: %v, %v", o.sessions, err)
	}
}

// A change of the password or role while somebody signs in with the old one lets nobody in.
func TestASignInThatCrossesAChangeIsRefused(t *testing.T) {
	o := newOffice(t)
	seen := o.users["gull"]
	changed := seen
	changed.Role = "viewer"
	o.users["gull"] = changed
	_, err := o.openSession(t.Context(), seen, accounts.Session{Kind: "console", Role: "operator"})
	refused(t, err, problem.Denied, "the role was changed")
}

func TestACalendarOpensNothingElse(t *testing.T) {
	o := newOffice(t)
	by := Bearer{User: "gull"}
	feed, err := o.AddFeed(t.Context(), "Mainquay", by)
	secret := strings.TrimSuffix(strings.TrimPrefix(feed.Path, FeedPath), ".ics")
	if err != nil || secret == feed.Path || !feed.EndsAt.Equal(o.at.Add(feedLife)) {
		t.Fatalf("%+v, %v", feed, err)
	}
	if site, err := o.SiteOfFeed(t.Context(), secret); err != nil || site != "Mainquay" {
		t.Errorf("%q, %v", site, err)
	}
	if in, err := o.Admit(t.Context(), secret, "192.0.2.1"); err == nil && in.Role.Reaches(contract.Viewer) {
		t.Errorf("it lets in as %+v", in)
	}
	b, err := o.signIn(t, "gull", "correct gull", false)
	if err != nil {
		t.Fatal(err)
	}
	_, err = o.SiteOfFeed(t.Context(), b.Secret)
	refused(t, err, problem.NotFound, "a session is no calendar")
	_, err = o.SiteOfFeed(t.Context(), "x")
	refused(t, err, problem.NotFound, "nobody's")
	for range mostFeeds - 1 {
		if _, err := o.AddFeed(t.Context(), "", by); err != nil {
			t.Fatal(err)
		}
	}
	_, err = o.AddFeed(t.Context(), "", by)
	refused(t, err, problem.Invalid, "one too many")
	refused(t, o.RemoveFeed(t.Context(), feed.ID, Bearer{User: "tern"}), problem.NotFound, "somebody else's")
	refused(t, o.RemoveFeed(t.Context(), feed.ID, by), "", "one's own")
	_, err = o.SiteOfFeed(t.Context(), secret)
	refused(t, err, problem.NotFound, "a removed one")
}

func TestViewsAreOnesOwn(t *testing.T) {
	o := newOffice(t)
	by := Bearer{User: "gull"}
	for name, v := range map[string]contract.View{"no name": {Page: "slots", Name: "  "}, "no page": {Name: "x"},
		"a long name":         {Page: "slots", Name: strings.Repeat("ä", 61)},
		"a control character": {Page: "slots", Name: "a\nb"},
		"a long page":         {Page: strings.Repeat("x", 21), Name: "x"},
		"a long filter":       {Page: "slots", Name: "x", Query: strings.Repeat("x", mostQuery+1)}} {
		_, err := o.PutView(t.Context(), by, v)
		refused(t, err, problem.Invalid, name)
	}
	kept, err := o.PutView(t.Context(), by, contract.View{Page: "slots", Name: " " + strings.Repeat("ä", 60),
		Query: "site=Petrel"})
	if err != nil || kept.Name != strings.Repeat("ä", 60) {
		t.Errorf("%+v, %v", kept, err)
	}
	if all, _ := o.Views(t.Context(), Bearer{User: "tern"}); len(all) != 0 {
		t.Errorf("somebody else sees %+v", all)
	}
	for i := range mostViews - 1 {
		if _, err := o.PutView(t.Context(), by, contract.View{Page: "slots", Name: fmt.Sprint(i)}); err != nil {
			t.Fatal(err)
		}
	}
	_, err = o.PutView(t.Context(), by, contract.View{Page: "slots", Name: "one too many"})
	refused(t, err, problem.Invalid, "one too many")
	if all, err := o.Views(t.Context(), by); err != nil || len(all) != mostViews || all[0].Query != "site=Petrel" {
		t.Errorf("%d, %v", len(all), err)
	}
	refused(t, o.RemoveView(t.Context(), by, "slots", kept.Name), "", "one's own")
	refused(t, o.RemoveView(t.Context(), by, "slots", kept.Name), problem.NotFound, "the second time")
}

func TestTheAuditLogIsVerifiedAgainstANotedHead(t *testing.T) {
	o := newOffice(t)
	if head, err := o.Log.Head(t.Context()); err != nil || head.ID != 0 {
		t.Errorf("of an empty one: %+v, %v", head, err)
	}
	for i := range 3 {
		o.entries = append(o.entries, events.AuditEntry{ID: int64(i + 1), Hash: fmt.Sprint("h", i+1),
			At: store.At(o.at.AddDate(0, 0, i)), Who: "gull"})
	}
	if head, err := o.Log.Head(t.Context()); err != nil || head.ID != 3 || head.Hash != "h3" {
		t.Errorf("%+v, %v", head, err)
	}
	for head, fault := range map[string]string{"": "", "0:": "", "3:h3": "", "2:h2": "", "2:h9": "another hash",
		"4:h4": "its end was cut off"} {
		v, err := o.Log.Verify(t.Context(), head)
		if err != nil || v.Entries != 3 || v.Whole != (fault == "") || !strings.Contains(v.Fault, fault) {
			t.Errorf("%q: %+v, %v", head, v, err)
		}
	}
	for _, head := range []string{"h3", "three:h3"} {
		_, err := o.Log.Verify(t.Context(), head)
		refused(t, err, problem.Invalid, head)
	}
	o.wrong = errors.New("entry 2 does not fit entry 1")
	if v, err := o.Log.Verify(t.Context(), "3:h3"); err != nil || v.Whole || v.Fault != o.wrong.Error() {
		t.Errorf("%+v, %v", v, err)
	}
	for _, c := range []struct {
		f    contract.AuditFilter
		want int
	}{{contract.AuditFilter{}, 3}, {contract.AuditFilter{From: "2026-06-02"}, 2},
		{contract.AuditFilter{Until: "2026-06-01"}, 1},
		{contract.AuditFilter{From: "2026-06-02T12:00:01Z", Until: "2026-06-03"}, 1}} {
		rows, _, err := o.Log.Page(t.Context(), c.f, store.Page{})
		n, err2 := o.Log.Count(t.Context(), c.f)
		if err != nil || err2 != nil || len(rows) != c.want || n != c.want || !slices.IsSortedFunc(rows,
			func(a, b contract.AuditEntry) int { return int(b.ID - a.ID) }) {
			t.Errorf("%+v: %d rows, %d counted, %v %v", c.f, len(rows), n, err, err2)
		}
	}
	_, _, err := o.Log.Page(t.Context(), contract.AuditFilter{From: "last week"}, store.Page{})
	refused(t, err, problem.Invalid, "no time")
	_, err = o.Log.Count(t.Context(), contract.AuditFilter{Until: "soon"})
	refused(t, err, problem.Invalid, "no time")
}

// The audit log leaves as a sheet, newest first, in which no cell is a formula; more than a file can hold is refused
// before anything is written.
func TestTheAuditLogLeavesAsASheet(t *testing.T) {
	o := newOffice(t)
	o.entries = []events.AuditEntry{{ID: 1, At: store.At(o.at), Who: "gull", What: "=1+1", About: "a,\"b\"\x1b[2J"},
		{ID: 2, At: store.At(o.at.AddDate(0, 0, 1)), Who: "tern", What: "sign in"}}
	var sheet strings.Builder
	if err := o.Log.Sheet(t.Context(), &sheet, contract.AuditFilter{}, store.Page{}); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(sheet.String())).ReadAll()
	if err != nil || len(rows) != 3 || rows[1][2] != "tern" || rows[2][1] != "2026-06-01T12:00:00Z" ||
		rows[2][3] == "=1+1" || strings.Contains(sheet.String(), "\x1b") {
		t.Errorf("%v: %q", err, rows)
	}
	for i := range mostOfSheet {
		o.entries = append(o.entries, events.AuditEntry{ID: int64(i + 3), At: store.At(o.at)})
	}
	sheet.Reset()
	err = o.Log.Sheet(t.Context(), &sheet, contract.AuditFilter{}, store.Page{})
	if refused(t, err, problem.Invalid, "too many"); sheet.Len() > 0 {
		t.Errorf("%d bytes of a sheet that is refused", sheet.Len())
	}
	if err := o.Log.Sheet(t.Context(), &sheet, contract.AuditFilter{From: "2026-06-02"}, store.Page{}); err != nil ||
		strings.Count(sheet.String(), "\n") != 2 {
		t.Errorf("a part of it: %v, %q", err, sheet.String())
	}
}

func init() { peopleCost = machineCost } // what a password costs is not what these tests are about
