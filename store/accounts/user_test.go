package accounts_test

import (
	"errors"
	"slices"
	"testing"

	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/faulty"
)

// What is not allowed of those who would be left changes nothing: the sessions stay.
func TestAChangeOfUsersThatIsNotAllowedChangesNothing(t *testing.T) {
	s, _ := faulty.Open(t)
	for name, role := range map[string]string{"tern": "admin", "gull": "viewer"} {
		if err := s.Users.Add(t.Context(), accounts.User{Name: name, Role: role, Password: "x"}); err != nil {
			t.Fatal(err)
		}
	}
	tern, err := s.Users.Get(t.Context(), "tern")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Sessions.Add(t.Context(), accounts.Session{SHA256: "ab", User: "tern", Kind: "console", Role: "admin",
		EndsAt: store.At(testkit.Now.AddDate(1, 0, 0))}, tern); err != nil {
		t.Fatal(err)
	}
	there := func() bool {
		_, err := s.Sessions.Get(t.Context(), "ab", store.At(testkit.Now))
		return err == nil
	}
	errNoAdmin := errors.New("no admin")
	anAdmin := func(left []accounts.User) error {
		if slices.ContainsFunc(left, func(u accounts.User) bool { return u.Role == "admin" }) {
			return nil
		}
		return errNoAdmin
	}
	viewer := tern
	viewer.Role = "viewer"
	if err := s.Users.Remove(t.Context(), "tern", anAdmin); !errors.Is(err, errNoAdmin) {
		t.Errorf("removed: %v", err)
	}
	if err := s.Users.Change(t.Context(), viewer, anAdmin); !errors.Is(err, errNoAdmin) || !there() {
		t.Errorf("made viewer: %v, the session is there: %v", err, there())
	}
	if now, err := s.Users.Get(t.Context(), "tern"); err != nil || now.Role != "admin" {
		t.Errorf("%+v, %v", now, err)
	}
	gull := accounts.User{Name: "gull", Role: "admin", Password: "x"}
	if err := s.Users.Change(t.Context(), gull, anAdmin); err != nil {
		t.Fatal(err)
	}
	if err := s.Users.Change(t.Context(), viewer, anAdmin); err != nil || there() {
		t.Errorf("with another admin: %v, the session is there: %v", err, there())
	}
	if err := s.Users.Remove(t.Context(), "tern", anAdmin); err != nil {
		t.Error(err)
	}
	if err := s.Users.Remove(t.Context(), "tern", anAdmin); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the second time: %v", err)
	}
}
