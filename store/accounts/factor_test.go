package accounts_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/faulty"
)

// An authenticator is set up, used and lost; whatever statement the disk fails at, each change is whole or not at all,
// and what counts once counts once.
func TestAFactorOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	later := store.At(testkit.Now.AddDate(0, 0, 7))
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	tern := accounts.User{Name: "tern", Role: "admin", Password: "x", AddedAt: at}
	if err := s.Users.Add(ctx, tern); err != nil {
		t.Fatal(err)
	}
	open := func(ids ...string) {
		t.Helper()
		for _, id := range ids {
			one := accounts.Session{SHA256: id, User: "tern", Kind: "console", Role: "admin", BeganAt: at,
				EndsAt: later, How: "password", From: "192.0.2.1", ConfirmedAt: at}
			if strings.HasPrefix(id, "token") {
				one.Kind, one.Label, one.Final, one.Networks.V = "client", id, true, []string{"192.0.2.0/24"}
			}
			if err := s.Sessions.Add(ctx, one, tern); err != nil {
				t.Fatal(err)
			}
		}
	}
	signedIn := func(user, want string) {
		t.Helper()
		whole(func() error {
			rows, err := s.Sessions.SignedIn(ctx, user, at)
			got := ""
			for _, r := range rows {
				got += fmt.Sprintf("%s %s %v %s; ", r.SHA256, r.Factor, r.HasFactor, r.SeenFrom)
			}
			if err == nil && got != want {
				t.Errorf("signed in are %q, want %q", got, want)
			}
			return err
		})
	}
	isStale := func(what string, err error) {
		t.Helper()
		if !errors.Is(err, store.ErrStale) {
			t.Errorf("%s: %v", what, err)
		}
	}
	get := func() accounts.Factor {
		t.Helper()
		f, err := s.Factors.Get(ctx, "tern")
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	if _, err := s.Factors.Get(ctx, "tern"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	open("own", "other", "token")
	whole(func() error { return s.Factors.SetPending(ctx, "tern", []byte("first"), at) })
	first := get()
	isStale("a code of what is pending alone", s.Factors.Use(ctx, first, 3))
	if err := s.Factors.Remove(ctx, "tern", ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("what is pending alone was removed: %v", err)
	}
	if err := s.Factors.SetRecovery(ctx, "tern", nil); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("recovery codes of what is pending alone: %v", err)
	}
	signedIn("tern", "other  false ; own  false ; ")
	whole(func() error { return s.Factors.SetPending(ctx, "tern", []byte("second"), at) })
	isStale("what was pending before", s.Factors.TakePending(ctx, first, 9, []string{"a"}, "own", at))
	pending := get()
	whole(func() error { return s.Factors.TakePending(ctx, pending, 9, []string{"a", "b"}, "own", at) })
	isStale("a second time", s.Factors.TakePending(ctx, pending, 9, []string{"a"}, "own", at))
	signedIn("", "own  true ; ")
	if all, err := s.Users.List(ctx); err != nil || !all[0].HasFactor {
		t.Errorf("%+v, %v", all, err)
	}

	now := get()
	isStale("the step of the set-up", s.Factors.Use(ctx, now, 9))
	whole(func() error { return s.Factors.Use(ctx, now, 10) })
	isStale("the step again", s.Factors.Use(ctx, now, 10))
	isStale("with another secret", s.Factors.Use(ctx, accounts.Factor{User: "tern", Secret: []byte("first")}, 11))
	whole(func() error { return s.Factors.UseRecovery(ctx, "tern", "a") })
	isStale("the recovery code again", s.Factors.UseRecovery(ctx, "tern", "a"))
	isStale("of nobody", s.Factors.UseRecovery(ctx, "gull", "b"))
	whole(func() error { return s.Factors.SetRecovery(ctx, "tern", []string{"c"}) })
	isStale("an old recovery code", s.Factors.UseRecovery(ctx, "tern", "b"))

	whole(func() error { return s.Sessions.Confirm(ctx, "own", "code", later) })
	whole(func() error { return s.Sessions.Confirm(ctx, "own", "", later) })
	whole(func() error {
		return s.Sessions.SetSeen(ctx, map[string]accounts.Seen{"own": {At: later, From: "192.0.2.7"},
			"gone": {At: at}})
	})
	signedIn("tern", "own code true 192.0.2.7; ")
	own, err := s.Sessions.Get(ctx, "own", at)
	if err != nil || !own.ConfirmedAt.Equal(later.Time) || !own.SeenAt.Equal(later.Time) || own.From != "192.0.2.1" {
		t.Errorf("%+v, %v", own, err)
	}
	whole(func() error { return s.Sessions.SetEnd(ctx, "token", at) })
	token, err := s.Sessions.Get(ctx, "token", at)
	if err != nil || !token.EndsAt.Equal(at.Time) || !token.Final || len(token.Networks.V) != 1 {
		t.Errorf("%+v, %v", token, err)
	}
	open("other")
	whole(func() error { return s.Factors.Remove(ctx, "tern", "own") })
	signedIn("tern", "own code false 192.0.2.7; ")
	whole(func() error { return s.Sessions.EndSignedIn(ctx, "tern") })
	signedIn("", "")
	if _, err := s.Sessions.Get(ctx, "token", at); err != nil {
		t.Errorf("the token ended, too: %v", err)
	}

	for _, text := range []string{"", "one", "two"} {
		if text != "" {
			whole(func() error { return s.Sessions.SetSignInPolicy(ctx, text) })
		}
		whole(func() error {
			is, err := s.Sessions.SignInPolicy(ctx)
			if err == nil && is != text {
				t.Errorf("the policy is %q, want %q", is, text)
			}
			return err
		})
	}
}

// Of many who give the same code, or the same recovery code, at the same moment, one is let in.
func TestACodeThatManyGiveAtOnceCountsOnce(t *testing.T) {
	s, _ := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	if err := errors.Join(s.Users.Add(ctx, accounts.User{Name: "tern", Role: "admin", Password: "x", AddedAt: at}),
		s.Factors.SetPending(ctx, "tern", []byte("secret"), at)); err != nil {
		t.Fatal(err)
	}
	pending, err := s.Factors.Get(ctx, "tern")
	if err = errors.Join(err, s.Factors.TakePending(ctx, pending, 1, []string{"a", "b"}, "", at)); err != nil {
		t.Fatal(err)
	}
	f, err := s.Factors.Get(ctx, "tern")
	if err != nil {
		t.Fatal(err)
	}
	for what, use := range map[string]func() error{"a code": func() error { return s.Factors.Use(ctx, f, 7) },
		"a recovery code": func() error { return s.Factors.UseRecovery(ctx, "tern", "a") }} {
		var let, refused atomic.Int32
		var all sync.WaitGroup
		for range 16 {
			all.Go(func() {
				switch err := use(); {
				case err == nil:
					let.Add(1)
				case errors.Is(err, store.ErrStale):
					refused.Add(1)
				default:
					t.Error(err)
				}
			})
		}
		if all.Wait(); let.Load() != 1 || refused.Load() != 15 {
			t.Errorf("%s let %d in and refused %d", what, let.Load(), refused.Load())
		}
	}
}
