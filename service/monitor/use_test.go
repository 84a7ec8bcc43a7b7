package monitor

import (
	"context"
	"crypto/x509"
	"net"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/wire"
)

// quay is the room with one slot that is read.
func quay(t *testing.T) (*Service, *port, store.Slot) {
	t.Helper()
	p := openPort(t)
	s := room(t, &clock{now: testkit.Now}, map[string]*port{"Mainquay": p})
	row, err := s.store.Slots.Get(t.Context(), "box-Mainquay", "web")
	if err != nil {
		t.Fatal(err)
	}
	return s, p, row
}

func refuses(t *testing.T, err error, kind problem.Kind, says string) {
	t.Helper()
	if p, ok := err.(*problem.Error); !ok || p.Kind != kind || !strings.Contains(p.What+"; "+p.Why+"; "+p.Next, says) {
		t.Errorf("%v, want %s and %q", err, kind, says)
	}
}

func (s *Service) condition(t *testing.T, row store.Slot) due.Condition {
	t.Helper()
	now, err := s.store.Slots.Get(t.Context(), row.Device, row.Name)
	if err != nil {
		t.Fatal(err)
	}
	return now.Condition
}

// A root that a trust group is given is trusted from then on, and what it signed is judged again; taken away, no more.
func TestTrustGroupsDecideWhatIsFlawed(t *testing.T) {
	s, _, row := quay(t)
	sight, err := s.Read(t.Context(), row)
	if err != nil || sight.Leaf() == nil {
		t.Fatal(sight.Why, err)
	}
	if got := s.condition(t, row); got != due.Flawed {
		t.Fatalf("with nothing trusted it is %s", got)
	}
	root := testkit.Root(t, "Another Root")
	if _, err := s.AddAnchors(t.Context(), Fleet, []byte("no certificate"), store.Any); err == nil {
		t.Error("a file without a root was taken")
	}
	if _, err := s.AddAnchors(t.Context(), "", root.PEM(), store.Any); err == nil {
		t.Error("a group without a name was made")
	}
	leaf := root.Leaf(t, "gate-1.tidewrack.example")
	if _, err := s.AddAnchors(t.Context(), Fleet, leaf.PEM(), store.Any); err == nil {
		t.Error("a leaf became a root")
	}
	for range 2 { // twice is once
		if _, err := s.AddAnchors(t.Context(), "phones", root.PEM(), store.Any); err != nil {
			t.Fatal(err)
		}
	}
	groups, err := s.TrustGroups(t.Context())
	if err != nil || len(groups) != 2 || groups[0].Name != Fleet || groups[1].Roots != 1 {
		t.Errorf("%+v, %v", groups, err)
	}
	for _, c := range []struct {
		names []string
		says  string
	}{{[]string{"phones"}, ""}, {[]string{"nobody"}, "no trust group is called"},
		{[]string{"phones", "phones"}, "twice"}} {
		err := s.Trust.KnownTrustGroups(t.Context(), "it is not kept", c.names)
		if c.says == "" && err != nil {
			t.Errorf("%v: %v", c.names, err)
		} else if c.says != "" {
			refuses(t, err, problem.Invalid, c.says)
		}
	}
	all, err := s.Trust.Anchors(t.Context(), "phones")
	if err != nil || len(all) != 1 || all[0].SHA256 != root.SHA256 {
		t.Errorf("%+v, %v", all, err)
	}
	pools, err := s.Pools(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	trusting, err := s.Trusting(t.Context(), pools)
	if err != nil {
		t.Fatal(err)
	}
	for _, each := range trusting.Of([]*cert.Certificate{leaf.Certificate}, s.now()) {
		if each.Trusted != (each.TrustGroup == "phones") {
			t.Errorf("%+v", each)
		}
	}
	if file, err := s.Trust.ExportAnchors(t.Context(), "phones", contract.Export{Form: "pem"}); err != nil ||
		len(file.Content) == 0 {
		t.Errorf("%d bytes, %v", len(file.Content), err)
	}
	if err := s.Trust.RemoveAnchor(t.Context(), "phones", root.SHA256, store.Any); err != nil {
		t.Fatal(err)
	}
	_, err = s.Trust.Anchors(t.Context(), "phones")
	refuses(t, err, problem.NotFound, "phones")
	refuses(t, s.Trust.RemoveAnchor(t.Context(), "phones", root.SHA256, store.Any), problem.NotFound, "")
}

// What is trusted no more is flawed at once.
func TestARootThatIsTakenAwayIsTrustedNoMore(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	s, _, row := quay(t)
	serve := func(chain ...testkit.Signer) {
		t.Helper()
		now, err := s.store.Slots.Get(t.Context(), row.Device, row.Name)
		if err != nil {
			t.Fatal(err)
		}
		sight := Sight{wire.Reading{At: s.now(), Chain: certificatesOf(chain...)}, nil}
		if err := s.record(t.Context(), now, sight); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.AddAnchors(t.Context(), Fleet, root.PEM(), store.Any); err != nil {
		t.Fatal(err)
	}
	s.Wait()
	serve(root.Leaf(t, "127.0.0.1", func(x *x509.Certificate) {
		x.DNSNames, x.IPAddresses = nil, []net.IP{net.IPv4(127, 0, 0, 1)}
	}))
	s.Wait()
	if got := s.condition(t, row); got != due.Fresh {
		t.Fatalf("with its root trusted it is %s", got)
	}
	if err := s.Trust.RemoveAnchor(t.Context(), Fleet, root.SHA256, store.Any); err != nil {
		t.Fatal(err)
	}
	s.Wait()
	if got := s.condition(t, row); got != due.Flawed {
		t.Errorf("with its root trusted no more it is %s", got)
	}
}

// Before anybody sees a list, what time alone has changed while the service was down is changed.
func TestAStartTurnsWhatIsOverMeanwhile(t *testing.T) {
	at := &clock{now: testkit.Now}
	s := room(t, at, map[string]*port{"Mainquay": openPort(t)})
	row, err := s.store.Slots.Get(t.Context(), "box-Mainquay", "web")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Read(t.Context(), row); err != nil {
		t.Fatal(err)
	}
	at.pass(20 * 365 * 24 * time.Hour)
	s.Start(0)
	if got := s.condition(t, row); got != due.Expired {
		t.Errorf("twenty years later it is %s", got)
	}
}

// A reading that was under way while something was installed counts, unless a later one is there or its slot is gone.
func TestAReadingThatComesLate(t *testing.T) {
	s, _, row := quay(t)
	late := func(change func(*store.NewReading)) string {
		t.Helper()
		now, err := s.store.Slots.Get(t.Context(), row.Device, row.Name)
		if err != nil {
			t.Fatal(err)
		}
		one := store.NewReading{Slot: now}
		one.ReadAt, one.Version = store.At(s.now().Add(time.Minute)), "TLS 1.2"
		one.Failure.V = &finding.Failure{Code: "closed", What: "it closed the connection"}
		change(&one)
		if err := (&recorder{s: s}).again(t.Context(), one); err != nil {
			t.Fatal(err)
		}
		if now, err = s.store.Slots.Get(t.Context(), row.Device, row.Name); err != nil {
			t.Fatal(err)
		}
		return now.Version
	}
	if _, err := s.Read(t.Context(), row); err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*store.NewReading){
		"an older one":                func(one *store.NewReading) { one.ReadAt = store.At(s.now().Add(-time.Hour)) },
		"of another slot of its name": func(one *store.NewReading) { one.ID++ },
		"of a slot that is gone":      func(one *store.NewReading) { one.Name = "gone" },
	} {
		if got := late(change); got == "TLS 1.2" {
			t.Errorf("%s was taken", what)
		}
	}
	if got := late(func(*store.NewReading) {}); got != "TLS 1.2" {
		t.Errorf("it was not taken: %s", got)
	}
}

// Readings that differ in anything are told apart; those that do not are not judged again, and counted as unchanged.
func TestWhatMakesAReadingAnother(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	one, other := certificatesOf(root.Leaf(t, "one.example")), certificatesOf(root.Leaf(t, "other.example"))
	row := store.SlotToRead{}
	row.Chain.V = []string{one[0].SHA256}
	fails := &finding.Failure{Code: "closed", What: "it closed the connection"}
	keys := map[string]int{}
	for i, r := range []Sight{
		{wire.Reading{}, nil}, {wire.Reading{Chain: one}, nil}, {wire.Reading{Chain: other}, nil},
		{wire.Reading{Chain: one, Version: "TLS 1.2"}, nil},
		{wire.Reading{Chain: one, Suite: "TLS_AES_128_GCM_SHA256"}, nil},
		{wire.Reading{Chain: one, Remarks: []finding.Finding{finding.OldProtocol.Found("TLS 1.0")}}, nil},
		{wire.Reading{Why: fails}, nil},
		{wire.Reading{Why: &finding.Failure{Code: "closed", What: "it said nothing"}}, nil},
		{wire.Reading{Chain: one}, []judge.Other{{Address: "192.0.2.1", Port: 443, SHA256: "aa"}}},
		{wire.Reading{Chain: one}, []judge.Other{{Address: "192.0.2.1", Port: 443, Failure: fails}}},
		{wire.Reading{Chain: one}, []judge.Other{{Address: "192.0.2.1", Port: 443}}},
	} {
		if before, known := keys[keyOf(row, r)]; known {
			t.Errorf("readings %d and %d are the same", before, i)
		}
		keys[keyOf(row, r)] = i
	}
	if same := keyOf(row, Sight{wire.Reading{Same: true}, nil}); keys[same] != 1 {
		t.Error("the same chain again is another reading")
	}

	s, _, slot := quay(t)
	for range 3 {
		if _, err := s.Read(t.Context(), slot); err != nil {
			t.Fatal(err)
		}
	}
	if told := s.Tally().Outcomes; told["new"] != 1 || told["unchanged"] != 2 {
		t.Errorf("counted: %v", told)
	}
}

// The rules of a device are above those of its site, and those above the fleet's; what cannot be a rule is refused.
func TestRulesOfFleetSiteAndDevice(t *testing.T) {
	s, _, row := quay(t)
	days := func(n int) *int { return &n }
	for says, n := range map[string]contract.NewPolicy{
		"no scope is called":    {Scope: "planet/earth"},
		"a tag says only when":  {Scope: "tag/quay", Rules: policy.Rules{RenewalDays: days(3)}},
		"weak keys can only be": {Scope: Fleet, Rules: policy.Rules{WeakKeys: new(bool)}},
		"no signer is called":   {Scope: Fleet, Rules: policy.Rules{Signer: ptr("nobody")}},
		"no device is called":   {Scope: "device/gate-9"},
		"renewal":               {Scope: Fleet, Rules: policy.Rules{RenewalDays: days(-3)}},
	} {
		if _, err := s.Rules.SetPolicy(t.Context(), n, store.Any); err == nil {
			t.Errorf("%s: it was set", says)
		}
	}
	for i, scope := range []string{Fleet, "site/Mainquay", "device/box-Mainquay"} {
		p, err := s.Rules.SetPolicy(t.Context(),
			contract.NewPolicy{Scope: scope, Rules: policy.Rules{RenewalDays: days(40 + i)}},
			store.Any)
		if err != nil || p.Revision == 0 {
			t.Fatalf("%+v, %v", p, err)
		}
		rules, err := s.RulesFor(t.Context(), row)
		if err != nil || *rules.RenewalDays != 40+i {
			t.Errorf("%s: %d days, %v", scope, *rules.RenewalDays, err)
		}
	}
	for _, name := range []string{"bench", "desk", "own-key"} {
		if _, err := s.Rules.SetPolicy(t.Context(), contract.NewPolicy{Scope: "site/Mainquay",
			Rules: policy.Rules{RenewalDays: days(41), Signer: &name}}, store.Any); err != nil {
			t.Errorf("%s is always there: %v", name, err)
		}
	}
	all, err := s.Rules.Policies(t.Context())
	if err != nil || len(all) != 3 || all[0].Scope != Fleet || *all[0].Rules.MinRSABits == 0 {
		t.Errorf("%+v, %v", all, err)
	}
	_, err = s.Rules.SetPolicy(t.Context(), contract.NewPolicy{Scope: Fleet}, 99)
	refuses(t, err, problem.Stale, "")
	before, err := s.Version(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Rules.SetPolicy(t.Context(),
		contract.NewPolicy{Scope: Fleet, Rules: policy.Rules{RenewalDays: days(9)}},
		store.Any); err != nil {
		t.Fatal(err)
	}
	if after, err := s.Version(t.Context()); err != nil || after == before {
		t.Errorf("version %d stays, %v", after, err)
	}
	weekly := []string{"DTSTART;TZID=Europe/Oslo:20261201T220000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT4H"}
	if _, err := s.Rules.SetPolicy(t.Context(),
		contract.NewPolicy{Scope: "tag/tills", Rules: policy.Rules{Windows: weekly}},
		store.Any); err != nil {
		t.Fatal(err)
	}
	if times, err := s.Touches(t.Context(), row, []string{"tills"}); err != nil || len(times.Sets) == 0 {
		t.Errorf("%+v, %v", times, err)
	}
}

// A sweep reads all, or a site; a second one meanwhile is the same.
func TestASweep(t *testing.T) {
	s, p, row := quay(t)
	_, err := s.Sweeps.Sweep(t.Context(), "Atlantis")
	refuses(t, err, problem.NotFound, "no slot is at Atlantis")
	_, err = s.Sweeps.SweepOf("s1")
	refuses(t, err, problem.NotFound, "s1")
	for _, site := range []string{"", "Mainquay"} {
		p.closed.Store(site != "")
		sweep, err := s.Sweeps.Sweep(t.Context(), site)
		if err != nil {
			t.Fatal(err)
		}
		for until := time.Now().Add(20 * time.Second); sweep.EndedAt == nil &&
			time.Now().Before(until); time.Sleep(time.Millisecond) {
			if sweep, err = s.Sweeps.SweepOf(sweep.ID); err != nil {
				t.Fatal(err)
			}
		}
		if sweep.Read != 1 || sweep.Slots != 1 || (sweep.Unreachable == 1) != (site != "") || sweep.Why != "" {
			t.Errorf("%q: %+v", site, sweep)
		}
	}
	if got := s.condition(t, row); got != due.Unreachable {
		t.Errorf("it is %s", got)
	}
	if tally := s.Tally(); tally.Outcomes["new"] != 1 || tally.Outcomes["unreachable"] != 1 {
		t.Errorf("%+v", tally)
	}
}

// What a replacement that is under way lets a slot serve is no alarm; a third certificate is, at once.
func TestOwnWorkIsNoAlarm(t *testing.T) {
	s, _, row := quay(t)
	sight, err := s.Read(t.Context(), row)
	if err != nil {
		t.Fatal(err)
	}
	served := sight.Leaf().SHA256
	if err := s.store.Slots.(installs).SetInstalled(t.Context(), row.ID, strings.Repeat("ab", 32), "bench",
		store.At(s.now())); err != nil {
		t.Fatal(err)
	}
	r := store.Replacement{ID: 7, Stage: replacement.Activate, NewSHA256: served}
	targets := []store.Target{{Slot: row}}
	if err := s.Expect(t.Context(), r, targets); err != nil {
		t.Fatal(err)
	}
	again := func() due.Condition {
		now, err := s.store.Slots.Get(t.Context(), row.Device, row.Name)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.JudgeSlots(t.Context(), []store.Slot{now}); err != nil {
			t.Fatal(err)
		}
		return s.condition(t, row)
	}
	if got := again(); got == due.Unexpected {
		t.Error("its own work is an alarm")
	}
	s.Unexpect([]int64{row.ID})
	if got := again(); got != due.Unexpected {
		t.Errorf("after it, another certificate is %s", got)
	}
	if err := s.Expect(t.Context(), store.Replacement{ID: 7, Stage: replacement.Sign}, targets); err != nil ||
		s.expects(row.ID, served) {
		t.Error("before it touches anything it expects nothing")
	}
}

// An address is read once, and nothing of it is kept.
func TestAnAddressIsReadOnce(t *testing.T) {
	s, p, _ := quay(t)
	seen, err := s.ReadAddress(t.Context(), contract.AskReading{Address: "127.0.0.1", Port: p.number, Protocol: "tls"})
	if err != nil || len(seen.Chain) == 0 || len(seen.Findings) == 0 {
		t.Fatalf("%+v, %v", seen, err)
	}
	for says, ask := range map[string]contract.AskReading{
		"protocol":           {Address: "127.0.0.1", Port: 443, Protocol: "gopher"},
		"are not an address": {Address: "two words", Port: 443, Protocol: "tls"},
		"70000":              {Address: "127.0.0.1", Port: 70000, Protocol: "tls"},
	} {
		_, err := s.ReadAddress(t.Context(), ask)
		refuses(t, err, problem.Invalid, says)
	}
	if all, err := s.Protocols(t.Context()); err != nil || len(all) < 10 {
		t.Errorf("%d protocols, %v", len(all), err)
	}
	leaf, err := s.Leaf(t.Context(), "", "127.0.0.1:"+strconv.Itoa(p.number), "gate.tidewrack.example")
	if err != nil || leaf != seen.Chain[0].SHA256 {
		t.Errorf("%q, %v", leaf, err)
	}
}

// What happened to slots is told in order, from where somebody was.
func TestEventsAreFollowed(t *testing.T) {
	s, p, row := quay(t)
	for _, closed := range []bool{false, true} {
		p.closed.Store(closed)
		if _, err := s.Read(t.Context(), row); err != nil {
			t.Fatal(err)
		}
	}
	last, err := s.LastEvent(t.Context())
	if err != nil || last == 0 {
		t.Fatal(last, err)
	}
	var got []contract.Event
	err = s.Follow(t.Context(), "", 0, func(e contract.Event) error {
		got = append(got, e)
		return nil
	}, func() error { return nil }, func() (bool, error) { return len(got) > 0, nil })
	if err != nil || len(got) == 0 || !slices.IsSortedFunc(got, func(a, b contract.Event) int {
		return int(a.ID - b.ID)
	}) {
		t.Errorf("%+v, %v", got, err)
	}
}

// Intermediates and roots that came with piles are known until somebody removes them; what is in use stays.
func TestKnownAuthorities(t *testing.T) {
	s, _, _ := quay(t)
	root := testkit.Root(t, "Harbour Root")
	middle := root.Below(t, "Harbour Issuing")
	if err := s.store.Chains.(pooled).AddAuthorities(t.Context(),
		[]*cert.Certificate{root.Certificate, middle.Certificate}); err != nil {
		t.Fatal(err)
	}
	s.Forget()
	all, err := s.Trust.Authorities(t.Context(), "harbour")
	if err != nil || len(all.Items) != 2 {
		t.Fatalf("%d, %v", len(all.Items), err)
	}
	if file, err := s.Trust.ExportAuthority(t.Context(), middle.SHA256, contract.Export{Form: "pem"}); err != nil ||
		len(file.Content) == 0 {
		t.Errorf("%d bytes, %v", len(file.Content), err)
	}
	if err := s.Trust.RemoveAuthority(t.Context(), middle.SHA256); err != nil {
		t.Error(err)
	}
	refuses(t, s.Trust.RemoveAuthority(t.Context(), middle.SHA256), problem.NotFound, "")
}

// A slot with further addresses and nodes is read at all of them, each once.
func TestAllPlacesOfASlot(t *testing.T) {
	row := store.SlotToRead{}
	row.Address, row.Port = "192.0.2.1", 443
	row.More.V = []store.Place{{Address: "192.0.2.2", Port: 443}, {Address: "192.0.2.1", Port: 443}}
	row.Nodes.V = []store.Node{{Name: "a", Address: "192.0.2.3"}, {Name: "b", Address: "192.0.2.2"}}
	var got []string
	for _, at := range Places(row) {
		got = append(got, at.String())
	}
	if want := "192.0.2.1:443 192.0.2.2:443 a (192.0.2.3:443)"; strings.Join(got, " ") != want {
		t.Errorf("%v, want %s", got, want)
	}
}

// installs is what the engine tells of a slot.
type installs interface {
	SetInstalled(ctx context.Context, slotID int64, sha256, signer string, at store.Moment) error
}

// pooled is what signing tells of what came with a pile.
type pooled interface {
	AddAuthorities(ctx context.Context, certificates []*cert.Certificate) error
}

func ptr(s string) *string { return &s }
