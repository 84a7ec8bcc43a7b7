package judge_test

import (
	"slices"
	"testing"
	"time"

	"freshseal/core/cert"
	"freshseal/core/chain"
	"freshseal/core/due"
	"freshseal/core/finding"
	"freshseal/core/judge"
	"freshseal/core/policy"
	"freshseal/core/testkit"
)

func TestAReadingIsJudgedByASnapshotAlone(t *testing.T) {
	const host = "gate.tidewrack.example"
	root := testkit.Root(t, "Root")
	middle := root.Below(t, "Middle")
	leaf := middle.Leaf(t, host)
	required := policy.Rules{RequiredNames: []string{"gate"}}
	s := &judge.Snapshot{Anchors: chain.NewPool(root.Certificate), Authorities: chain.NewPool(middle.Certificate), Scopes: map[string]policy.Rules{"device/strict": required}}
	chainOf := func(signers ...*testkit.Signer) (out []*testkit.Signer) { return signers }
	for about, c := range map[string]struct {
		chain []*testkit.Signer
		slot  judge.Slot
		at    time.Time
		base  due.Condition
		codes []finding.Code
	}{
		"well":                         {chainOf(&leaf, &middle), judge.Slot{ServerName: host}, testkit.Now, due.Fresh, nil},
		"without its intermediate":     {chainOf(&leaf), judge.Slot{ServerName: host}, testkit.Now, due.Flawed, []finding.Code{finding.ChainNotServed}},
		"under another name":           {chainOf(&leaf, &middle), judge.Slot{ServerName: "other.example"}, testkit.Now, due.Flawed, []finding.Code{finding.NameMissing}},
		"a device with rules":          {chainOf(&leaf, &middle), judge.Slot{ServerName: host, Place: judge.Place{Device: "strict"}}, testkit.Now, due.Flawed, []finding.Code{finding.NameMissing}},
		"not what was installed":       {chainOf(&leaf, &middle), judge.Slot{ServerName: host, Installed: "another"}, testkit.Now, due.Stray, nil},
		"after the end of the leaf":    {chainOf(&leaf, &middle), judge.Slot{ServerName: host}, leaf.NotAfter.Add(time.Second), due.Flawed, []finding.Code{finding.Lapsed}},
		"the root itself, self-signed": {chainOf(&root), judge.Slot{}, testkit.Now, due.Factory, nil},
	} {
		got := s.Judge(certs(c.chain), c.slot, c.at)
		if got.Standing.Base != c.base {
			t.Errorf("%s: it is %s, want %s: %v", about, got.Standing.Base, c.base, got.Findings)
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
	dark := s.Dark(finding.Failure{What: "nobody answers"}, judge.Slot{})
	if dark.Standing.Base != due.Dark || !dark.Until.IsZero() || len(dark.Findings) != 1 {
		t.Errorf("%+v", dark)
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
