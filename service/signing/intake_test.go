package signing

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/answer"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/store/issuance"
)

// counter is the room with what it needs in memory: replacements that wait for their signer, and what was kept of a
// pile. A method that no test needs is nil.
type counter struct {
	room *Service

	anchors, pool *chain.Pool
	waiting       []store.Replacement
	obsolete      map[string]store.Obsolete
	certificates  map[string]*cert.Certificate
	accepted      []string
	driven        []string
	unused        []issuance.UnusedAnswer
	offered       []bool
	unmatched     []issuance.Unmatched
	learnt        *issuance.Learnt
	trusted       []string
	terms         issuance.Signer
	issuers       []issuance.SignerIssuer
	full, raced   bool
	sought        int
	keys          []int64
	refuses       string // why a key is not taken
	broken        error  // of the disk
	root          testkit.Signer
	issuing       testkit.Signer
}

// The parts of the store, each on the same counter.
type (
	waitingReplacements struct {
		c *counter
	}
	parcels struct {
		parcelsStore
		c *counter
	}
	signers struct {
		signersStore
		c *counter
	}
)

func newCounter(t *testing.T) *counter {
	t.Helper()
	root := testkit.Root(t, "Quay Root")
	c := &counter{root: root, issuing: root.Below(t, "Quay Issuing"), anchors: chain.NewPool(root.Certificate),
		pool: chain.NewPool(), obsolete: map[string]store.Obsolete{}, certificates: map[string]*cert.Certificate{},
		terms: issuance.Signer{Name: "harbour"}}
	bench, err := signer.NewBench(signer.UsualBench("Quay"), nil, func() time.Time { return testkit.Now })
	if err != nil {
		t.Fatal(err)
	}
	c.room = &Service{monitor: c, replacements: c, log: slog.New(slog.DiscardHandler),
		clock: func() time.Time { return testkit.Now }, store: storage{Chains: c, Parcels: parcels{c: c}, Requests: c,
			Signers:      signers{c: c},
			Slots:        slots{},
			Replacements: waitingReplacements{c: c}}}
	c.room.bench.Store(bench)
	return c
}

func (c *counter) Pools(context.Context) (monitor.Pools, error) {
	return monitor.Pools{Anchors: c.anchors, Pool: c.pool.With(), Tried: map[string]bool{}}, nil
}

func (c *counter) Trusting(_ context.Context, p monitor.Pools) (monitor.Trusting, error) {
	t := monitor.NewTrusting(p)
	t.Add(monitor.Fleet, c.root.Certificate)
	return t, nil
}

func (c *counter) AddAnchors(_ context.Context, group string, content []byte,
	_ problem.Revision) ([]cert.Facts, error) {
	c.trusted = append(c.trusted, group)
	return nil, nil
}

func (c *counter) RulesFor(context.Context, store.Slot) (policy.Rules, error) {
	return policy.Default, nil
}
func (c *counter) RulesOf(context.Context, store.Replacement) (policy.Rules, error) {
	return policy.Default, nil
}
func (c *counter) Forget() {}

func (c *counter) Drive(id int64, action replacement.Action) {
	c.driven = append(c.driven, fmt.Sprint(replacement.Name(id), " ", action))
}
func (c *counter) TakeKey(_ context.Context, id int64, key crypto.Signer, _ string) (string, error) {
	c.keys = append(c.keys, id)
	if c.refuses == "" {
		for i := range c.waiting {
			if c.waiting[i].ID == id {
				public, err := x509.MarshalPKIXPublicKey(key.Public())
				c.waiting[i].SPKI, c.waiting[i].Request = cert.Fingerprint(public), nil
				return "", err
			}
		}
	}
	return c.refuses, nil
}

func (c *counter) SeekProofs(context.Context) error {
	c.sought++
	return nil
}

func (c *counter) AddAuthorities(_ context.Context, all []*cert.Certificate) error {
	if c.full {
		return store.ErrTooMany
	}
	c.pool.Add(all...)
	return nil
}

func (c *counter) Certificates(_ context.Context, of []string) (out []*cert.Certificate, err error) {
	if c.broken != nil {
		return nil, c.broken
	}
	for _, sha256 := range of {
		if one := c.certificates[sha256]; one != nil {
			out = append(out, one)
		}
	}
	return out, nil
}

func (p signers) Unmatched(context.Context) ([]issuance.Unmatched, error) { return p.c.unmatched, nil }

func (p signers) PutUnmatched(_ context.Context, leaf *cert.Certificate, a issuance.Unmatched) error {
	a.DER = leaf.Raw
	p.c.unmatched = append(p.c.unmatched, a)
	return nil
}

func (c *counter) ObsoleteByKey(_ context.Context, spki string) (store.Obsolete, error) {
	o, has := c.obsolete[spki]
	if !has {
		return o, store.ErrNotFound
	}
	return o, nil
}

func (s signers) Habits(context.Context) (map[string]answer.Habits, error) { return nil, nil }

func (s signers) Issuers(context.Context) (map[string][]issuance.SignerIssuer, error) {
	return map[string][]issuance.SignerIssuer{"harbour": s.c.issuers}, nil
}
func (s signers) List(context.Context) ([]issuance.Signer, error) {
	return []issuance.Signer{s.c.terms}, nil
}

func (s signers) Put(_ context.Context, one issuance.Signer, _ store.Revision) error {
	s.c.terms = one
	return nil
}

func (s signers) Remove(_ context.Context, name string) error {
	switch name {
	case "busy":
		return store.ErrTaken
	case s.c.terms.Name:
		return nil
	}
	return store.ErrNotFound
}

func (s signers) PutUnusedAnswer(_ context.Context, leaf *cert.Certificate, a issuance.UnusedAnswer,
	offered bool) error {
	a.SHA256 = leaf.SHA256
	s.c.unused, s.c.offered = append(s.c.unused, a), append(s.c.offered, offered)
	for i := range s.c.waiting {
		if s.c.waiting[i].ID == a.ReplacementID && offered {
			s.c.waiting[i].Offered, s.c.certificates[leaf.SHA256] = leaf.SHA256, leaf
		}
	}
	return nil
}

func (s signers) UnusedAnswers(context.Context, int64) ([]issuance.UnusedAnswer, error) {
	return s.c.unused, nil
}

// slots are those of the fleet, for who may have been meant.
type slots struct{}

func (slots) Get(_ context.Context, device, name string) (store.Slot, error) {
	return store.Slot{Device: device, Name: name}, nil
}

func (slots) List(context.Context) ([]store.Slot, error) {
	return []store.Slot{{Device: "gate", Name: "web", ServerName: "gate.example"},
		{Device: "lamp", Name: "web", ServerName: "lamp.example"}}, nil
}

func (r waitingReplacements) ProcedureText(context.Context, string) (string, error) {
	return "procedure: gate\ntitle: Gate\nlinks: [ssh]\ntraits: {key_types: [ecdsa-p256], key_made_by: " +
		"service}\nsteps: {}\n", nil
}

func (r waitingReplacements) In(_ context.Context, state replacement.State) (out []store.Replacement, err error) {
	for _, each := range r.c.waiting {
		if each.State == state {
			out = append(out, each)
		}
	}
	return out, nil
}

func (r waitingReplacements) ByKey(_ context.Context, spki string) (out []store.Replacement, err error) {
	for _, each := range r.c.waiting {
		if each.SPKI == spki {
			out = append(out, each)
		}
	}
	return out, nil
}

func (r waitingReplacements) Get(_ context.Context, id int64) (store.Replacement, error) {
	for _, each := range r.c.waiting {
		if each.ID == id {
			return each, nil
		}
	}
	return store.Replacement{}, store.ErrNotFound
}

func (r waitingReplacements) Accept(_ context.Context, id int64, path []*cert.Certificate, learnt *issuance.Learnt,
	_ store.Moment) (store.Replacement, replacement.Action, error) {
	if r.c.raced {
		return store.Replacement{}, replacement.Nothing, store.ErrNotFound
	}
	if r.c.broken != nil {
		return store.Replacement{}, replacement.Nothing, r.c.broken
	}
	var names []string
	for _, one := range path {
		names = append(names, one.ShortName())
	}
	r.c.learnt = learnt
	r.c.accepted = append(r.c.accepted, replacement.Name(id)+": "+strings.Join(names, " ← "))
	return store.Replacement{}, replacement.Advance, nil
}

// asks lets a replacement wait for the certificate of a key.
func (c *counter) asks(t *testing.T, id int64, leaf testkit.Signer, names ...string) *store.Replacement {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, leaf.Key)
	if err != nil {
		t.Fatal(err)
	}
	r := store.Replacement{ID: id, Device: "gate", Slot: "web", Signer: "harbour", Stage: replacement.Sign,
		State: replacement.Waiting, WaitingFor: replacement.Signer, Request: der,
		SPKI: cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)}
	r.Plan.V = request.Plan{Names: names}
	c.waiting = append(c.waiting, r)
	return &c.waiting[len(c.waiting)-1]
}

func (c *counter) takes(t *testing.T, terms contract.IntakeTerms, all ...testkit.Signer) contract.Intake {
	t.Helper()
	var text []byte
	for _, one := range all {
		text = append(text, one.PEM()...)
	}
	out, err := c.room.TakeIn(t.Context(), []pile.File{{Name: "answer (2).cer", Content: text}}, terms, "gull")
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestAGoodAnswerLetsItsReplacementGoOn(t *testing.T) {
	c := newCounter(t)
	leaf := c.issuing.Leaf(t, "gate.example")
	c.asks(t, 7, leaf, "gate.example")
	in := c.takes(t, contract.IntakeTerms{}, c.root, leaf, c.issuing)
	if a := in.Answers[0]; len(in.Answers) != 1 || !a.Accepted || a.Replacement != "r7" || a.Device != "gate" ||
		a.Why != "" || len(a.Chain) != 3 {
		t.Errorf("%+v", in.Answers)
	}
	if !slices.Equal(c.accepted, []string{"r7: gate.example ← Quay Issuing ← Quay Root"}) ||
		!slices.Equal(c.driven, []string{fmt.Sprint("r7 ", replacement.Advance)}) {
		t.Errorf("%q, %q", c.accepted, c.driven)
	}
	if c.learnt == nil || c.learnt.Signer != "harbour" || c.learnt.Confirmed || len(c.trusted) != 0 {
		t.Errorf("learnt is %+v, trusted %q", c.learnt, c.trusted)
	}
	if c.takes(t, contract.IntakeTerms{TrustRoots: true}, c.root, c.issuing); !slices.Equal(c.trusted,
		[]string{monitor.Fleet}) {
		t.Errorf("with the root trusted: %q", c.trusted)
	}
}

// What cannot be used is said with its reason, and kept where it can still become of use.
func TestEveryOtherAnswerSaysWhy(t *testing.T) {
	for name, c := range map[string]struct {
		do    func(*counter, *store.Replacement, testkit.Signer)
		names []string
		why   string
		kept  bool
	}{
		"a name is missing": {nil, []string{"gate.example", "gate"}, "gate is not among the names of gate.example",
			true},
		"another key": {func(_ *counter, r *store.Replacement, _ testkit.Signer) {
			r.SPKI = "another"
		}, []string{"gate.example"}, "no request here has this leaf's key; ", false},
		"the one that stands": {func(_ *counter, r *store.Replacement, leaf testkit.Signer) {
			r.OldSHA256 = leaf.SHA256
		}, []string{"gate.example"}, "it is what the slot serves already", false},
		"it is not waited for": {func(_ *counter, r *store.Replacement, _ testkit.Signer) {
			r.Stage = replacement.Gate
		}, []string{"gate.example"}, "does not wait for it: it is waiting in stage gate", false},
		"an earlier request": {func(c *counter, r *store.Replacement, _ testkit.Signer) {
			c.obsolete[r.SPKI] = store.Obsolete{ReplacementID: 7, By: "tern", Reason: "a typing error"}
			r.SPKI = "newer"
		}, []string{"gate.example"}, "it answers an earlier request of r7, which tern requested again", true},
		"two at once": {func(c *counter, _ *store.Replacement, _ testkit.Signer) { c.raced = true },
			[]string{"gate.example"}, "somebody gave an answer to it at the same moment", false},
		"a short life": {func(c *counter, _ *store.Replacement, _ testkit.Signer) { c.terms.MinDays = 300 },
			[]string{"gate.example"}, "harbour issues at least 300", true},
	} {
		t.Run(name, func(t *testing.T) {
			k := newCounter(t)
			leaf := k.issuing.Leaf(t, "gate.example")
			r := k.asks(t, 7, leaf, c.names...)
			if c.do != nil {
				c.do(k, r, leaf)
			}
			a := k.takes(t, contract.IntakeTerms{}, leaf, k.issuing).Answers[0]
			if a.Accepted || !strings.Contains(a.Why, c.why) || len(k.accepted)+len(k.driven) != 0 {
				t.Errorf("%+v", a)
			}
			if (len(k.unused) == 1) != c.kept || c.kept &&
				(k.unused[0].CameBy != "gull" || k.unused[0].ReplacementID != 7) {
				t.Errorf("kept is %+v", k.unused)
			}
			if a.Unmatched != (name == "another key") || a.Unmatched &&
				(len(a.Near) != 1 || a.Near[0].Replacement != "r7") {
				t.Errorf("%+v", a)
			}
		})
	}
}

// A doubtful answer waits until a person accepts that very one.
func TestADoubtfulAnswerIsAcceptedByAPerson(t *testing.T) {
	c := newCounter(t)
	leaf := c.issuing.Leaf(t, "gate.example")
	c.asks(t, 7, leaf, "gate.example")
	refuses := func(id, sha256 string, kind problem.Kind) {
		t.Helper()
		var p *problem.Error
		if err := c.room.AcceptAnswer(t.Context(), id, contract.Acceptance{SHA256: sha256}, "tern"); !errors.As(err,
			&p) ||
			p.Kind != kind {
			t.Errorf("%s %s: %v", id, sha256, err)
		}
	}
	refuses("r8", leaf.SHA256, problem.NotFound)
	refuses("seven", leaf.SHA256, problem.NotFound)
	refuses("r7", leaf.SHA256, problem.Conflict) // nothing has come
	c.terms.MinDays = 300
	a := c.takes(t, contract.IntakeTerms{}, leaf, c.issuing).Answers[0]
	if !a.Doubtful || a.Accepted || a.Actions[0] != next.AcceptAnswer.On("r7") || !c.offered[0] {
		t.Fatalf("%+v", a)
	}
	refuses("r7", strings.Repeat("0", 64), problem.Conflict) // another one
	c.waiting[0].Stage = replacement.Gate
	refuses("r7", leaf.SHA256, problem.Conflict)
	c.waiting[0].Stage = replacement.Sign
	c.raced = true
	refuses("r7", leaf.SHA256, problem.Conflict)
	c.raced = false
	if err := c.room.AcceptAnswer(t.Context(), "r7", contract.Acceptance{SHA256: strings.ToUpper(leaf.SHA256)},
		"tern"); err != nil {
		t.Fatal(err)
	}
	if len(c.accepted) != 1 || len(c.driven) != 1 || !c.learnt.Confirmed || c.learnt.By != "tern" ||
		c.learnt.Issuer.Days != 0 {
		t.Errorf("%q %q %+v", c.accepted, c.driven, c.learnt)
	}
	c.broken = errors.New("the disk fails")
	if err := c.room.AcceptAnswer(t.Context(), "r7", contract.Acceptance{SHA256: leaf.SHA256}, "tern"); !errors.Is(err,
		c.broken) || len(c.accepted) != 1 {
		t.Errorf("on a disk that fails: %v, %q", err, c.accepted)
	}
	c.broken = nil
	c.waiting[0].Plan.V.Names = []string{"other.example"} // by now it does not fit any more
	refuses("r7", leaf.SHA256, problem.Conflict)
}

// What stood lives longer than what was signed: a person decides. The lifetime of that issuer is learnt all the same.
func TestAnAnswerIsComparedWithWhatStands(t *testing.T) {
	c := newCounter(t)
	old := c.issuing.Leaf(t, "gate.example", func(x *x509.Certificate) { x.NotAfter = testkit.Now.AddDate(9, 0, 0) })
	leaf := c.issuing.Leaf(t, "gate.example")
	r := c.asks(t, 7, leaf, "gate.example")
	r.OldSHA256 = old.SHA256
	c.certificates[old.SHA256], c.certificates[leaf.SHA256] = old.Certificate, leaf.Certificate
	a := c.takes(t, contract.IntakeTerms{}, leaf, c.issuing).Answers[0]
	if a.Accepted || !a.Doubtful || !strings.Contains(a.Why, "gate.example") {
		t.Fatalf("%+v", a)
	}
	if err := c.room.AcceptAnswer(t.Context(), "r7", contract.Acceptance{SHA256: leaf.SHA256}, "tern"); err != nil ||
		c.learnt.Issuer.Days == 0 {
		t.Errorf("%v, %+v", err, c.learnt)
	}
}

// Nothing is said to be accepted that the disk did not take.
func TestAnAnswerOnADiskThatFails(t *testing.T) {
	c := newCounter(t)
	leaf := c.issuing.Leaf(t, "gate.example")
	c.asks(t, 7, leaf, "gate.example")
	c.broken = errors.New("the disk fails")
	_, err := c.room.TakeIn(t.Context(), []pile.File{{Name: "answer.pem", Content: append(leaf.PEM(),
		c.issuing.PEM()...)}}, contract.IntakeTerms{}, "gull")
	if !errors.Is(err, c.broken) || len(c.driven) != 0 {
		t.Errorf("%v, %q", err, c.driven)
	}
}

// For a certificate that matches no request those are named who may have been meant: the one with the most of its
// names first, and a slot whose request waits by that request alone.
func TestWhoMayHaveBeenMeant(t *testing.T) {
	c := newCounter(t)
	both := c.issuing.Leaf(t, "lamp.example", func(x *x509.Certificate) {
		x.DNSNames = []string{"lamp.example", "gate.example", "www.gate.example"}
	})
	c.asks(t, 7, c.issuing.Leaf(t, "gate.example"), "www.gate.example", "gate.example")
	c.takes(t, contract.IntakeTerms{}, both)
	all, err := c.room.Unmatched(t.Context())
	if err != nil || len(all) != 1 || len(all[0].Near) != 2 {
		t.Fatalf("%v %+v", err, all)
	}
	if first := all[0].Near[0]; first.Replacement != "r7" || first.Device != "gate" || len(first.Names) != 2 {
		t.Errorf("the first is %+v", first)
	}
	if second := all[0].Near[1]; second.Replacement != "" || second.Device != "lamp" || len(second.Names) != 1 {
		t.Errorf("the second is %+v", second)
	}
}

// An issuer is asked for once, whatever number of leaves lacks it.
func TestAnIssuerIsFetchedOnce(t *testing.T) {
	c := newCounter(t)
	asked := 0
	c.room.fetch = func(context.Context, string) ([]byte, error) {
		if asked++; asked > 1 {
			return c.issuing.PEM(), nil
		}
		return nil, errors.New("no route")
	}
	published := func(x *x509.Certificate) { x.IssuingCertificateURL = []string{"http://ca.example/issuing.cer"} }
	var all []testkit.Signer
	for id := range int64(3) {
		leaf := c.issuing.Leaf(t, "gate.example", published)
		c.asks(t, id+1, leaf, "gate.example")
		all = append(all, leaf)
	}
	if c.takes(t, contract.IntakeTerms{}, all...); asked != 1 || len(c.accepted) != 0 {
		t.Fatalf("asked %d times, accepted %q", asked, c.accepted)
	}
	if c.takes(t, contract.IntakeTerms{}, all...); asked != 2 || len(c.accepted) != 3 {
		t.Errorf("the next pile: asked %d times, accepted %q", asked, c.accepted)
	}
}

// A pile that brings what an earlier answer lacked, or what was asked for since, lets that go on; what was said
// before is not said again.
func TestAnEarlierAnswerIsTakenUp(t *testing.T) {
	c := newCounter(t)
	leaf := c.issuing.Leaf(t, "gate.example")
	c.asks(t, 7, leaf, "gate.example")
	if a := c.takes(t, contract.IntakeTerms{}, leaf).Answers[0]; a.Accepted ||
		!strings.Contains(a.Why, "Quay Issuing") {
		t.Fatalf("without its intermediate: %+v", a)
	}
	if in := c.takes(t, contract.IntakeTerms{}, testkit.Root(t, "Another Root")); len(in.Answers) != 0 {
		t.Errorf("it is said again: %+v", in.Answers)
	}
	if in := c.takes(t, contract.IntakeTerms{}, c.issuing); len(in.Answers) != 1 || !in.Answers[0].Accepted ||
		len(c.driven) != 1 {
		t.Errorf("with it: %+v", in.Answers)
	}

	late := c.issuing.Leaf(t, "lamp.example")
	c.takes(t, contract.IntakeTerms{}, late)
	if len(c.unmatched) != 1 || !strings.Contains(c.unmatched[0].Why, "lamp/web") {
		t.Fatalf("%+v", c.unmatched)
	}
	c.waiting = nil
	c.asks(t, 8, late, "lamp.example")
	if in := c.takes(t, contract.IntakeTerms{}, c.root); len(in.Answers) != 1 || !in.Answers[0].Accepted ||
		in.Answers[0].Replacement != "r8" {
		t.Errorf("asked for since: %+v", in.Answers)
	}
}

func TestAPileIsBounded(t *testing.T) {
	c := newCounter(t)
	c.full = true
	_, err := c.room.TakeIn(t.Context(), []pile.File{{Content: c.root.PEM()}}, contract.IntakeTerms{}, "gull")
	var p *problem.Error
	if !errors.As(err, &p) || p.Kind != problem.Invalid || p.Actions[0] != next.ListAuthorities.On("") {
		t.Errorf("%v", err)
	}
	// A certificate that is marked as an authority answers its request all the same, and is refused for its mark.
	c = newCounter(t)
	marked := c.issuing.Below(t, "gate.example")
	c.asks(t, 7, marked, "gate.example")
	if a := c.takes(t, contract.IntakeTerms{}, marked, c.issuing).Answers[0]; a.Accepted || a.Replacement != "r7" {
		t.Errorf("%+v", a)
	}
}

// An answer to an earlier request is to be revoked; what else is to be done depends on whether the newer one waits.
func TestAnAnswerToAnEarlierRequestSaysWhatToDo(t *testing.T) {
	for says, change := range map[string]func(*store.Replacement){
		"sign the newer request":  func(*store.Replacement) {},
		"is cancelled without it": func(r *store.Replacement) { r.State = replacement.Cancelled },
		"is held without it":      func(r *store.Replacement) { r.State = replacement.Held },
		"the replacement is sealed": func(r *store.Replacement) {
			r.State, r.Stage = replacement.Sealed, replacement.Seal
		},
	} {
		c := newCounter(t)
		leaf := c.issuing.Leaf(t, "gate.example")
		r := c.asks(t, 7, leaf, "gate.example")
		c.obsolete[r.SPKI] = store.Obsolete{ReplacementID: 7, By: "tern", Reason: "a typing error"}
		r.SPKI = "newer"
		change(r)
		if a := c.takes(t, contract.IntakeTerms{}, leaf, c.issuing).Answers[0]; !strings.Contains(a.Next, says) ||
			!strings.Contains(a.Next, "revoke it") {
			t.Errorf("want %q: %+v", says, a)
		}
	}
}

// A certificate that is signed with its own key is an error of every signer but of that key itself; that nobody trusts
// it is a warning for all.
func TestWhoMaySignWithTheirOwnKey(t *testing.T) {
	c := newCounter(t)
	key := testkit.NewKey(t)
	leaf, err := cert.Issue(rand.Reader, x509.Certificate{DNSNames: []string{"gate.example"}, NotBefore: testkit.Now,
		NotAfter: testkit.Now.AddDate(0, 1, 0)}, key.Public(), nil, key)
	if err != nil {
		t.Fatal(err)
	}
	pools, err := c.Pools(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for by, want := range map[string]finding.Severity{contract.OwnKeySigner: finding.Warning,
		"harbour": finding.Error} {
		_, found, err := c.room.JudgeNew(t.Context(), leaf, pools, store.Replacement{Device: "gate", Slot: "web",
			Signer: by})
		at := slices.IndexFunc(found, func(f finding.Finding) bool { return f.Code == finding.SelfSigned })
		if err != nil || at < 0 || found[at].Severity != want {
			t.Errorf("by %s: %+v, %v", by, found, err)
		}
	}
	authority := testkit.Root(t, "Stranger")
	pools.Pool.Add(authority.Certificate) // it came with the pile
	stranger := authority.Leaf(t, "gate.example")
	_, found, err := c.room.JudgeNew(t.Context(), stranger.Certificate, pools, store.Replacement{Device: "gate",
		Slot: "web", Signer: "harbour"})
	at := slices.IndexFunc(found, func(f finding.Finding) bool { return f.Code == finding.AnchorUnknown })
	if err != nil || at < 0 || found[at].Severity != finding.Warning {
		t.Errorf("by an unknown root: %+v, %v", found, err)
	}
}
