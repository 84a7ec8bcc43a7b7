package people

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/problem"

	"github.com/pquerna/otp/totp"
)

// code is what an authenticator shows at a moment.
func code(t *testing.T, secret string, at time.Time) string {
	t.Helper()
	text, err := totp.GenerateCode(secret, at)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// withFactor signs gull in and sets up an authenticator; it returns the secret, the recovery codes and the session.
func (o *office) withFactor(t *testing.T) (secret string, recovery []string, who Bearer) {
	t.Helper()
	b, err := o.signIn(t, "gull", "correct gull", false)
	if err != nil {
		t.Fatal(err)
	}
	made, err := o.Factors.SetUp(t.Context(), b)
	if err != nil {
		t.Fatal(err)
	}
	picture, found := strings.CutPrefix(made.Image, "data:image/png;base64,")
	png, err := base64.StdEncoding.DecodeString(picture)
	if !found || err != nil || !strings.HasPrefix(string(png), "\x89PNG") ||
		!strings.Contains(made.URI, "otpauth://totp/Fresh%20Seal:gull?secret="+made.Secret) {
		t.Errorf("%+v, %v", made, err)
	}
	_, err = o.Factors.Take(t.Context(), b, "000000")
	refused(t, err, problem.Invalid, "a wrong code at the set-up")
	codes, err := o.Factors.Take(t.Context(), b, code(t, made.Secret, o.at))
	if err != nil || len(codes.Codes) != recoveryCodes {
		t.Fatal(codes, err)
	}
	_, err = o.Factors.Take(t.Context(), b, code(t, made.Secret, o.at))
	refused(t, err, problem.Conflict, "a second time")
	b.Factor = true
	return made.Secret, codes.Codes, b
}

func (o *office) withCode(t *testing.T, code string) (Bearer, error) {
	t.Helper()
	return o.SignIn(t.Context(), contract.SignIn{User: "gull", Password: "correct gull", Code: code}, "192.0.2.1")
}

func TestACodeCountsOnce(t *testing.T) {
	o := newOffice(t)
	other, err := o.signIn(t, "gull", "correct gull", false)
	if err != nil {
		t.Fatal(err)
	}
	secret, recovery, own := o.withFactor(t)
	if _, err := o.Admit(t.Context(), own.Secret, "192.0.2.1"); err != nil {
		t.Errorf("the session in which it was set up: %v", err)
	}
	_, err = o.Admit(t.Context(), other.Secret, "192.0.2.1")
	refused(t, err, problem.Denied, "a session from before")

	_, err = o.withCode(t, "")
	refused(t, err, problem.NeedsCode, "without a code")
	_, err = o.SignIn(t.Context(), contract.SignIn{User: "gull", Password: "wrong"}, "192.0.2.1")
	refused(t, err, problem.Denied, "a wrong password does not say that there is a factor")
	_, err = o.withCode(t, code(t, secret, o.at))
	refused(t, err, problem.Denied, "the code of the set-up")

	o.at = o.at.Add(time.Minute)
	now := code(t, secret, o.at)
	b, err := o.withCode(t, now[:3]+" "+now[3:])
	if err != nil || !b.Factor {
		t.Fatalf("with a code: %+v, %v", b, err)
	}
	_, err = o.withCode(t, now)
	refused(t, err, problem.Denied, "the same code again")
	_, err = o.withCode(t, code(t, secret, o.at.Add(-30*time.Second)))
	refused(t, err, problem.Denied, "the code before it")
	_, err = o.withCode(t, code(t, secret, o.at.Add(2*time.Minute)))
	refused(t, err, problem.Denied, "a code of later")
	if b, err = o.withCode(t, code(t, secret, o.at.Add(30*time.Second))); err != nil {
		t.Errorf("an authenticator whose clock is ahead: %v", err)
	}

	if _, err = o.withCode(t, strings.ToLower(recovery[3])); err != nil {
		t.Errorf("a recovery code: %v", err)
	}
	_, err = o.withCode(t, recovery[3])
	refused(t, err, problem.Denied, "the same recovery code again")
	if last := o.acts[len(o.acts)-1]; last != "freshseal: wrong code gull from 192.0.2.1" {
		t.Error(last)
	}
	renewed, err := o.Factors.RenewRecoveryCodes(t.Context(), b)
	if err != nil || len(renewed.Codes) != recoveryCodes {
		t.Fatal(renewed, err)
	}
	o.at = o.at.Add(time.Hour)
	_, err = o.withCode(t, recovery[4])
	refused(t, err, problem.Denied, "an old recovery code")
	if _, err = o.withCode(t, renewed.Codes[4]); err != nil {
		t.Errorf("a new recovery code: %v", err)
	}
}

// Whoever guesses codes knows the password: they are counted wherever they come from.
func TestGuessedCodesAreSlowedDownFromEverywhere(t *testing.T) {
	o := newOffice(t)
	secret, _, _ := o.withFactor(t)
	o.at = o.at.Add(time.Hour)
	tried := 0
	for i := range 60 {
		_, err := o.SignIn(t.Context(), contract.SignIn{User: "gull", Password: "correct gull", Code: "12345" +
			string(rune('0'+i%10))}, "192.0.2."+string(rune('1'+i%9)))
		if p, ok := err.(*problem.Error); !ok || p.Kind != problem.Denied {
			refused(t, err, problem.TooMany, "guessing")
			continue
		}
		tried++
	}
	if tried > freeTries {
		t.Errorf("%d codes were tried", tried)
	}
	o.at = o.at.Add(longest)
	if _, err := o.withCode(t, code(t, secret, o.at)); err != nil {
		t.Errorf("the user, later: %v", err)
	}
}

func TestARoleMayNeedASecondFactor(t *testing.T) {
	o := newOffice(t)
	early, err := o.signIn(t, "gull", "correct gull", true)
	if err != nil {
		t.Fatal(err)
	}
	token, err := o.Tokens.Add(t.Context(), contract.NewToken{Label: "backup", Role: contract.Viewer, Days: 9},
		Bearer{User: "gull"})
	if err != nil {
		t.Fatal(err)
	}
	rules := usualPolicy
	rules.FactorFor = []contract.Role{contract.Admin, contract.Operator}
	if _, err := o.SetSignInPolicy(t.Context(), rules); err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string]func() (Bearer, error){
		"an earlier session": func() (Bearer, error) { return o.Admit(t.Context(), early.Secret, "192.0.2.1") },
		"a new one":          func() (Bearer, error) { return o.signIn(t, "gull", "correct gull", false) }} {
		if in, err := b(); err != nil || !in.MustSetUp {
			t.Errorf("%s: %+v, %v", name, in, err)
		}
	}
	if in, err := o.Admit(t.Context(), token.Secret, "192.0.2.1"); err != nil || in.MustSetUp {
		t.Errorf("a program has no authenticator: %+v, %v", in, err)
	}
	_, _, b := o.withFactor(t)
	if in, err := o.Admit(t.Context(), b.Secret, "192.0.2.1"); err != nil || in.MustSetUp || !in.Factor {
		t.Errorf("with a factor: %+v, %v", in, err)
	}
	refused(t, o.Factors.Remove(t.Context(), b), problem.Conflict, "removing what the role needs")
	if err := o.Factors.Reset(t.Context(), "gull"); err != nil {
		t.Error(err)
	}
	_, err = o.Admit(t.Context(), b.Secret, "192.0.2.1")
	refused(t, err, problem.Denied, "after the reset")
	refused(t, o.Factors.Reset(t.Context(), "gull"), problem.NotFound, "a second reset")
	o.memory.sessions[0].Factor = "" // a session without a factor of a user who has one by now
	for name, change := range map[string]func(*contract.SignInPolicy){
		"no hours":   func(p *contract.SignInPolicy) { p.ConsoleHours = 0 },
		"long idle":  func(p *contract.SignInPolicy) { p.ClientIdle = 366 },
		"a captain":  func(p *contract.SignInPolicy) { p.FactorFor = []contract.Role{"captain"} },
		"programs":   func(p *contract.SignInPolicy) { p.FactorFor = []contract.Role{contract.Monitor} },
		"no minutes": func(p *contract.SignInPolicy) { p.Confirm = -1 }} {
		p := usualPolicy
		change(&p)
		_, err := o.SetSignInPolicy(t.Context(), p)
		refused(t, err, problem.Invalid, name)
	}
}

func TestWhatCannotBeTakenBackAsksAgain(t *testing.T) {
	o := newOffice(t)
	b, err := o.signIn(t, "gull", "correct gull", false)
	if err != nil {
		t.Fatal(err)
	}
	admit := func() Bearer {
		t.Helper()
		in, err := o.Admit(t.Context(), b.Secret, "192.0.2.1")
		if err != nil {
			t.Fatal(err)
		}
		in.Secret = b.Secret
		return in
	}
	refused(t, o.Sure(t.Context(), admit()), "", "just after the sign-in")
	o.at = o.at.Add(15*time.Minute + time.Second)
	err = o.Sure(t.Context(), admit())
	refused(t, err, problem.Unconfirmed, "later")
	if p := err.(*problem.Error); len(p.Actions) != 1 || p.Actions[0].Do != next.Confirm {
		t.Errorf("%+v", p)
	}
	refused(t, o.Confirm(t.Context(), admit(), contract.Confirmation{Password: "wrong"}), problem.Denied, "wrong")
	refused(t, o.Sure(t.Context(), admit()), problem.Unconfirmed, "after a wrong password")
	refused(t, o.Confirm(t.Context(), admit(), contract.Confirmation{Password: "correct gull"}), "", "right")
	refused(t, o.Sure(t.Context(), admit()), "", "after the password")

	secret, _, with := o.withFactor(t)
	b = with
	o.at = o.at.Add(time.Hour)
	refused(t, o.Sure(t.Context(), admit()), problem.Unconfirmed, "an hour after the set-up")
	refused(t, o.Confirm(t.Context(), admit(), contract.Confirmation{Password: "correct gull"}), problem.NeedsCode,
		"a password does where there is a factor")
	now := contract.Confirmation{Code: code(t, secret, o.at)}
	refused(t, o.Confirm(t.Context(), admit(), now), "", "the code")
	refused(t, o.Confirm(t.Context(), admit(), now), problem.Denied, "the code again")
	refused(t, o.Sure(t.Context(), admit()), "", "after the code")

	for final, kind := range map[bool]problem.Kind{false: problem.Refused, true: ""} {
		token, err := o.Tokens.Add(t.Context(), contract.NewToken{Label: "program", Role: contract.Operator, Days: 9,
			Final: final}, b)
		if err != nil {
			t.Fatal(err)
		}
		in, err := o.Admit(t.Context(), token.Secret, "192.0.2.1")
		if err != nil {
			t.Fatal(err)
		}
		o.at = o.at.Add(time.Hour)
		refused(t, o.Sure(t.Context(), in), kind, "a token")
		refused(t, o.Confirm(t.Context(), in, now), problem.Conflict, "a token confirms")
		_, err = o.Factors.SetUp(t.Context(), in)
		refused(t, err, problem.Conflict, "a token sets up an authenticator")
		refused(t, o.Factors.Remove(t.Context(), in), problem.Conflict, "a token removes one")
		refused(t, o.ChangePassword(t.Context(), in, "correct gull", "another password"), problem.Conflict,
			"a token changes the password")
	}
	rules := usualPolicy
	rules.Confirm = 0
	if _, err := o.SetSignInPolicy(t.Context(), rules); err != nil {
		t.Fatal(err)
	}
	refused(t, o.Sure(t.Context(), admit()), "", "where nothing is asked")
}

func TestSessionsEndWithoutUse(t *testing.T) {
	o := newOffice(t)
	ends := map[string]Bearer{}
	for _, kind := range []string{"console", "client"} {
		b, err := o.signIn(t, "gull", "correct gull", kind == "client")
		if err != nil {
			t.Fatal(err)
		}
		ends[kind] = b
	}
	use := func(kind string, after time.Duration) error {
		o.at = o.at.Add(after)
		_, err := o.Admit(t.Context(), ends[kind].Secret, "192.0.2.7")
		return err
	}
	began := o.at
	refused(t, use("console", 2*time.Hour), "", "used just in time")
	o.storeUsed(t.Context())
	refused(t, use("console", 2*time.Hour), "", "used again")
	if _, err := o.Still(t.Context(), ends["console"].Secret, "192.0.2.7"); err != nil {
		t.Error(err)
	}
	refused(t, use("console", 2*time.Hour+time.Second), problem.Denied, "not used")
	o.at = began
	for range 5 {
		refused(t, use("client", 29*24*time.Hour/2), "", "a client that is used")
	}
	refused(t, use("client", 31*24*time.Hour), problem.Denied, "a client that was not")

	o.at = began
	all, err := o.Service.Sessions.List(t.Context(), ends["client"], true)
	if err != nil || len(all) != 2 || all[0].SeenFrom != "192.0.2.7" || all[0].Own == all[1].Own {
		t.Errorf("%+v, %v", all, err)
	}
	shorter := usualPolicy
	shorter.ConsoleHours = 1
	if _, err := o.SetSignInPolicy(t.Context(), shorter); err != nil {
		t.Fatal(err)
	}
	refused(t, use("console", time.Hour+time.Second), problem.Denied, "older than the policy allows by now")
	tern, err := o.signIn(t, "tern", "correct tern", false)
	if err != nil {
		t.Fatal(err)
	}
	refused(t, o.Service.Sessions.End(t.Context(), ends["client"], digest(tern.Secret)[:tokenID]), problem.NotFound,
		"somebody else's")
	refused(t, o.Service.Sessions.End(t.Context(), Bearer{User: "tern", Role: contract.Admin},
		digest(ends["client"].Secret)[:tokenID]), "", "by an admin")
	refused(t, use("client", 0), problem.Denied, "ended by an admin")
	refused(t, o.Service.Sessions.EndOf(t.Context(), "tern"), "", "all")
	if _, err := o.Admit(t.Context(), tern.Secret, ""); err == nil {
		t.Error("it goes on")
	}
	refused(t, o.Service.Sessions.EndOf(t.Context(), "nobody"), problem.NotFound, "of nobody")
}

func TestATokenHoldsInItsNetworksAlone(t *testing.T) {
	o := newOffice(t)
	by := Bearer{User: "tern"}
	for _, wrong := range []string{"192.0.2.0/33", "somewhere", "fe80::1%eth0", "::ffff:192.0.2.0/120"} {
		_, err := o.Tokens.Add(t.Context(), contract.NewToken{Label: "x", Role: contract.Viewer, Days: 1,
			Networks: []string{wrong}}, by)
		refused(t, err, problem.Invalid, wrong)
	}
	made, err := o.Tokens.Add(t.Context(), contract.NewToken{Label: "backup", Role: contract.Viewer, Days: 30,
		Networks: []string{"192.0.2.9/24", "2001:db8::7"}}, by)
	if err != nil || strings.Join(made.Networks, " ") != "192.0.2.0/24 2001:db8::7/128" {
		t.Fatalf("%+v, %v", made, err)
	}
	for from, kind := range map[string]problem.Kind{"192.0.2.200": "", "::ffff:192.0.2.5": "", "2001:db8::7": "",
		"192.0.3.1": problem.Denied, "2001:db8::8": problem.Denied, "": problem.Denied} {
		_, err := o.Admit(t.Context(), made.Secret, from)
		refused(t, err, kind, from)
	}
	before := len(o.acts)
	for range 50 {
		if _, err := o.Admit(t.Context(), made.Secret, "198.51.100.1"); err == nil {
			t.Fatal("it is let in")
		}
	}
	if said := o.acts[before:]; len(said) != 1 || !strings.Contains(said[0], `token refused token `+made.ID+
		` "backup" of tern from 198.51.100.1`) {
		t.Errorf("%q", said)
	}

	fresh, err := o.Tokens.Rotate(t.Context(), made.ID, contract.TokenRotation{Days: 30, Hours: 24})
	if err != nil || fresh.ID == made.ID || fresh.Label != "backup" || len(fresh.Networks) != 2 {
		t.Fatalf("%+v, %v", fresh, err)
	}
	for name, secret := range map[string]string{"the old one": made.Secret, "the new one": fresh.Secret} {
		if _, err := o.Admit(t.Context(), secret, "192.0.2.1"); err != nil {
			t.Errorf("%s, at once: %v", name, err)
		}
	}
	o.at = o.at.Add(24*time.Hour + time.Second)
	_, err = o.Admit(t.Context(), made.Secret, "192.0.2.1")
	refused(t, err, problem.Denied, "the old one, a day later")
	if _, err := o.Admit(t.Context(), fresh.Secret, "192.0.2.1"); err != nil {
		t.Errorf("the new one, a day later: %v", err)
	}
	for name, n := range map[string]contract.TokenRotation{"no days": {Hours: 1}, "long": {Days: 1, Hours: 169}} {
		_, err := o.Tokens.Rotate(t.Context(), fresh.ID, n)
		refused(t, err, problem.Invalid, name)
	}
	_, err = o.Tokens.Rotate(t.Context(), "nonesuch", contract.TokenRotation{Days: 1})
	refused(t, err, problem.NotFound, "none")
}
