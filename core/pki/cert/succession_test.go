package cert_test

import (
	"crypto/rand"
	"errors"
	"strings"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// A client follows from one certificate to the next as far as the keys of those
// in between signed, and nowhere else.
func TestOnlyTheOldKeySaysWhoFollows(t *testing.T) {
	first, second, third := testkit.Root(t, "Fresh Seal 1"), testkit.Root(t, "Fresh Seal 2"),
		testkit.Root(t, "Fresh Seal 3")
	thief := testkit.Root(t, "Somebody else")
	endorse := func(old, by, next testkit.Signer) cert.Endorsement {
		e, err := cert.Endorse(rand.Reader, old.Raw, by.Key, next.SHA256)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	one, two := endorse(first, first, second), endorse(second, second, third)
	back := endorse(third, third, first)
	changed := one
	changed.NewSHA256 = thief.SHA256
	for name, c := range map[string]struct {
		pinned, shown testkit.Signer
		given         []cert.Endorsement
		follows       bool
	}{
		"one step":                     {first, second, []cert.Endorsement{one}, true},
		"two steps, in any order":      {first, third, []cert.Endorsement{two, one}, true},
		"in a circle":                  {second, first, []cert.Endorsement{one, two, back}, true},
		"a step is missing":            {first, third, []cert.Endorsement{two}, false},
		"backwards":                    {second, first, []cert.Endorsement{one}, false},
		"signed with another key":      {first, thief, []cert.Endorsement{endorse(first, thief, thief)}, false},
		"signed by the new one itself": {first, thief, []cert.Endorsement{endorse(thief, thief, thief)}, false},
		"changed afterwards":           {first, thief, []cert.Endorsement{changed}, false},
		"rubbish": {first, thief,
			[]cert.Endorsement{{Old: []byte("x"), NewSHA256: thief.SHA256, Signature: []byte("y")}}, false},
		"nothing": {first, second, nil, false},
	} {
		err := cert.Follow(c.pinned.SHA256, c.shown.SHA256, c.given)
		if c.follows != (err == nil) || err != nil && !errors.Is(err, cert.ErrNotFollowed) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := cert.Follow("", strings.Repeat("0", 64), nil); err == nil {
		t.Error("nothing pinned, and followed all the same")
	}
}
