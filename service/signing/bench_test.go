package signing

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/contract"
	"freshseal/core/testkit"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/issuance"
	"freshseal/strongbox"
)

// safe is where secrets are kept, in memory.
type safe map[string][]byte

func (s safe) Get(_ context.Context, purpose string) ([]byte, error) {
	if text, has := s[purpose]; has {
		return text, nil
	}
	return nil, store.ErrNotFound
}

func (s safe) Put(_ context.Context, purpose string, sealed []byte) error {
	s[purpose] = sealed
	return nil
}

func withBench(t *testing.T) (*counter, *Bench, safe) {
	t.Helper()
	c := newCounter(t)
	box, err := strongbox.Open(filepath.Join(t.TempDir(), "strongbox.key"))
	if err != nil {
		t.Fatal(err)
	}
	kept := safe{}
	c.room.box, c.room.store.Secrets = box, kept
	lab := &Bench{c.room}
	c.room.Lab = lab
	return c, lab, kept
}

// The authority of the lab is made at the first start, opened at the second, and its root is trusted before it signs.
func TestBenchIsMadeOnce(t *testing.T) {
	c, lab, kept := withBench(t)
	if err := lab.openBench(t.Context(), "Tidewrack Ferries"); err != nil || len(c.trusted) != 1 || len(kept) != 1 {
		t.Fatalf("trusted by %v, %d kept, %v", c.trusted, len(kept), err)
	}
	first, err := lab.Bench(t.Context())
	if err != nil || len(first.Levels) < 2 || !strings.Contains(first.Root, "BEGIN CERTIFICATE") {
		t.Fatalf("%+v, %v", first, err)
	}
	if err := lab.openBench(t.Context(), "Another"); err != nil {
		t.Fatal(err)
	}
	if again, err := lab.Bench(t.Context()); err != nil || again.Root != first.Root || len(c.trusted) != 1 {
		t.Errorf("the second start made another one, %v", err)
	}
	kept[benchPurpose] = []byte("sealed with another key")
	if err := lab.openBench(t.Context(), "Another"); err == nil {
		t.Error("it was opened with another strongbox key")
	}
}

// It is set up again by who looked at the one that is there, with a root of its own or under the one before.
func TestBenchIsSetUpAnew(t *testing.T) {
	c, lab, _ := withBench(t)
	if err := lab.openBench(t.Context(), "Tidewrack Ferries"); err != nil {
		t.Fatal(err)
	}
	before, _ := lab.Bench(t.Context())
	setup := contract.BenchSetup{BenchPlan: contract.BenchPlan{Names: []string{"Quay Lab Root", "Quay Lab Issuing"},
		Organization: "Tidewrack Ferries", RootDays: 900, BelowDays: 400, LeafDays: 90}, Replaces: "of another"}
	_, err := lab.SetUpBench(t.Context(), setup)
	if kindOf(err) != problem.Conflict {
		t.Errorf("of who looked at another one: %v", err)
	}
	setup.Replaces = before.Levels[len(before.Levels)-1].SHA256
	wrong := setup
	wrong.LeafDays = 5000
	if _, err = lab.SetUpBench(t.Context(), wrong); kindOf(err) != problem.Invalid {
		t.Errorf("leaves that outlive their issuer: %v", err)
	}
	ctx, noted := audit.Collect(t.Context())
	made, err := lab.SetUpBench(ctx, setup)
	for _, level := range made.Levels {
		if !strings.Contains(noted.String(), level.SHA256) {
			t.Errorf("of %s nothing is noted: %s", level.SHA256, noted)
		}
	}
	if err != nil || made.Root == before.Root || made.LeafDays != 90 || len(c.trusted) != 2 {
		t.Fatalf("%+v, %v", made, err)
	}
	setup.Replaces, setup.KeepRoot = made.Levels[len(made.Levels)-1].SHA256, true
	if kept, err := lab.SetUpBench(t.Context(), setup); err != nil || kept.Root != made.Root ||
		kept.Levels[1].SHA256 == made.Levels[1].SHA256 {
		t.Errorf("under the root that is there: %+v, %v", kept, err)
	}
}

// issuers keeps those that a signer is expected to sign with.
type issuers struct {
	signers
	all     map[string]issuance.SignerIssuer
	refuses error
}

func (i issuers) PutIssuer(_ context.Context, row issuance.SignerIssuer) error {
	if i.refuses == nil {
		i.all[row.SPKI] = row
	}
	return i.refuses
}

func (i issuers) RemoveIssuer(_ context.Context, _, key string) error {
	if _, has := i.all[key]; !has {
		return store.ErrNotFound
	}
	delete(i.all, key)
	return nil
}

// Answers under an issuer are expected once somebody says so, by a certificate that is known here.
func TestIssuersOfASigner(t *testing.T) {
	c := newCounter(t)
	kept := issuers{signers: signers{c: c}, all: map[string]issuance.SignerIssuer{}}
	c.room.store.Signers = kept
	c.certificates[c.issuing.SHA256] = c.issuing.Certificate
	stranger := testkit.Root(t, "Stranger")
	for _, sha256 := range []string{"not hex", stranger.SHA256} {
		if _, err := c.room.PutIssuer(t.Context(), "harbour", contract.NewIssuer{SHA256: sha256},
			"gull"); kindOf(err) != problem.NotFound {
			t.Errorf("%.8s: %v", sha256, err)
		}
	}
	if _, err := c.room.PutIssuer(t.Context(), "bench", contract.NewIssuer{SHA256: c.issuing.SHA256},
		"gull"); kindOf(err) != problem.Invalid {
		t.Errorf("of bench: %v", err)
	}
	if is, err := c.room.PutIssuer(t.Context(), "harbour",
		contract.NewIssuer{SHA256: strings.ToUpper(c.issuing.SHA256)}, "gull"); err != nil || is.Name != "harbour" {
		t.Fatal(err, is)
	}
	for key, row := range kept.all {
		if row.KnownBy != "gull" || !row.Confirmed || row.Subject != c.issuing.Subject() {
			t.Errorf("%+v", row)
		}
		if err := c.room.RemoveIssuer(t.Context(), "harbour", strings.ToUpper(key)); err != nil {
			t.Error(err)
		}
		if err := c.room.RemoveIssuer(t.Context(), "harbour", key); kindOf(err) != problem.NotFound {
			t.Errorf("twice: %v", err)
		}
	}
	kept.refuses = store.ErrTooMany
	c.room.store.Signers = kept
	if _, err := c.room.PutIssuer(t.Context(), "harbour", contract.NewIssuer{SHA256: c.issuing.SHA256},
		"gull"); kindOf(err) != problem.Invalid {
		t.Errorf("one more than fits: %v", err)
	}
}
