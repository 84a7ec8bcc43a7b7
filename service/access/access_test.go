package access_test

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/strongbox"
)

const pin = "ssh-ed25519 SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

func room(t *testing.T) (*access.Service, *store.Store) {
	t.Helper()
	db, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "freshseal.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	box, err := strongbox.Open(filepath.Join(t.TempDir(), "strongbox.key"))
	if err != nil {
		t.Fatal(err)
	}
	return access.New(db, box, nil, time.Now), db
}

func text(s string) *string { return &s }

// What is said of a device's access is taken whole or refused with what is missing.
func TestAccessIsCheckedLinkByLink(t *testing.T) {
	s, _ := room(t)
	if _, err := s.AddCredential(t.Context(),
		contract.NewCredential{Name: "keepers", CredentialChange: contract.CredentialChange{User: "keeper",
			Secrets: contract.Secrets{Password: "x"}}}); err != nil {
		t.Fatal(err)
	}
	low, high := 0, 70000
	own := contract.AccessChange{User: text("keeper"), Pin: text(pin),
		Secrets: contract.Secrets{Password: "correct horse"}}
	with := func(change func(*contract.AccessChange)) []contract.AccessChange {
		c := own
		change(&c)
		return []contract.AccessChange{c}
	}
	for about, c := range map[string]struct {
		changes []contract.AccessChange
		needed  []string
		why     string // empty: it is accepted
	}{
		"all that is needed": {with(func(*contract.AccessChange) {}), []string{"ssh"}, ""},
		"a shared credential": {[]contract.AccessChange{{Credential: text("keepers"), Pin: text(pin)}},
			[]string{"ssh"}, ""},
		"nothing, and nothing needed": {nil, []string{"person"}, ""},
		"nothing, and a link needed":  {nil, []string{"ssh"}, "needs access over ssh"},
		"a link that nobody knows": {with(func(c *contract.AccessChange) { c.Link = "carrier-pigeon" }), nil,
			`no link is called "carrier-pigeon"`},
		"no user": {with(func(c *contract.AccessChange) { c.User = nil }), nil, "no user"},
		"no secret": {with(func(c *contract.AccessChange) {
			c.Secrets = contract.Secrets{}
		}), nil, "neither a password nor a key"},
		"a key that is none": {with(func(c *contract.AccessChange) {
			c.Secrets = contract.Secrets{Key: "x"}
		}), nil, "cannot be read"},
		"no pin": {with(func(c *contract.AccessChange) { c.Pin = nil }), nil,
			"host key is missing"},
		"a pin that is none": {with(func(c *contract.AccessChange) { c.Pin = text("SHA256:x") }), nil,
			"is not a host key"},
		"a pin with a line end": {with(func(c *contract.AccessChange) { c.Pin = text(pin + "\nx") }), nil,
			"is not a host key"},
		"a pin with bits and brackets": {with(func(c *contract.AccessChange) {
			c.Pin = text("256 " + strings.Fields(pin)[1] + "= quay (ED25519)\n")
		}), nil, ""},
		"port 0": {with(func(c *contract.AccessChange) { c.Port = &low }), nil,
			"0 is not a port"},
		"port 70000": {with(func(c *contract.AccessChange) { c.Port = &high }), nil,
			"70000 is not a port"},
		"an address that is none": {with(func(c *contract.AccessChange) { c.Address = text("a b") }), nil,
			"neither an IP address"},
		"an option": {with(func(c *contract.AccessChange) {
			c.Options = map[string]string{"old_algorithms": "yes"}
		}), nil, ""},
		"an option that nobody knows": {with(func(c *contract.AccessChange) {
			c.Options = map[string]string{"speed": "high"}
		}), nil, "is not an option of ssh"},
		"an option with another value": {with(func(c *contract.AccessChange) {
			c.Options = map[string]string{"old_algorithms": "perhaps"}
		}), nil, "is not an option of ssh"},
		"a credential and a user": {with(func(c *contract.AccessChange) {
			c.Credential = text("keepers")
		}), nil, "both a shared credential and its own"},
		"a credential that is not there": {[]contract.AccessChange{{Credential: text("strangers"), Pin: text(pin)}},
			nil, "no credential is called"},
		"two links, of which one is none": {append(with(func(*contract.AccessChange) {}),
			contract.AccessChange{Link: "telnet"}), nil, `no link is called "telnet"`},
	} {
		ways, err := s.Change(t.Context(), "the device cannot be added", "gate", nil, c.changes, c.needed, false)
		var said *problem.Error
		switch {
		case c.why == "" && err != nil:
			t.Errorf("%s: %v", about, err)
		case c.why != "" && (!errors.As(err, &said) || !strings.Contains(said.Error(), c.why)):
			t.Errorf("%s: %v, want %q", about, err, c.why)
		case c.why == "" && len(c.changes) > 0 && (len(ways.Access) != 1 || ways.Access[0].Port != 22 ||
			ways.Access[0].Link != "ssh"):
			t.Errorf("%s: %+v", about, ways.Access)
		}
	}
}

// A change leaves what it does not name: the secrets of a device stay until it is given
// others or a shared credential, and are gone then.
func TestASecretStaysUntilAnotherTakesItsPlace(t *testing.T) {
	s, db := room(t)
	if _, err := s.AddCredential(t.Context(),
		contract.NewCredential{Name: "keepers", CredentialChange: contract.CredentialChange{User: "shared",
			Secrets: contract.Secrets{Password: "everybody's"}}}); err != nil {
		t.Fatal(err)
	}
	cannot := "it cannot"
	first, err := s.Change(t.Context(), cannot, "gate", nil,
		[]contract.AccessChange{{User: text("keeper"), Pin: text(pin),
			Secrets: contract.Secrets{Password: "correct horse"}}}, nil, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: "gate", Address: "192.0.2.1"}, Access: first.Access,
			Secrets: first.Secrets, Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	change := func(c contract.AccessChange) {
		t.Helper()
		d, err := db.Devices.Get(t.Context(), "gate")
		if err != nil {
			t.Fatal(err)
		}
		was, err := db.Devices.Access(t.Context(), d.ID)
		if err != nil {
			t.Fatal(err)
		}
		ways, err := s.Change(t.Context(), cannot, "gate", was[d.ID], []contract.AccessChange{c}, nil, false)
		if err != nil {
			t.Fatal(err)
		}
		if err := db.Devices.Change(t.Context(), store.DeviceEdit{Device: d, Access: ways.Access,
			Secrets: ways.Secrets, Gone: ways.Gone, Known: store.Any}); err != nil {
			t.Fatal(err)
		}
	}
	signsIn := func(user, password, address string) {
		t.Helper()
		d, _ := db.Devices.Get(t.Context(), "gate")
		target, err := s.SSH(t.Context(), d)
		if err != nil || target.User != user || target.Password != password || target.Address != address ||
			target.HostKey != pin {
			t.Errorf("%v, %s with %q at %s", err, target.User, target.Password, target.Address)
		}
	}
	signsIn("keeper", "correct horse", "192.0.2.1:22")
	port := 2222
	d, _ := db.Devices.Get(t.Context(), "gate")
	now, _ := db.Devices.Access(t.Context(), d.ID)
	for about, c := range map[string]contract.AccessChange{"the port": {Port: &port},
		"the address": {Address: text("203.0.113.66")}, "the pin": {Pin: text(strings.Replace(pin, "AAA", "BBB", 1))}} {
		if _, err := s.Change(t.Context(), cannot, "gate", now[d.ID], []contract.AccessChange{c}, nil,
			false); err == nil || !strings.Contains(err.Error(), "given for another address") {
			t.Errorf("%s can be changed without the secret: %v", about, err)
		}
	}
	if _, err := s.Change(t.Context(), cannot, "gate", now[d.ID], nil, nil, true); err == nil {
		t.Error("the device can be moved without the secret")
	}
	change(contract.AccessChange{Port: &port, Address: text("192.0.2.9"),
		Secrets: contract.Secrets{Password: "correct horse"}})
	signsIn("keeper", "correct horse", "192.0.2.9:2222")
	change(contract.AccessChange{Secrets: contract.Secrets{Password: "battery staple"}})
	signsIn("keeper", "battery staple", "192.0.2.9:2222")
	change(contract.AccessChange{Credential: text("keepers")})
	signsIn("shared", "everybody's", "192.0.2.9:2222")
	if _, err := db.Secrets.Get(t.Context(), "device/gate/password"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("its own password is still kept: %v", err)
	}
	was, _ := db.Devices.Access(context.Background(), d.ID)
	if _, err := s.Change(t.Context(), cannot, "gate", was[d.ID],
		[]contract.AccessChange{{Credential: text(""), User: text("keeper")}}, nil, false); err == nil {
		t.Error("its own again, without a secret, is accepted")
	}
	shown := access.Show(was[d.ID])
	if len(shown) != 1 || shown[0].Credential != "keepers" || shown[0].User != "" || shown[0].Options == nil {
		t.Errorf("shown: %+v", shown)
	}
}

// A fingerprint is taken in every form in which browsers and tools show it, and kept in one.
func TestAFingerprintIsTakenInEveryForm(t *testing.T) {
	plain := strings.Repeat("0a1b2c3d", 8)
	colons := strings.ToUpper(strings.TrimSuffix(strings.ReplaceAll(plain, "0a1b2c3d", "0a:1b:2c:3d:"), ":"))
	s, _ := room(t)
	for _, form := range []string{plain, strings.ToUpper(plain), colons, "SHA256 Fingerprint=" + colons, "sha256:" +
		plain, "SHA-256: " + strings.ReplaceAll(colons, ":", " "), " " + plain + "\n", "=" + plain} {
		user, word := "webkeeper", "salt"
		ways, err := s.Change(t.Context(), "the device cannot be added", "gate", nil,
			[]contract.AccessChange{{Link: "https", User: &user, Pin: &form,
				Secrets: contract.Secrets{Password: word}}}, nil, false)
		if err != nil || ways.Access[0].Pin != plain {
			t.Errorf("%q: %v", form, err)
		}
	}
	for _, form := range []string{"", "0a:1b", plain + "00", strings.Replace(plain, "0", "g", 1), plain[:32] + "\n" +
		plain[32:]} {
		user := "webkeeper"
		if _, err := s.Change(t.Context(), "the device cannot be added", "gate", nil,
			[]contract.AccessChange{{Link: "https", User: &user, Pin: &form,
				Secrets: contract.Secrets{Password: "salt"}}}, nil, false); err == nil {
			t.Errorf("%q is taken for a fingerprint", form)
		}
	}
}
