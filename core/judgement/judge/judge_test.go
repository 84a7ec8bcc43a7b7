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
	"freshseal/core/testkit"
)

func TestAReadingIsJudgedByASnapshotAlone(t *testing.T) {
	const host = "gate.tidewrack.example"
	root := testkit.Root(t, "Root")
	middle := root.Below(t, "Middle")
	leaf := middle.Leaf(t, host)
	required := policy.Rules{RequiredNames: []string{"gate"}}
	s := &judge.Snapshot{Anchors: chain.NewPool(root.Certificate), Authorities: chain.NewPool(middle.Certificate),
		Scopes: map[string]policy.Rules{"device/strict": required}}
	chainOf := func(signers ...*testkit.Signer) (out []*testkit.Signer) { return signers }
	for about, c := range map[string]struct {
		chain []*testkit.Signer
		slot  judge.Slot
		at    time.Time
		base  due.Condition
		codes []finding.Code
	}{
		"well": {chainOf(&leaf, &middle), judge.Slot{ServerName: host}, testkit.Now,
			due.Fresh, nil},
		"without its intermediate": {chainOf(&leaf), judge.Slot{ServerName: host}, testkit.Now, due.Flawed,
			[]finding.Code{finding.ChainNotServed}},
		"under another name": {chainOf(&leaf, &middle), judge.Slot{ServerName: "other.example"},
			testkit.Now, due.Flawed, []finding.Code{finding.NameMissing}},
		"a device with rules": {chainOf(&leaf, &middle),
			judge.Slot{ServerName: host, Place: judge.Place{Device: "strict"}}, testkit.Now, due.Flawed,
			[]finding.Code{finding.NameMissing}},
		"not what was installed": {chainOf(&leaf, &middle), judge.Slot{ServerName: host, Installed: "another"},
			testkit.Now, due.Unexpected, nil},
		"after the end of the leaf": {chainOf(&leaf, &middle), judge.Slot{ServerName: host},
			leaf.NotAfter.Add(time.Second), due.Flawed, []finding.Code{finding.Expired}},
		"the root itself, self-signed": {chainOf(&root), judge.Slot{}, testkit.Now, due.Factory, nil},
	} {
		got := s.Judge(certs(c.chain), c.slot, c.at)
		if got.State.Base != c.base {
			t.Errorf("%s: it is %s, want %s: %v", about, got.State.Base, c.base, got.Findings)
		}
		for _, code := range c.codes {
			if !has(got.Findings, code) {
				t.Errorf("%s: %s is missing in %v", about, code, got.Findings)
			}
		}
	}
	// It holds until a certificate of the path ends, and is another one then.
	now := s.Judge(certs(chainOf(&leaf, &middle)), judge.Slot{ServerName: host}, testkit.Now)
	if !now.Until.Equal(leaf.NotAfter) {
		t.Errorf("it holds until %s instead of %s", now.Until, leaf.NotAfter)
	}
	unreachable := s.Unreachable(finding.Failure{What: "nobody answers"}, judge.Slot{})
	if unreachable.State.Base != due.Unreachable || !unreachable.Until.IsZero() || len(unreachable.Findings) != 1 {
		t.Errorf("%+v", unreachable)
	}
	if len(s.Authorities.All()) != 1 {
		t.Error("judging changed the snapshot")
	}
}

func certs(signers []*testkit.Signer) (out []*cert.Certificate) {
	for _, s := range signers {
		out = append(out, s.Certificate)
	}
	return out
}

func has(found []finding.Finding, code finding.Code) bool {
	return slices.ContainsFunc(found, func(f finding.Finding) bool { return f.Code == code })
}

// Every address of a slot must serve what the first serves.
func TestAnAddressThatDiffersIsFound(t *testing.T) {
	root := testkit.Root(t, "Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	s := &judge.Snapshot{Anchors: chain.NewPool(root.Certificate), Authorities: chain.NewPool()}
	same := judge.Other{Address: "192.0.2.2", Port: 443, SHA256: leaf.SHA256}
	other := judge.Other{Address: "2001:db8::2", Port: 443, Node: "north", SHA256: root.SHA256, Subject: "Root"}
	silent := judge.Other{Address: "192.0.2.3", Port: 8443,
		Failure: &finding.Failure{Code: "silent", What: "192.0.2.3 did not answer in time"}}
	for about, c := range map[string]struct {
		others []judge.Other
		says   []string
	}{
		"the same everywhere": {[]judge.Other{same}, nil},
		"another certificate": {[]judge.Other{same, other}, []string{"north ([2001:db8::2]:443) serves “Root”"}},
		"one that is silent": {[]judge.Other{silent, other},
			[]string{"192.0.2.3:8443 could not be read: 192.0.2.3 did not answer in time",
				"north ([2001:db8::2]:443) serves “Root”"}},
	} {
		got := s.Judge([]*cert.Certificate{leaf.Certificate}, judge.Slot{ServerName: "gate.tidewrack.example",
			Others: c.others}, testkit.Now)
		var found []finding.Finding
		for _, f := range got.Findings {
			if f.Code == finding.AddressDiffers {
				found = append(found, f)
			}
		}
		if len(found) != len(c.says) {
			t.Errorf("%s: %v", about, found)
			continue
		}
		for i, says := range c.says {
			if !strings.HasPrefix(found[i].What, says) {
				t.Errorf("%s: %q, want %q", about, found[i].What, says)
			}
		}
		if (got.State.Base == due.Flawed) != (len(c.says) > 0) {
			t.Errorf("%s is %s", about, got.State.Base)
		}
	}
}
