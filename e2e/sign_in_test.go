package e2e

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/e2e/browser"

	"github.com/pquerna/otp/totp"
)

// authenticator makes codes; each counts once.
type authenticator struct {
	secret string
	used   int64 // step of the last code that was given
}

// code returns the next code that the service takes: of the step before now, of now or of the one after, whatever was
// not used yet. Where all were, it waits for the clock.
func (a *authenticator) code(t testing.TB) string {
	t.Helper()
	const step = 30
	for time.Now().Unix()/step+1 < a.used+1 {
		time.Sleep(time.Second)
	}
	a.used = max(a.used+1, time.Now().Unix()/step-1)
	text, err := totp.GenerateCode(strings.ReplaceAll(a.secret, " ", ""), time.Unix(a.used*step, 0))
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// later makes all sessions as old as if their passwords and codes had been given long ago.
func (s *server) later(dir string) {
	s.t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "freshseal.db")+"?_pragma=busy_timeout(5000)")
	if err != nil {
		s.t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`UPDATE session SET confirmed_at = 1`); err != nil {
		s.t.Fatal(err)
	}
}

// setUp sets up an authenticator with the client and returns it with the recovery codes, and the code that it gave.
func (s *server) setUp() (a *authenticator, recovery []string, first string) {
	s.t.Helper()
	r := s.run("", "factor", "add")
	found := regexp.MustCompile(`(?m)^  ([A-Z2-7]{4} [A-Z2-7 ]+)$`).FindStringSubmatch(r.stderr)
	if r.code != 0 || found == nil {
		s.t.Fatalf("%+v", r)
	}
	s.failsWith("000000", 1, "the code is wrong", "factor", "code", "--code-file", "-")
	a = &authenticator{secret: found[1]}
	first = a.code(s.t)
	lines := strings.Split(strings.TrimSpace(s.okWith(first, "factor", "code", "--code-file", "-")), "\n")
	return a, lines[1:], first
}

// A person sets up an authenticator with the client, signs in with it, is asked again before what cannot be taken
// back, loses it, gets in by a recovery code, loses these too, and is let in by an admin.
func TestAnAuthenticatorFromTheClient(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	own, _, _ := s.setUp()
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "admin", "--password-file", "-")
	tern := *s
	tern.config = filepath.Join(t.TempDir(), "tern.yaml")
	password := write(t, filepath.Join(t.TempDir(), "password"), "salt and tar and rope")
	signIn := []string{"login", s.url, "--user", "tern", "--password-file", password, "--certificate", s.pin()}
	withCode := append(signIn, "--code-file", "-")
	tern.ok(signIn...)

	s.ok("sign-in", "set", "--factor-for", "admin", "--confirm", "5")
	tern.fails(1, "set up a second factor first", "slot", "list")
	theirs, recovery, first := tern.setUp()
	secret := theirs.secret
	if len(recovery) != 10 {
		t.Errorf("%q", recovery)
	}
	tern.ok("slot", "list")

	tern.fails(2, "--code-file", signIn...)
	tern.failsWith(first, 1, "was used before", withCode...)
	second := theirs.code(t)
	tern.okWith(second, withCode...)
	tern.failsWith(second, 1, "was used before", withCode...)

	// What cannot be taken back asks again, and a replayed code is of no use.
	tern.ok("device", "add", "lantern.example", "--address", "192.0.2.9")
	s.later(s.dir)
	tern.fails(1, "freshseal confirm", "device", "remove", "lantern.example", "--yes")
	tern.failsWith(second, 1, "was used before", "confirm", "--code-file", "-")
	tern.okWith(theirs.code(t), "confirm", "--code-file", "-")
	tern.ok("device", "remove", "lantern.example", "--yes")

	// A token was made for it, or not.
	for _, final := range []bool{false, true} {
		args := []string{"token", "add", fmt.Sprint("final ", final), "--role", "admin", "--network", "127.0.0.0/8"}
		if final {
			args = append(args, "--final")
		}
		program := *s
		program.config = write(t, filepath.Join(t.TempDir(), "program.yaml"), "url: "+s.url+"\ncertificate: "+s.pin()+
			"\ntoken: "+strings.TrimSpace(tern.ok(args...))+"\n")
		program.ok("device", "add", "lantern.example", "--address", "192.0.2.9")
		if final {
			program.ok("device", "remove", "lantern.example", "--yes")
			continue
		}
		program.fails(1, "not made for it", "device", "remove", "lantern.example", "--yes")
		program.failsWith("123456", 1, "a token cannot confirm", "confirm", "--code-file", "-")
		tern.ok("device", "remove", "lantern.example", "--yes")
	}
	far := strings.TrimSpace(tern.ok("token", "add", "far", "--role", "viewer", "--network", "192.0.2.0/24"))
	if answer, text := (caller{t, s.url + "/api/v1", far, s.caller(t).http}).does("GET", "/status", "",
		""); answer.StatusCode != 401 || !strings.Contains(text, "may not be used from 127.0.0.1") {
		t.Errorf("a stolen token: %d %s", answer.StatusCode, text)
	}

	// The authenticator is lost; then the recovery codes are, too.
	tern.okWith(strings.ToLower(recovery[9]), withCode...)
	tern.failsWith(recovery[9], 1, "was used before", withCode...)
	s.fails(1, "freshseal confirm", "user", "reset-factor", "tern")
	s.okWith(own.code(t), "confirm", "--code-file", "-")
	s.ok("user", "reset-factor", "tern")
	tern.fails(1, "you are not signed in", "slot", "list")
	tern.ok(signIn...)
	tern.fails(1, "set up a second factor first", "slot", "list")

	// All of it is in the audit log, with how it was asked for; it verifies, also what was written before.
	log := s.ok("audit", "list", "--as", "csv", "--most", "1000")
	for _, want := range []string{`sign in with a code,`, `sign in with a recovery code,`, `wrong code,tern from`,
		`token refused,"token `, `token \w+ ""final true"""`, `client \w+, password and code",127\.0\.0\.1`} {
		if !regexp.MustCompile(want).MatchString(log) {
			t.Errorf("the audit log lacks %q:\n%s", want, log)
		}
	}
	for _, code := range append(recovery, secret, strings.ReplaceAll(secret, " ", "")) {
		if strings.Contains(log, code) || strings.Contains(s.log.String(), code) {
			t.Error("a secret is in the audit log or in the log")
		}
	}
	s.ok("audit", "verify")
	dir := t.TempDir()
	s.ok("audit", "export", "--out", dir+"/all.jsonl")
	head := strings.TrimSpace(s.ok("audit", "head"))
	s.ok("audit", "export", "--out", dir+"/more.jsonl")
	s.kill() // the files are verified without the service
	s.ok("audit", "verify", dir+"/all.jsonl")
	s.fails(3, "whose head was noted, is not there", "audit", "verify", dir+"/all.jsonl", "--head", head)
	s.ok("audit", "verify", dir+"/more.jsonl", "--head", head)
	s.fails(3, "does not follow", "audit", "verify", dir+"/all.jsonl", dir+"/more.jsonl")
	changed := write(t, dir+"/changed.jsonl", strings.Replace(read(t, dir+"/all.jsonl"), `"who":"tern"`,
		`"who":"admin"`, 1))
	s.fails(3, "is not what was written", "audit", "verify", changed)
	// Who has lost everything is let in again by who has the folder of the stopped service.
	reset := s.ok("reset-sign-in", "tern", "--dir", s.dir)
	s.fails(1, "there is no database", "reset-sign-in", "tern", "--dir", t.TempDir())
	s.fails(1, `no user is called "skua"`, "reset-sign-in", "skua", "--dir", s.dir)
	again := startAt(t, "serve", s.dir, strings.TrimPrefix(s.url, "https://"))
	again.config = s.config
	s = again
	s.fails(1, "another service runs on it", "reset-sign-in", "tern", "--dir", s.dir)
	tern.okWith(strings.TrimSpace(strings.TrimPrefix(reset, "password: ")), append(signIn[:4:4], "--password-file", "-",
		"--certificate", s.pin())...)
	var sessions []contract.SignedIn
	s.json(&sessions, "session", "list", "--all")
	if len(sessions) != 2 {
		t.Errorf("signed in are %+v", sessions)
	}
	for _, one := range sessions {
		if !one.Own {
			s.ok("session", "remove", one.ID)
		}
	}
	tern.fails(1, "you are not signed in", "slot", "list")
}

// The same in the browser: the set-up by its picture's secret, a sign-in with a code, and the question before what
// cannot be taken back, after which the call goes on.
func TestAnAuthenticatorInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	r := &rules{t: t, p: p, axe: string(axe), within: "html"}
	// looks looks at a page by the rules of accessibility, wide and narrow, in light and dark colours.
	looks := func(what string) func() error {
		return func() error {
			r.look(what)
			r.dark(what)
			if err := p.Size(390, 844); err != nil {
				return err
			}
			r.look("narrow " + what)
			wide, err := p.Eval("String(document.documentElement.scrollWidth > 391)")
			if err != nil || wide != "false" {
				t.Errorf("narrow %s is too wide: %v", what, err)
			}
			return p.Size(1280, 800)
		}
	}
	a := &authenticator{}
	steps(t,
		func() error { return p.Go("/settings/account") },
		func() error {
			return p.Wait("//section[contains(.,'Where you are signed in')]//*[contains(.,'(this one)')]")
		},
		func() error { return p.Click(browser.Button("Set up an authenticator")) },
		func() error { return p.Wait("//img[contains(@alt,'QR code')]") },
		func() (err error) {
			a.secret, err = p.Eval("document.querySelector('[data-secret]').dataset.secret")
			return err
		},
		func() error { return p.Type("//main//*[@data-field='code']", "000000") },
		func() error { return p.Click(browser.Button("Put it into use")) },
		func() error { return p.Wait("//p[contains(.,'code is wrong')]") },
		func() error { return p.Type("//main//*[@data-field='code']", a.code(t)) },
		func() error { return p.Click(browser.Button("Put it into use")) },
		func() error { return p.Wait("//pre[@data-recovery]") },
		looks("the recovery codes"),
		func() error { return keepPicture(p, "recovery-codes") },
		func() error { return p.Click(browser.Button("I have kept them")) },
		func() error {
			return p.Wait("//*[.='You sign in with your password and a code of your authenticator.']")
		},

		func() error { return p.Click("//button[contains(.,'Sign out') and contains(.,'admin')]") },
		func() error { return p.Wait("//form[@aria-label='Sign in']") },
	)
	_, password, _ := strings.Cut(read(t, s.dir+"/data/first-sign-in.txt"), "password: ")
	steps(t,
		func() error { return p.Type("#user", "admin") },
		func() error { return p.Type("#password", strings.TrimSpace(password)) },
		func() error { return p.Click(browser.Button("Sign in")) },
		func() error { return p.Wait("//*[.='Or one of your recovery codes.']") },
		looks("the sign-in with a code"),
		func() error { return p.Type("#code", a.code(t)) },
		func() error { return p.Click(browser.Button("Sign in")) },
		func() error { return p.Wait("//nav") },
		func() error { return p.Go("/devices/" + gate) },
		func() error { return p.Wait("//h1[contains(.,'" + gate + "')]") },
	)
	s.later(s.dir + "/data")
	confirm := dialog("Confirm that it is you")
	steps(t,
		func() error { return p.Click(browser.Button("Remove")) },
		func() error { return p.Click("//*[@role='dialog']//button[.='Remove']") },
		func() error { return p.Wait(confirm) },
		looks("the confirmation"),
		func() error { return p.Click(browser.Button("Do not do it")) },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'onfirm that it is you')]") },
		func() error { return p.Click("//*[@role='dialog']//button[.='Remove']") },
		func() error { return p.Wait(confirm) },
		func() error { return p.Type("#confirm-given", "123456") },
		func() error { return p.Click(browser.Button("Confirm")) },
		func() error { return p.Wait("//*[@role='alert' and contains(.,'code is wrong')]") },
		func() error { return p.Type("#confirm-given", a.code(t)) },
		func() error { return p.Click(browser.Button("Confirm")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Wait("//h1[.='Devices' or contains(.,'Devices')]") },
	)
	// The set-up has ended the other sessions: the demo's client signs in again, with a code.
	s.fails(1, "you are not signed in", "device", "show", gate)
	db, err := sql.Open("sqlite", filepath.Join(s.dir, "data", "freshseal.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var left int
	if err := db.QueryRow(`SELECT count(*) FROM device WHERE name = ?`, gate).Scan(&left); err != nil || left != 0 {
		t.Errorf("%d devices are called %s, %v", left, gate, err)
	}
}
