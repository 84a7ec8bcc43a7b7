package chain_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"slices"
	"testing"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/testkit"
)

// A weak key is refused, but for a device that can do no better; that of an authority always is.
func TestWhatIsWeakAndForWhom(t *testing.T) {
	const name = "gate.tidewrack.example"
	weak, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	root := testkit.Root(t, "Quay Root")
	strong := root.Leaf(t, name)
	issue := func(template x509.Certificate) *cert.Certificate {
		template.NotBefore, template.NotAfter = strong.NotBefore, strong.NotAfter
		template.BasicConstraintsValid = true
		c, err := cert.Issue(rand.Reader, template, weak.Public(), root.Certificate, root.Key)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	leaf := issue(x509.Certificate{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	old := testkit.Signer{Certificate: issue(x509.Certificate{Subject: pkix.Name{CommonName: "Old Authority"},
		IsCA: true, KeyUsage: x509.KeyUsageCertSign}), Key: weak}
	for about, c := range map[string]struct {
		leaf *cert.Certificate
		weak bool
		want finding.Severity
	}{
		"a leaf":                                {leaf, false, finding.Error},
		"a leaf of a device that knows no more": {leaf, true, finding.Warning},
		"an authority":                          {old.Leaf(t, name).Certificate, false, finding.Error},
		"an authority of such a device":         {old.Leaf(t, name).Certificate, true, finding.Error},
	} {
		path := chain.Complete(c.leaf, chain.NewPool(old.Certificate), chain.NewPool(root.Certificate), testkit.Now)
		found := chain.Judge(path, chain.Terms{At: testkit.Now, Weak: c.weak})
		if len(found) != 1 || found[0].Code != finding.WeakKey || found[0].Severity != c.want {
			t.Errorf("%s: %+v", about, found)
		}
	}
}

// RFC 5280, 4.1.2.2: a serial number is positive, and has 20 octets at most.
func TestASerialNumberThatIsNone(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	for about, c := range map[string]struct {
		serial *big.Int
		odd    bool
	}{
		"of 20 octets":     {new(big.Int).Sub(new(big.Int).Lsh(big.NewInt(1), 159), big.NewInt(1)), false},
		"of one bit more":  {new(big.Int).Lsh(big.NewInt(1), 159), true},
		"zero":             {big.NewInt(0), true},
		"negative":         {big.NewInt(-1), true},
		"the smallest one": {big.NewInt(1), false},
	} {
		leaf := *root.Leaf(t, "gate.tidewrack.example").Certificate
		leaf.SerialNumber = c.serial
		path := chain.Path{Certificates: []*cert.Certificate{&leaf, root.Certificate}, Complete: true, Anchored: true}
		found := codes(chain.Judge(path, chain.Terms{At: testkit.Now}))
		if got := slices.Contains(found, finding.SerialOdd); got != c.odd {
			t.Errorf("a serial number %s: %v", about, found)
		}
	}
}

// A key that may only encipher still serves old clients; one that may do neither serves nobody.
func TestHowBadAMissingKeyUsageIs(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	for usage, want := range map[x509.KeyUsage]finding.Severity{
		x509.KeyUsageKeyEncipherment: finding.Warning, x509.KeyUsageKeyAgreement: finding.Error} {
		leaf := root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) { c.KeyUsage = usage })
		path := chain.Complete(leaf.Certificate, chain.NewPool(), chain.NewPool(root.Certificate), testkit.Now)
		found := chain.Judge(path, chain.Terms{At: testkit.Now})
		if len(found) != 1 || found[0].Code != finding.UsageWrong || found[0].Severity != want {
			t.Errorf("usage %b: %+v", usage, found)
		}
	}
}

// Authorities that signed each other make no path that goes in a circle.
func TestAuthoritiesThatSignedEachOther(t *testing.T) {
	a, b := testkit.Root(t, "Quay A"), testkit.Root(t, "Quay B")
	aByB, bByA := b.Cross(t, a), a.Cross(t, b)
	leaf := a.Leaf(t, "gate.tidewrack.example")
	heap := chain.NewPool(aByB.Certificate, bByA.Certificate)
	path := chain.Complete(leaf.Certificate, heap, chain.NewPool(), testkit.Now)
	for i, c := range path.Certificates {
		for _, other := range path.Certificates[i+1:] {
			if c.SubjectKey() == other.SubjectKey() && c.SameKey(other.RawSubjectPublicKeyInfo) {
				t.Errorf("%s is in the path of %d twice", c.ShortName(), len(path.Certificates))
			}
		}
	}
}

// A pool over another one has what is in both, in the order in which it came, and changes nothing below it.
func TestAPoolOverAnother(t *testing.T) {
	root, other := testkit.Root(t, "Quay Root"), testkit.Root(t, "Quay Root")
	leaf := other.Leaf(t, "gate.tidewrack.example")
	below := chain.NewPool(root.Certificate)
	over := below.With(other.Certificate, root.Certificate)
	if all := over.All(); len(all) != 2 || all[0] != root.Certificate || all[1] != other.Certificate {
		t.Errorf("it has %d certificates", len(all))
	}
	if len(below.All()) != 1 || below.Has(other.Certificate) || !over.Has(root.Certificate) {
		t.Error("the pool below was changed, or is not seen")
	}
	if got := over.Issuers(leaf.Certificate); len(got) != 1 || got[0] != other.Certificate {
		t.Errorf("%d issuers", len(got))
	}
	if got := below.Issuers(leaf.Certificate); len(got) != 0 {
		t.Errorf("an authority of the same name is an issuer")
	}
	withoutID := *leaf.Certificate
	withoutID.AuthorityKeyId = nil
	if got := over.Issuers(&withoutID); len(got) != 1 || got[0] != other.Certificate {
		t.Errorf("without a key identifier: %d issuers", len(got))
	}
}
