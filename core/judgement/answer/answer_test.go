package answer_test

import (
	"crypto/x509"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/answer"
	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// An answer that clients would accept is doubtful where it is not what the signer, the slot and its clients let expect.
func TestAnAnswerIsHeldAgainstWhatIsExpected(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	issuing, other := root.Below(t, "Quay Issuing"), root.Below(t, "Quay Trial")
	renewed := issuing.Certificate // the same key: the same issuer
	lives := func(days int) testkit.Change {
		return func(c *x509.Certificate) { c.NotBefore, c.NotAfter = testkit.Now, testkit.Now.AddDate(0, 0, days) }
	}
	old := issuing.Leaf(t, "gate.tidewrack.example", lives(40)).Certificate
	factory := testkit.Root(t, "Brinewell appliance", lives(3000)).Certificate
	gone := issuing.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		c.NotBefore, c.NotAfter = testkit.Now.AddDate(-1, 0, 0), testkit.Now.AddDate(0, 0, -1)
	}).Certificate
	both := func(c *x509.Certificate) { c.ExtKeyUsage = append(c.ExtKeyUsage, x509.ExtKeyUsageClientAuth) }
	client := issuing.Leaf(t, "gate.tidewrack.example", lives(40), both).Certificate
	servers := answer.Habits{}.Learn(old, nil, true)
	known := []answer.Issuer{{SPKI: answer.By(old, renewed).SPKI, Subject: "Quay Issuing", Days: 100}}
	for _, c := range []struct {
		name string
		by   testkit.Signer
		days int
		e    answer.Expected
		want []finding.Code
	}{
		{"nothing is known", issuing, 90, answer.Expected{}, nil},
		{"the known issuer", issuing, 100, answer.Expected{Issuers: known}, nil},
		{"another issuer", other, 100, answer.Expected{Issuers: known}, []finding.Code{finding.IssuerUnexpected}},
		{"nearly as long as ever", issuing, 90, answer.Expected{Issuers: known}, nil},
		{"shorter than ever", issuing, 89, answer.Expected{Issuers: known}, []finding.Code{finding.LifetimeTooShort}},
		{"shorter than ever, and allowed", issuing, 47, answer.Expected{Issuers: known, MinDays: 47}, nil},
		{"shorter than allowed", issuing, 46, answer.Expected{MinDays: 47}, []finding.Code{finding.LifetimeTooShort}},
		{"a third of the longest", issuing, 66, answer.Expected{MaxDays: 200}, nil},
		{"less than a third", issuing, 65, answer.Expected{MaxDays: 200}, []finding.Code{finding.LifetimeTooShort}},
		{"due at once", issuing, 29, answer.Expected{Lead: 30 * 24 * time.Hour},
			[]finding.Code{finding.LifetimeTooShort}},
		{"due tomorrow", issuing, 31, answer.Expected{Lead: 30 * 24 * time.Hour}, nil},
		{"ends before the old one", issuing, 39, answer.Expected{Replaces: old}, []finding.Code{finding.EndsBeforeOld}},
		{"ends with the old one", issuing, 40, answer.Expected{Replaces: old}, nil},
		{"the old one is the device's own", issuing, 90, answer.Expected{Replaces: factory}, nil},
		{"the old one has expired", issuing, 1, answer.Expected{Replaces: gone}, nil},
		{"the use for clients is lost", issuing, 90, answer.Expected{Replaces: client},
			[]finding.Code{finding.UseLost}},
		{"it is, and this signer gives no other", issuing, 90, answer.Expected{Replaces: client, Habits: servers}, nil},
		{"clients lose their trust", issuing, 90, answer.Expected{Lost: []string{"tills"}},
			[]finding.Code{finding.TrustLost}},
		{"all at once", other, 1, answer.Expected{Issuers: known, MinDays: 47, Replaces: old,
			Lost: []string{"tills"}}, []finding.Code{finding.IssuerUnexpected, finding.LifetimeTooShort,
			finding.EndsBeforeOld, finding.TrustLost}},
	} {
		c.e.At, c.e.Signer = testkit.Now, "harbour-ca"
		leaf := c.by.Leaf(t, "gate.tidewrack.example", lives(c.days))
		found := answer.Doubts([]*cert.Certificate{leaf.Certificate, c.by.Certificate, root.Certificate}, c.e)
		ok := len(found) == len(c.want)
		for i := range found {
			ok = ok && found[i].Code == c.want[i] && found[i].Code.Doubt()
		}
		if !ok {
			t.Errorf("%s: %v, want %v", c.name, found, c.want)
		}
	}
}

// What a signer never gave is told before the next request; one answer that has it takes that back. An answer that
// was not accepted says nothing of uses.
func TestHabitsAreLearnt(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := func(names []string, uses ...x509.ExtKeyUsage) *cert.Certificate {
		return root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
			c.DNSNames, c.ExtKeyUsage = names, uses
		}).Certificate
	}
	asked := []string{"gate.tidewrack.example", "gate", "quay", "192.0.2.7", "*.tidewrack.example"}
	bare := leaf(asked[:1], x509.ExtKeyUsageServerAuth)
	var h answer.Habits
	if h.Learn(bare, asked, false).ServersAlone() || len(h.Cautions("harbour-ca", asked, true)) != 0 {
		t.Error("nothing is known yet")
	}
	for range 2 {
		h = h.Learn(bare, asked, true)
	}
	cautions := strings.Join(h.Cautions("harbour-ca", asked, true), "\n")
	for _, want := range []string{"servers alone (2 answers)", "names without a domain out of 2 answers and never " +
		"kept one; gate is", "IP addresses out of 2", "wildcards out of 2"} {
		if strings.Count(cautions, want) != 1 {
			t.Errorf("%q is not told once:\n%s", want, cautions)
		}
	}
	if got := h.Cautions("harbour-ca", asked[:1], false); len(got) != 0 {
		t.Errorf("what is not asked for is told: %v", got)
	}
	h = h.Learn(leaf(asked[:3], x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth), asked[:3], true)
	if got := h.Cautions("harbour-ca", asked[:3], true); len(got) != 0 || len(h.Texts()) != 2 {
		t.Errorf("what it kept by now is told: %v, %v", got, h.Texts())
	}
}
