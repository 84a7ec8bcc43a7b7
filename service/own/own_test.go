package own

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/strongbox"
)

// drawer is a store in memory.
type drawer struct {
	sealed       map[string][]byte
	endorsements []cert.Endorsement
	fails        error
	calls        int
	failAt       int // the call that fails; 0: none
}

// called counts the calls, and fails one of them, or all.
func (d *drawer) called() error {
	if d.calls++; d.calls == d.failAt {
		return errFull
	}
	return d.fails
}

var errFull = errors.New("the disk is full")

func (d *drawer) Get(_ context.Context, purpose string) ([]byte, error) {
	if d.calls++; d.calls == d.failAt {
		return nil, errFull
	}
	text, has := d.sealed[purpose]
	if !has {
		return nil, store.ErrNotFound
	}
	return text, nil
}

func (d *drawer) Put(_ context.Context, purpose string, sealed []byte) error {
	err := d.called()
	if err == nil {
		d.sealed[purpose] = sealed
	}
	return err
}

func (d *drawer) Remove(_ context.Context, purposes ...string) error {
	err := d.called()
	for _, p := range purposes {
		if err == nil {
			delete(d.sealed, p)
		}
	}
	return err
}

type line struct{ *drawer }

func (l line) Get(context.Context, int) ([]cert.Endorsement, error) { return l.endorsements, nil }
func (l line) Succeed(ctx context.Context, purpose string, sealed []byte, e *cert.Endorsement, _ store.Moment) error {
	err := l.Put(ctx, purpose, sealed)
	if err == nil {
		l.drawer.endorsements = append(l.drawer.endorsements, *e)
	}
	return err
}

func newRoom(t *testing.T) (*Service, *drawer) {
	t.Helper()
	box, err := strongbox.Open(filepath.Join(t.TempDir(), "strongbox.key"))
	if err != nil {
		t.Fatal(err)
	}
	d := &drawer{sealed: map[string][]byte{}}
	s := &Service{secrets: d, succession: line{d}, box: box, clock: func() time.Time { return testkit.Now }}
	if err := s.Open(t.Context(), "seal.tidewrack.example"); err != nil {
		t.Fatal(err)
	}
	return s, d
}

func (s *Service) serves(t *testing.T) string {
	t.Helper()
	pair, err := s.Certificate(&tls.ClientHelloInfo{})
	if err != nil {
		t.Fatal(err)
	}
	return cert.Fingerprint(pair.Certificate[0])
}

// The service makes a certificate at the first start and serves the same one from then on.
func TestTheFirstStartMakesACertificate(t *testing.T) {
	s, d := newRoom(t)
	first := s.serves(t)
	if err := s.Open(t.Context(), "seal.tidewrack.example"); err != nil || s.serves(t) != first {
		t.Errorf("the second start serves another one, %v", err)
	}
	d.sealed[inUse] = []byte("sealed with another key")
	if err := s.Open(t.Context(), "seal.tidewrack.example"); !errors.Is(err, ErrOtherKey) {
		t.Errorf("with another strongbox key: %v", err)
	}
}

// A replacement makes a key and a request, keeps what is there, and serves the new one, endorsed by the one before; it
// goes back the same way. Each act may be done twice.
func TestTheServiceReplacesItsOwn(t *testing.T) {
	s, d := newRoom(t)
	first := s.serves(t)
	plan := request.Plan{Subject: request.Subject{CommonName: "seal.tidewrack.example"},
		Names: []string{"seal.tidewrack.example"}, Key: request.ECDSAP256}
	acts := s.For(7, plan)
	act := func(name string, content []byte) []byte {
		t.Helper()
		var out []byte
		for range 2 {
			again, err := acts.Act(t.Context(), name, content)
			if err != nil || out != nil && string(again) != string(out) && name != verb.MakeRequest {
				t.Fatalf("%s: %v", name, err)
			}
			out = again
		}
		return out
	}
	made, err := request.Parse(act(verb.MakeRequest, nil))
	if err != nil {
		t.Fatal(err)
	}
	again, err := request.Parse(act(verb.MakeRequest, nil))
	if err != nil || string(again.SPKI()) != string(made.SPKI()) {
		t.Error("asked again, there is another key")
	}
	act(verb.Keep, nil)
	root := testkit.Root(t, "Quay Root")
	if _, err := acts.Act(t.Context(), verb.LayDown, root.Leaf(t, "seal.tidewrack.example").PEM()); err == nil {
		t.Error("a leaf for another key was taken")
	}
	leaf, err := cert.Issue(rand.Reader, x509.Certificate{Subject: pkix.Name{CommonName: "seal.tidewrack.example"},
		NotBefore: testkit.Now, NotAfter: testkit.Now.AddDate(0, 1, 0)}, made.PublicKey, root.Certificate, root.Key)
	if err != nil {
		t.Fatal(err)
	}
	act(verb.LayDown, append(leaf.PEM(), root.PEM()...))
	if s.serves(t) != first {
		t.Error("it serves the new one before it was told to")
	}
	act(verb.Serve, nil)
	if s.serves(t) != leaf.SHA256 {
		t.Error("it does not serve the new one")
	}
	if err := cert.Follow(first, leaf.SHA256, d.endorsements); err != nil {
		t.Errorf("clients cannot follow: %v", err)
	}
	act(verb.PutBack, nil)
	if s.serves(t) != first {
		t.Error("it does not go back")
	}
	act(verb.ClearAway, nil)
	if _, err := acts.Act(t.Context(), "dance", nil); err == nil {
		t.Error("an unknown act was done")
	}
	d.fails = errFull
	if _, err := s.For(8, plan).Act(t.Context(), verb.MakeRequest, nil); err == nil {
		t.Error("a key was made that is not kept")
	}
}

// Whatever call of the store fails, the act says so, what is served stays, and the act is done when it is asked for
// again.
func TestEveryFailureOfTheStoreIsTold(t *testing.T) {
	const name = "seal.tidewrack.example"
	root := testkit.Root(t, "Quay Root")
	plan := request.Plan{Subject: request.Subject{CommonName: name}, Names: []string{name}, Key: request.ECDSAP256}
	for at, failed := 1, true; failed; at++ {
		s, d := newRoom(t)
		first := s.serves(t)
		d.calls, d.failAt, failed = 0, at, false
		acts := s.For(7, plan)
		var asked []byte
		for _, act := range []string{verb.MakeRequest, verb.Keep, verb.LayDown, verb.Serve, verb.PutBack,
			verb.ClearAway} {
			var content []byte
			if act == verb.LayDown {
				r, err := request.Parse(asked)
				if err != nil {
					t.Fatal(err)
				}
				leaf, err := cert.Issue(rand.Reader, x509.Certificate{Subject: pkix.Name{CommonName: name},
					NotBefore: testkit.Now, NotAfter: testkit.Now.AddDate(0, 1, 0)}, r.PublicKey, root.Certificate,
					root.Key)
				if err != nil {
					t.Fatal(err)
				}
				content = append(leaf.PEM(), root.PEM()...)
			}
			before := s.serves(t)
			out, err := acts.Act(t.Context(), act, content)
			if err != nil {
				failed = true
				if !errors.Is(err, errFull) || s.serves(t) != before {
					t.Errorf("call %d fails in %s: %v; it serves another one: %v", at, act, err, s.serves(t) != before)
				}
				if out, err = acts.Act(t.Context(), act, content); err != nil {
					t.Errorf("after call %d failed, %s is not done: %v", at, act, err)
				}
			}
			if act == verb.MakeRequest {
				asked = out
			}
			if act == verb.Serve && s.serves(t) == first {
				t.Errorf("after call %d failed it does not serve the new one", at)
			}
		}
		if s.serves(t) != first || d.sealed["own/next/r7"] != nil {
			t.Errorf("after call %d failed it did not go back, or the new key is left", at)
		}
	}
}

// What was damaged is not passed over: neither a seal, nor a chain.
func TestWhatIsDamagedIsNotUsed(t *testing.T) {
	plan := request.Plan{Subject: request.Subject{CommonName: "seal"}, Names: []string{"seal"}, Key: request.ECDSAP256}
	for act, purpose := range map[string]string{verb.MakeRequest: "own/next/r7", verb.LayDown: "own/next/r7",
		verb.Serve: "own/next/r7", verb.PutBack: "own/before/r7", verb.Keep: inUse} {
		s, d := newRoom(t)
		before := s.serves(t)
		d.sealed[purpose] = []byte("sealed with another key")
		if _, err := s.For(7, plan).Act(t.Context(), act, nil); !errors.Is(err, ErrOtherKey) || s.serves(t) != before {
			t.Errorf("%s: %v", act, err)
		}
	}
	s, _ := newRoom(t)
	acts := s.For(7, plan)
	if _, err := acts.Act(t.Context(), verb.MakeRequest, nil); err != nil {
		t.Fatal(err)
	}
	for _, chain := range []string{"", "no certificate at all"} {
		if _, err := acts.Act(t.Context(), verb.LayDown, []byte(chain)); err == nil {
			t.Errorf("the chain %q was taken", chain)
		}
	}
	if _, err := acts.Act(t.Context(), verb.Serve, nil); err == nil {
		t.Error("it serves what was never signed")
	}
}
