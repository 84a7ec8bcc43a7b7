package e2e

import (
	"crypto/tls"
	"encoding/json"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite"
)

// as returns the service as a client with another token sees it.
func (s *server) as(role string) *server {
	s.t.Helper()
	secret := strings.TrimSpace(s.ok("token", "add", "a "+role+"'s", "--role", role, "--days", "1", "--final"))
	other := *s
	other.config = write(s.t, filepath.Join(s.t.TempDir(), role+".yaml"), "url: "+s.url+"\ncertificate: "+s.pin()+
		"\ntoken: "+secret+"\n")
	return &other
}

// Every route says which role it needs, and lets in just those who have it.
func TestEachRoleMayDoWhatItMay(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	rank := map[string]int{"monitor": 0, "viewer": 1, "approver": 2, "operator": 3, "admin": 4}
	// What must not be got wrong, whatever the description says.
	want := map[string]string{
		"GET /api/v1/slots": "viewer", "GET /api/v1/audit log": "viewer", "POST /api/v1/password": "viewer",
		"POST /api/v1/replacements": "operator", "POST /api/v1/replacements/{id}/revert": "operator",
		"POST /api/v1/intakes": "operator", "POST /api/v1/sweeps": "operator",
		"POST /api/v1/devices": "admin", "DELETE /api/v1/devices/{name}": "admin",
		"POST /api/v1/trust-groups/{name}/anchors": "admin", "POST /api/v1/sites": "admin",
		"GET /api/v1/users": "admin", "POST /api/v1/users": "admin", "POST /api/v1/tokens": "admin",
		"DELETE /api/v1/tokens/{id}": "admin", "POST /api/v1/replacements/{id}/approve": "approver",
		"PUT /api/v1/sign-in-policy": "admin", "DELETE /api/v1/users/{name}/factor": "admin",
	}
	// What cannot be taken back needs a token that was made for it.
	forGood := map[string]bool{"POST /api/v1/replacements/{id}/revert": true, "DELETE /api/v1/devices/{name}": true,
		"DELETE /api/v1/slots/{device}/{slot}":       true,
		"POST /api/v1/replacements/{id}/key-exports": true, "POST /api/v1/trust-groups/{name}/anchors": true,
		"POST /api/v1/users": true, "POST /api/v1/tokens": true, "PUT /api/v1/sign-in-policy": true,
		"GET /api/v1/backup": true}
	answer, err := client.Get(s.url + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var d struct {
		Paths map[string]map[string]struct{ Description string }
	}
	if err := json.NewDecoder(answer.Body).Decode(&d); err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, as := range []string{"monitor", "viewer", "approver", "operator", "admin", "admin --final"} {
		role, _, final := strings.Cut(as, " ")
		secret := strings.TrimSpace(s.ok(append([]string{"token", "add", role, "--days", "1", "--role"},
			strings.Fields(as)...)...))
		for path, methods := range d.Paths {
			for method, operation := range methods {
				route := strings.ToUpper(method) + " " + path
				needed, more, _ := strings.Cut(strings.TrimPrefix(operation.Description, "Needs the role "), ".")
				if forGood[route] && more == "" {
					t.Errorf("%s can be taken back", route)
				}
				if needed == "" || strings.HasPrefix(route, "DELETE /api/v1/session") {
					continue
				}
				if want[route] != "" && want[route] != needed {
					t.Errorf("%s needs %s instead of %s", route, needed, want[route])
				}
				r, err := newRequest(strings.ToUpper(method),
					s.url+strings.NewReplacer("{", "no-", "}", "").Replace(path), "", "")
				if err != nil {
					t.Fatal(err)
				}
				r.Header.Set("Authorization", "Bearer "+secret)
				r.Header.Set("Content-Type", "application/json")
				answer, err := client.Do(r)
				if err != nil {
					t.Fatal(err)
				}
				answer.Body.Close()
				// Whether approval changes is seen in the body of a policy.
				may := rank[role] >= rank[needed] && (more == "" || final)
				if refused := answer.StatusCode == 403; refused == may {
					t.Errorf("%s answers a token of %s with %d", route, as, answer.StatusCode)
				}
				tried++
			}
		}
	}
	if tried < 100 {
		t.Errorf("only %d calls were tried", tried)
	}
	s.as("viewer").fails(1, "needs the role operator", "replace", gate+"/web", "--signer", "bench")
}

func TestUsersComeAndGo(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "operator", "--password-file", "-")
	tern := *s
	tern.config = filepath.Join(t.TempDir(), "tern.yaml")
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
		s.pin())
	tern.fails(1, "needs the role admin", "user", "list")
	tern.fails(1, "fewer than 10 characters", "user", "password", "--old-file",
		write(t, filepath.Join(t.TempDir(), "old"), "salt and tar and rope"), "--new-file",
		write(t, filepath.Join(t.TempDir(), "new"), "short"))
	s.ok("user", "remove", "tern")
	tern.fails(1, "you are not signed in", "slot", "list")
	s.fails(1, "there is no other admin", "user", "remove", "admin")

	// Guessing is slowed down, for everybody who comes from there.
	refused := false
	for try := 0; !refused && try < 40; try++ { // on a slow machine, tries are forgiven meanwhile
		r := s.run("wrong wrong wrong", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
			s.pin())
		if refused = strings.Contains(r.stderr, "too many wrong passwords"); !refused &&
			!strings.Contains(r.stderr, "the name or the password is wrong") || refused && try < 5 {
			t.Fatalf("try %d: %s", try, r.stderr)
		}
	}
	if !refused {
		t.Error("guessing is not slowed down")
	}

	// The audit log has it all, refusals too, and shows when somebody changed it.
	audit := s.ok("audit", "list", "--as", "csv")
	for _, want := range []string{"admin,add a user,/users", "tern,sign in,", "admin,remove a user; all sessions " +
		"end,/users/tern", "admin,remove a user; all sessions end: refused,/users/admin"} {
		if !strings.Contains(audit, want) {
			t.Errorf("the audit log lacks %q:\n%s", want, audit)
		}
	}
	s.ok("audit", "verify")
	s.stop()
	forge(t, filepath.Join(s.dir, "freshseal.db"))
	again := start(t, "serve", s.dir)
	again.config = write(t, filepath.Join(t.TempDir(), "client.yaml"),
		strings.Replace(read(t, s.config), s.url, again.url, 1))
	again.fails(3, "is not what was written", "audit", "verify")
}

// forge does what somebody with the file in hand could do.
func forge(t *testing.T, file string) {
	t.Helper()
	db, err := sqlx.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range []string{"DROP TRIGGER audit_stays_as_written", "UPDATE audit SET who = 'gull' " +
		"WHERE id = 2"} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
}
