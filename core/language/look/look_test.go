package look_test

import (
	"math/big"
	"strings"
	"testing"

	"freshseal/core/language/look"
	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// What addresses serve together: a third certificate outranks the new one, that outranks what cannot be read, and
// only where every address serves what it served before is it before.
func TestWhatTheAddressesServe(t *testing.T) {
	before, new, third, unreachable := look.Place{Stood: "a", Serves: "a"}, look.Place{Stood: "a", Serves: "n"},
		look.Place{Stood: "a", Serves: "x"}, look.Place{Stood: "a"}
	other := look.Place{Stood: "b", Serves: "b"} // each address has its own
	for _, c := range []struct {
		places []look.Place
		want   look.Word
	}{
		{[]look.Place{before, other}, look.Before},
		{[]look.Place{before, new}, look.New},
		{[]look.Place{new, unreachable}, look.New},
		{[]look.Place{before, unreachable}, look.Unknown},
		{[]look.Place{new, third, unreachable}, look.Other},
		{[]look.Place{{Serves: "y"}}, look.Unknown}, // nobody knows what stood there
		{[]look.Place{{Serves: "n"}}, look.New},
		// what stood elsewhere is a third one here
		{[]look.Place{{Stood: "b", Serves: "a"}}, look.Other},
		// the first TLS of an address, taken back
		{[]look.Place{{Stood: look.Nothing, Serves: look.Nothing}}, look.Before},
		{[]look.Place{{Stood: look.Nothing, Serves: "n"}}, look.New},
		{[]look.Place{{Stood: look.Nothing, Serves: "x"}}, look.Other},
		{[]look.Place{{Stood: look.Nothing}}, look.Unknown},
		{[]look.Place{{Stood: "a", Serves: look.Nothing}}, look.Unknown},
		{nil, look.Unknown},
	} {
		if got := look.OnWire(c.places, "n"); got != c.want {
			t.Errorf("%+v is %s, want %s", c.places, got, c.want)
		}
	}
}

// An undo is sent where every look reads the word given and passed over where one reads the opposite; nothing else
// moves it.
func TestAGuardSendsPassesOrHolds(t *testing.T) {
	guard := look.Guard{look.Wire: look.New, look.Previous: look.Before}
	for _, c := range []struct {
		wire, previous look.Word
		want           look.Verdict
	}{
		{look.New, look.Before, look.Send},
		{look.Before, look.Before, look.Pass},
		{look.Before, look.Other, look.Pass}, // nothing was changed, whatever a step back would restore
		{look.New, look.New, look.Pass},
		{look.New, look.Other, look.Hold}, // one step back leads to a third certificate
		{look.Other, look.Before, look.Hold},
		{look.Unknown, look.Before, look.Hold},
		{look.New, "", look.Hold},
	} {
		for range 20 { // maps are walked in any order
			if got := guard.Decide(map[string]look.Word{look.Wire: c.wire, look.Previous: c.previous}); got != c.want {
				t.Fatalf("wire %s, previous %s: %v, want %v", c.wire, c.previous, got, c.want)
			}
		}
	}
	if guard.String() != "wire: new, previous: before" {
		t.Error(guard.String())
	}
}

// Boxes name a certificate in many forms; a short serial number of one is not that of another.
func TestABoxNamesACertificate(t *testing.T) {
	root := testkit.Root(t, "Saltmere Root")
	old, new := root.Leaf(t, "a.example").Certificate, root.Leaf(t, "b.example").Certificate
	colons := func(hex string) string {
		var parts []string
		for i := 0; i < len(hex); i += 2 {
			parts = append(parts, hex[i:i+2])
		}
		return strings.ToUpper(strings.Join(parts, ":"))
	}
	decimal, _ := big.NewInt(0).SetString(new.Serial(), 16)
	for text, want := range map[string]look.Word{
		string(new.PEM()): look.New, new.SHA256: look.New, colons(new.SHA256): look.New, "SHA256:" +
			colons(new.SHA256): look.New, new.SHA1(): look.New,
		new.Serial(): look.New, "0x" + new.Serial(): look.New, decimal.String(): look.New,
		old.SHA256: look.Before, "entry-7": look.Before, strings.Repeat("0", 64): look.Other, "entry-8": look.Other,
		"": look.Unknown, " \n": look.Unknown, "::": look.Unknown, "none": look.Other,
		strings.Repeat("a", 1<<20): look.Unknown,
	} {
		if got := look.Told(text, "entry-7", look.Of(old), look.Of(new)); got != want {
			t.Errorf("%.40q is %s, want %s", text, got, want)
		}
	}
	if look.Told(old.SHA256, "", look.Identity{}, look.Identity{}) != look.Other {
		t.Error("something is named by nothing")
	}
	var none *cert.Certificate
	if look.Of(none).Named("") || look.Of(none).Named("0") {
		t.Error("no certificate is named")
	}
}

func FuzzTold(f *testing.F) {
	f.Add("AA:BB", "-----BEGIN CERTIFICATE-----")
	f.Fuzz(func(t *testing.T, text, stood string) {
		if got := look.Told(text, stood, look.Identity{}, look.Identity{}); got == look.New {
			t.Errorf("%q is new, and there is no new certificate", text)
		}
	})
}
