package accounts_test

import (
	"errors"
	"fmt"
	"testing"

	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/faulty"
)

// People come, sign in and go; whatever statement the disk fails at, each change is whole or not at all.
func TestPeopleOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	later := store.At(testkit.Now.AddDate(0, 0, 7))
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	tern := accounts.User{Name: "tern", Role: "admin", Password: "x", AddedAt: at}
	whole(func() error { return s.Users.Add(ctx, tern) })
	whole(func() error { return s.Users.Add(ctx, accounts.User{Name: "gull", Role: "viewer", Password: "y"}) })
	if err := s.Users.Add(ctx, tern); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second tern: %v", err)
	}
	whole(func() error {
		n, err := s.Users.Count(ctx)
		if err == nil && n != 2 {
			t.Errorf("%d users", n)
		}
		return err
	})
	whole(func() error {
		all, err := s.Users.List(ctx)
		if err == nil && (len(all) != 2 || all[0].Name != "gull" || !all[1].AddedAt.Equal(testkit.Now)) {
			t.Errorf("%+v", all)
		}
		return err
	})
	add := func(secret, user, kind string, began, ends store.Moment) {
		t.Helper()
		seen, err := s.Users.Get(ctx, user)
		if err != nil {
			t.Fatal(err)
		}
		whole(func() error {
			return s.Sessions.Add(ctx, accounts.Session{SHA256: secret, User: user, Kind: kind, Role: seen.Role,
				BeganAt: began, EndsAt: ends, Label: secret}, seen)
		})
	}
	add("aa1", "tern", "console", at, later)
	add("ab2", "tern", "client", at, later)
	add("ac3", "gull", "client", at, at)
	stale := tern
	stale.Password = "of yesterday"
	if err := s.Sessions.Add(ctx, accounts.Session{SHA256: "zz", User: "tern"}, stale); !errors.Is(err,
		store.ErrStale) {
		t.Errorf("who was changed meanwhile signs in: %v", err)
	}
	names := func(rows []accounts.Session) string {
		var out []string
		for _, r := range rows {
			out = append(out, r.SHA256+" "+r.Now)
		}
		return fmt.Sprint(out)
	}
	for want, list := range map[string]func() ([]accounts.Session, error){
		"[ab2 admin ac3 viewer]": func() ([]accounts.Session, error) { return s.Sessions.Tokens(ctx, at) },
		"[ab2 admin]":            func() ([]accounts.Session, error) { return s.Sessions.Tokens(ctx, later) },
		"[aa1 admin]": func() ([]accounts.Session, error) {
			return s.Sessions.Of(ctx, "tern", "console", at)
		},
		"[ac3 viewer ab2 admin]": func() ([]accounts.Session, error) { return s.Sessions.ThatEnd(ctx, at) },
	} {
		whole(func() error {
			rows, err := list()
			if err == nil && names(rows) != want {
				t.Errorf("%s, want %s", names(rows), want)
			}
			return err
		})
	}
	whole(func() error {
		found, err := s.Sessions.Get(ctx, "aa1", later)
		if err == nil && (found.User != "tern" || found.Now != "admin" || found.Label != "aa1") {
			t.Errorf("%+v", found)
		}
		return err
	})
	if _, err := s.Sessions.Get(ctx, "ac3", later); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("one that has ended: %v", err)
	}
	// a new session clears away those that have ended
	add("ad4", "tern", "client", later, later)
	if rows, err := s.Sessions.ThatEnd(ctx, store.Moment{}); err != nil || names(rows) != "[ab2 admin ad4 admin]" {
		t.Errorf("%s, %v", names(rows), err)
	}
	whole(func() error { return s.Users.SetPassword(ctx, "tern", "z", "aa1") })
	if rows, err := s.Sessions.ThatEnd(ctx, at); err != nil || len(rows) != 0 {
		t.Errorf("after another password: %s, %v", names(rows), err)
	}
	if err := s.Users.SetPassword(ctx, "auk", "z", ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the password of nobody: %v", err)
	}
	whole(func() error { return s.Sessions.End(ctx, "aa") })
	if err := s.Sessions.End(ctx, "aa"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("ended twice: %v", err)
	}
	add("ae5", "gull", "client", at, later)
	whole(func() error { return s.Sessions.EndOf(ctx, "gull") })
	if _, err := s.Sessions.Get(ctx, "ae5", at); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("after all were ended: %v", err)
	}
	allowed := func(left []accounts.User) error {
		if len(left) == 0 {
			return errors.New("nobody is left")
		}
		return nil
	}
	gull := accounts.User{Name: "gull", Role: "operator", Password: "y"}
	whole(func() error { return s.Users.Change(ctx, gull, allowed) })
	if now, err := s.Users.Get(ctx, "gull"); err != nil || now.Role != "operator" {
		t.Errorf("%+v, %v", now, err)
	}
	if err := s.Users.Change(ctx, accounts.User{Name: "auk"}, allowed); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("nobody is changed: %v", err)
	}
	whole(func() error { return s.Users.Remove(ctx, "gull", allowed) })
	if err := s.Users.Remove(ctx, "tern", allowed); err == nil {
		t.Error("nobody is left")
	}
}

// Views are replaced by their name, up to a bound; credentials are kept with their secrets and their revision.
func TestViewsAndCredentialsOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx := t.Context()
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	if err := s.Users.Add(ctx, accounts.User{Name: "tern", Role: "admin", Password: "x"}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"b", "a"} {
		whole(func() error {
			return s.Users.PutView(ctx, accounts.View{User: "tern", Page: "slots", Name: name, Query: "site=1"}, 2)
		})
	}
	whole(func() error {
		return s.Users.PutView(ctx, accounts.View{User: "tern", Page: "slots", Name: "a", Query: "site=2"}, 2)
	})
	if err := s.Users.PutView(ctx, accounts.View{User: "tern", Page: "slots", Name: "c"}, 2); !errors.Is(err,
		store.ErrTaken) {
		t.Errorf("a third: %v", err)
	}
	whole(func() error {
		views, err := s.Users.Views(ctx, "tern")
		if err == nil && (len(views) != 2 || views[0].Name != "a" || views[0].Query != "site=2") {
			t.Errorf("%+v", views)
		}
		return err
	})
	whole(func() error { return s.Users.RemoveView(ctx, "tern", "slots", "a") })
	if err := s.Users.RemoveView(ctx, "tern", "slots", "a"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}

	whole(func() error {
		return s.Credentials.Add(ctx, accounts.Credential{Name: "quay", User: "root"},
			map[string][]byte{"credential/quay/password": []byte("sealed")})
	})
	if err := s.Credentials.Add(ctx, accounts.Credential{Name: "quay"}, nil); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second one: %v", err)
	}
	now, err := s.Credentials.Get(ctx, "quay")
	if err != nil {
		t.Fatal(err)
	}
	whole(func() error {
		now.User = "operator"
		return s.Credentials.Change(ctx, now, map[string][]byte{"credential/quay/key": []byte("sealed")}, now.Revision,
			"credential/quay/password")
	})
	if err := s.Credentials.Change(ctx, now, nil, now.Revision); !errors.Is(err, store.ErrStale) {
		t.Errorf("by what was looked at before: %v", err)
	}
	if err := s.Credentials.Change(ctx, accounts.Credential{Name: "mole"}, nil, store.Any); !errors.Is(err,
		store.ErrNotFound) {
		t.Errorf("one that is not there: %v", err)
	}
	whole(func() error {
		all, err := s.Credentials.List(ctx)
		if err == nil && (len(all) != 1 || all[0].User != "operator" || all[0].Revision != now.Revision+1) {
			t.Errorf("%+v", all)
		}
		return err
	})
	if _, err := s.Secrets.Get(ctx, "credential/quay/password"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the old secret: %v", err)
	}
	whole(func() error {
		key, err := s.Secrets.Get(ctx, "credential/quay/key")
		if err == nil && string(key) != "sealed" {
			t.Errorf("%s", key)
		}
		return err
	})
	whole(func() error { return s.Credentials.Remove(ctx, "quay", "credential/quay/key") })
	if _, err := s.Credentials.Get(ctx, "quay"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("after it was removed: %v", err)
	}
}

// A credential that a device uses stays.
func TestACredentialInUseStays(t *testing.T) {
	s, _ := faulty.Open(t)
	ctx := t.Context()
	if err := s.Credentials.Add(ctx, accounts.Credential{Name: "quay", User: "root"}, nil); err != nil {
		t.Fatal(err)
	}
	if err := s.Devices.Add(ctx,
		[]store.NewDevice{{Device: store.Device{Name: "gate"}, Access: []store.Access{{Link: "ssh",
			Port: 22, Credential: "quay"}}}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Credentials.Remove(ctx, "quay"); !errors.Is(err, store.ErrTaken) {
		t.Errorf("removed: %v", err)
	}
	if c, err := s.Credentials.Get(ctx, "quay"); err != nil || c.Devices != 1 {
		t.Errorf("%+v, %v", c, err)
	}
}
