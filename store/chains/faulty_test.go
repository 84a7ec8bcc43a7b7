package chains_test

import (
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/revocation"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/chains"
	"freshseal/store/faulty"
)

func subjects(all []*cert.Certificate) string {
	out := ""
	for _, c := range all {
		out += c.CommonName() + " "
	}
	return out
}

// Roots and intermediates are kept as a whole or not at all, and come back as they were.
func TestRootsOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	reads := func(list func() ([]*cert.Certificate, error), want string) {
		t.Helper()
		whole(func() error {
			all, err := list()
			if got := subjects(all); err == nil && got != want {
				t.Errorf("%s, want %s", got, want)
			}
			return err
		})
	}
	root := testkit.Root(t, "Quay Root")
	issuing := root.Below(t, "Quay Issuing")
	both := []*cert.Certificate{root.Certificate, issuing.Certificate}
	whole(func() error { return s.Chains.AddAuthorities(ctx, both) })
	whole(func() error { return s.Chains.AddAuthorities(ctx, both) }) // the second time they are known
	whole(func() error {
		n, err := s.Chains.CountAuthorities(ctx)
		if err == nil && n != 2 {
			t.Errorf("%d are known", n)
		}
		return err
	})
	reads(func() ([]*cert.Certificate, error) {
		all, err := s.Chains.Authorities(ctx)
		if len(all) == 2 && (all[0].SelfSigned() == all[1].SelfSigned()) {
			t.Error("one of the two is self-signed")
		}
		return all, err
	}, map[bool]string{true: "Quay Root Quay Issuing ", false: "Quay Issuing Quay Root "}[root.SHA256 <
		issuing.SHA256])
	reads(func() ([]*cert.Certificate, error) {
		return s.Chains.Certificates(ctx, []string{issuing.SHA256, root.SHA256, issuing.SHA256})
	}, "Quay Issuing Quay Root Quay Issuing ")
	if _, err := s.Chains.Certificates(ctx, []string{"00"}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a stranger: %v", err)
	}
	whole(func() error { return s.Chains.AddAnchors(ctx, "fleet", at, both[:1], 0) })
	whole(func() error { return s.Chains.AddAnchors(ctx, "fleet", at, both[:1], 1) })
	if err := s.Chains.AddAnchors(ctx, "fleet", at, both, 1); !errors.Is(err, store.ErrStale) {
		t.Errorf("by what was looked at before: %v", err)
	}
	reads(func() ([]*cert.Certificate, error) { return s.Chains.Anchors(ctx, "fleet") }, "Quay Root ")
	whole(func() error {
		n, err := s.Chains.CountAnchors(ctx)
		if err == nil && fmt.Sprint(n) != "map[fleet:1]" {
			t.Errorf("%v", n)
		}
		return err
	})
	if err := s.Chains.RemoveAnchor(ctx, "fleet", root.SHA256, 1); !errors.Is(err, store.ErrStale) {
		t.Errorf("by what was looked at before: %v", err)
	}
	whole(func() error { return s.Chains.RemoveAnchor(ctx, "fleet", root.SHA256, 2) })
	if err := s.Chains.RemoveAnchor(ctx, "fleet", root.SHA256, store.Any); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	whole(func() error { return s.Chains.RemoveAuthority(ctx, issuing.SHA256) })
	if err := s.Chains.RemoveAuthority(ctx, issuing.SHA256); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	sum := sha1.Sum(root.Raw)
	for print, want := range map[string]string{hex.EncodeToString(sum[:]): root.SHA256, "00": ""} {
		whole(func() error {
			got, err := chains.BySHA1(ctx, s.Read, print)
			if err == nil && got != want {
				t.Errorf("%s: %s", print, got)
			}
			return err
		})
	}
}

// One authority more than the pool takes is none.
func TestThePoolHasABound(t *testing.T) {
	s, _ := faulty.Open(t)
	root := testkit.Root(t, "Quay Root")
	many := make([]*cert.Certificate, 0, chains.MostAuthorities+1)
	for i := range chains.MostAuthorities + 1 {
		c := *root.Certificate
		c.SHA256 = fmt.Sprintf("%064x", i)
		many = append(many, &c)
	}
	if err := s.Chains.AddAuthorities(t.Context(), many[1:]); err != nil {
		t.Fatal(err)
	}
	if err := s.Chains.AddAuthorities(t.Context(), many[:1]); !errors.Is(err, store.ErrTooMany) {
		t.Errorf("one more: %v", err)
	}
	if n, err := s.Chains.CountAuthorities(t.Context()); err != nil || n != chains.MostAuthorities {
		t.Errorf("%d are kept, %v", n, err)
	}
}

// What was found out about a revocation is since when it is so, whatever was asked in between.
func TestRevocationsOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx := t.Context()
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	day := func(n int) store.Moment { return store.At(testkit.Now.AddDate(0, 0, n)) }
	for _, step := range []struct {
		day, since     int
		status, failed string
	}{{1, 1, "good", ""}, {2, 1, "good", ""}, {3, 3, "good", "no route"}, {4, 3, "good", "no answer"},
		{5, 5, "revoked", ""}} {
		answer := store.JSON[revocation.Statement]{V: revocation.Statement{Status: revocation.Status(step.status)}}
		whole(func() error {
			return s.Chains.SetRevocation(ctx, chains.Revocation{SHA256: "ab", Answer: answer, Failed: step.failed,
				Source: "192.0.2.9", CheckedAt: day(step.day), NextAt: day(step.day + 1)})
		})
		whole(func() error {
			all, err := s.Chains.Revocations(ctx)
			if err == nil && (len(all) != 1 || all[0].Since != day(step.since) || all[0].CheckedAt != day(step.day) ||
				all[0].Failed != step.failed || string(all[0].Answer.V.Status) != step.status) {
				t.Errorf("day %d: %+v", step.day, all)
			}
			return err
		})
	}
	whole(func() error { return s.Chains.ForgetRevocations(ctx, day(5)) })
	if all, err := s.Chains.Revocations(ctx); err != nil || len(all) != 1 {
		t.Errorf("as old as that: %v, %v", all, err)
	}
	whole(func() error { return s.Chains.ForgetRevocations(ctx, day(6)) })
	if all, err := s.Chains.Revocations(ctx); err != nil || len(all) != 0 {
		t.Errorf("older: %v, %v", all, err)
	}
}

// The service's next certificate comes with its endorsement or not at all.
func TestASuccessionOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	whole(func() error { return s.Succession.Succeed(ctx, "own", []byte("first"), nil, at) })
	for _, name := range []string{"second", "third"} {
		whole(func() error {
			return s.Succession.Succeed(ctx, "own", []byte(name), &cert.Endorsement{Old: []byte("old"), NewSHA256: name,
				Signature: []byte("s")}, at)
		})
	}
	whole(func() error {
		all, err := s.Succession.Get(ctx, 9)
		if err == nil && (len(all) != 2 || all[0].NewSHA256 != "third" || !bytes.Equal(all[1].Old, []byte("old"))) {
			t.Errorf("%+v", all)
		}
		return err
	})
	if all, err := s.Succession.Get(ctx, 1); err != nil || len(all) != 1 {
		t.Errorf("the newest: %+v, %v", all, err)
	}
	if own, err := s.Secrets.Get(ctx, "own"); err != nil || string(own) != "third" {
		t.Errorf("%s, %v", own, err)
	}
}
