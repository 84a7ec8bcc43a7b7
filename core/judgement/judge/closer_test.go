package judge_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/revocation"
	"freshseal/core/testkit"
)

// A closer look finds a wrong clock, what a device staples, and what is wrong with its other certificate.
func TestACloserLookFindsMore(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf, second := root.Leaf(t, "gate.example"), root.Leaf(t, "other.example")
	at := testkit.Now.Add(time.Hour)
	revoked := revocation.Statement{Status: revocation.Revoked, At: testkit.Now, Reason: "keyCompromise"}
	day := testkit.Now.Format(time.DateOnly)
	s := &judge.Snapshot{Anchors: chain.NewPool(root.Certificate), Authorities: chain.NewPool(root.Certificate)}
	for name, c := range map[string]struct {
		look   *judge.Closer
		second []*cert.Certificate
		want   string // the texts, with |
	}{
		"nothing was looked for": {nil, nil, ""},
		"all is well": {&judge.Closer{Clock: true,
			Staple: &revocation.Statement{Status: revocation.Good}}, nil, ""},
		"five minutes are usual": {&judge.Closer{Ahead: 300}, nil, ""},
		"a little more is not":   {&judge.Closer{Ahead: 301}, nil, "its clock is 5 minutes ahead"},
		"behind":                 {&judge.Closer{Ahead: -3600}, nil, "its clock is 60 minutes behind"},
		"two hours":              {&judge.Closer{Ahead: 7200}, nil, "its clock is 2 hours ahead"},
		"days":                   {&judge.Closer{Ahead: -172800}, nil, "its clock is 2 days behind"},
		"half a day":             {&judge.Closer{Ahead: 86400 + 12*3600}, nil, "its clock is 36 hours ahead"},
		"it staples a revocation": {&judge.Closer{Staple: &revoked}, nil, "the response that the device staples " +
			"says that the certificate was revoked on " + day + " (keyCompromise)"},
		"its staple is of no use": {&judge.Closer{Failed: "it has expired"}, nil, "it has expired"},
		"a second certificate": {&judge.Closer{}, []*cert.Certificate{second.Certificate},
			"clients that take only ECDSA P-256 keys get “other.example”, until " +
				second.NotAfter.Format(time.DateOnly) +
				"|second certificate (ECDSA P-256): gate.example is not among the names of other.example"},
	} {
		slot := judge.Slot{ServerName: "gate.example", Closer: c.look, Second: c.second}
		got := s.Judge([]*cert.Certificate{leaf.Certificate}, slot, at)
		var texts []string
		for _, f := range got.Findings {
			texts = append(texts, f.What)
		}
		if text := strings.Join(texts, "|"); text != c.want {
			t.Errorf("%s: %s", name, text)
		}
	}
	// A replacement may have given it the second of its two certificates.
	for _, installed := range []string{second.SHA256, leaf.SHA256, strings.Repeat("0", 64)} {
		slot := judge.Slot{Installed: installed, Closer: &judge.Closer{},
			Second: []*cert.Certificate{second.Certificate}}
		got := s.Judge([]*cert.Certificate{leaf.Certificate}, slot, at).State.Base
		if (got == due.Unexpected) != (installed != second.SHA256 && installed != leaf.SHA256) {
			t.Errorf("installed was %s: it is %s", installed, got)
		}
	}
}

// What was found out about a certificate is said with who says it; a good one is not told of.
func TestWhatIsKnownOfRevocationIsSaid(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.example")
	s := &judge.Snapshot{Anchors: chain.NewPool(root.Certificate), Authorities: chain.NewPool(root.Certificate)}
	for name, c := range map[string]struct {
		known judge.Revocation
		code  finding.Code
		says  string
	}{
		"good": {judge.Revocation{Statement: revocation.Statement{Status: revocation.Good},
			Source: "ocsp.example"}, "", ""},
		"revoked": {judge.Revocation{Statement: revocation.Statement{Status: revocation.Revoked, At: testkit.Now},
			Source: "ocsp.example"}, finding.Revoked, "“gate.example” was revoked on " +
			testkit.Now.Format(time.DateOnly) + "; ocsp.example says so"},
		"unknown": {judge.Revocation{Statement: revocation.Statement{Status: revocation.Unknown},
			Source: "ocsp.example"}, finding.RevocationUnknown, "ocsp.example does not know “gate.example”"},
		"not learnt": {judge.Revocation{Failed: "nobody answers"}, finding.RevocationUnknown,
			"whether “gate.example” was revoked is not known: nobody answers"},
	} {
		s.Revocations = map[string]judge.Revocation{leaf.SHA256: c.known}
		got := s.Judge([]*cert.Certificate{leaf.Certificate}, judge.Slot{ServerName: "gate.example"},
			testkit.Now.Add(time.Hour))
		at := slices.IndexFunc(got.Findings, func(f finding.Finding) bool { return f.Code == c.code })
		if c.code == "" && len(got.Findings) != 0 || c.code != "" && (at < 0 || got.Findings[at].What != c.says) {
			t.Errorf("%s: %+v", name, got.Findings)
		}
	}
}

// A device is touched in its own windows, else in those of its tags, each of which must be open, else in those of its
// site. Freezes add up.
func TestTheNearestWindowsCount(t *testing.T) {
	const monday, tuesday, both = "DTSTART;TZID=UTC:20260105T200000\nRRULE:FREQ=WEEKLY;BYDAY=MO\nDURATION:PT2H",
		"DTSTART;TZID=UTC:20260106T200000\nRRULE:FREQ=WEEKLY;BYDAY=TU\nDURATION:PT2H",
		"DTSTART;TZID=UTC:20260105T200000\nRRULE:FREQ=WEEKLY;BYDAY=MO,TU\nDURATION:PT2H"
	yes := true
	s := &judge.Snapshot{Scopes: map[string]policy.Rules{"fleet": {}, "device/own": rules(t, tuesday),
		"tag/early": rules(t, monday),
		"tag/late":  rules(t, tuesday), "tag/either": rules(t, both), "site/Petrel": rules(t, monday),
		"tag/quiet": {KeepHolidays: &yes}},
		Sites: map[string]policy.Times{"Petrel": {Holidays: due.Days{"2026-06-01": true}}}}
	mon, tue := time.Date(2026, 6, 1, 21, 0, 0, 0, time.UTC), time.Date(2026, 6, 2, 21, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		device   string
		tags     []string
		mon, tue bool
	}{
		"those of its site":             {"box", nil, true, false},
		"its own":                       {"own", nil, false, true},
		"its own, whatever its tags":    {"own", []string{"early"}, false, true},
		"those of its tag":              {"box", []string{"late"}, false, true},
		"those of both tags":            {"box", []string{"either", "early"}, true, false},
		"tags that never agree":         {"box", []string{"early", "late"}, false, false},
		"a tag without windows":         {"box", []string{"unknown"}, true, false},
		"on a holiday, where it counts": {"box", []string{"quiet"}, false, false},
	} {
		times := s.Touches(judge.Place{Device: c.device, Site: "Petrel"}, c.tags)
		_, closedMon := times.Opening(mon, 0)
		_, closedTue := times.Opening(tue, 0)
		if (closedMon == "") != c.mon || (closedTue == "") != c.tue {
			t.Errorf("%s: on Monday %v, on Tuesday %v", name, closedMon, closedTue)
		}
	}
}

func rules(t *testing.T, windows string) policy.Rules {
	t.Helper()
	r := policy.Rules{Windows: []string{windows}}
	if err := r.Check(); err != nil {
		t.Fatal(err)
	}
	return r.Prepared()
}
