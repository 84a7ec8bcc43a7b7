package store_test

import (
	"errors"
	"testing"

	"freshseal/core/testkit"
	"freshseal/store"
)

// The last admin can be neither removed nor given another role, and what was tried changes nothing: the sessions stay.
func TestTheLastAdminStays(t *testing.T) {
	s := open(t)
	for name, role := range map[string]string{"tern": "admin", "gull": "viewer"} {
		if err := s.Users.Add(t.Context(), store.User{Name: name, Role: role, Password: "x"}); err != nil {
			t.Fatal(err)
		}
	}
	tern, err := s.Users.Get(t.Context(), "tern")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Sessions.Add(t.Context(), store.Session{SHA256: "ab", User: "tern", Kind: "console", Role: "admin",
		EndsAt: store.At(testkit.Now.AddDate(1, 0, 0))}, tern); err != nil {
		t.Fatal(err)
	}
	there := func() bool {
		_, err := s.Sessions.Get(t.Context(), "ab", store.At(testkit.Now))
		return err == nil
	}
	viewer := tern
	viewer.Role = "viewer"
	if err := s.Users.Remove(t.Context(), "tern"); !errors.Is(err, store.ErrTaken) {
		t.Errorf("removed: %v", err)
	}
	if err := s.Users.Change(t.Context(), viewer); !errors.Is(err, store.ErrTaken) || !there() {
		t.Errorf("made viewer: %v, the session is there: %v", err, there())
	}
	if now, err := s.Users.Get(t.Context(), "tern"); err != nil || now.Role != "admin" {
		t.Errorf("%+v, %v", now, err)
	}
	if err := s.Users.Change(t.Context(), store.User{Name: "gull", Role: "admin", Password: "x"}); err != nil {
		t.Fatal(err)
	}
	if err := s.Users.Change(t.Context(), viewer); err != nil || there() {
		t.Errorf("with another admin: %v, the session is there: %v", err, there())
	}
	if err := s.Users.Remove(t.Context(), "tern"); err != nil {
		t.Error(err)
	}
	if err := s.Users.Remove(t.Context(), "tern"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the second time: %v", err)
	}
}
