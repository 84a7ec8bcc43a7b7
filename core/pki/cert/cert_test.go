package cert_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/asn1"
	"math/big"
	"slices"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

func TestTheFactsOfACertificate(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		c.DNSNames = append(c.DNSNames, "*.pier.tidewrack.example")
	})
	f := leaf.Facts()
	if f.Name != "gate.tidewrack.example" || f.Key != "ECDSA P-256" || f.SelfSigned || f.Authority ||
		f.Issuer != "CN=Quay Root" || len(f.SHA256) != 64 || len(f.SHA1) != 40 {
		t.Errorf("%+v", f)
	}
	if !root.SelfSigned() || !root.IsAuthority() || root.SignedBy(root.Certificate) != nil ||
		leaf.SignedBy(root.Certificate) != nil {
		t.Error("who signed whom is not seen")
	}
	for name, want := range map[string]bool{
		"gate.tidewrack.example": true, "GATE.tidewrack.example.": true, "a.pier.tidewrack.example": true,
		"a.b.pier.tidewrack.example": false, "pier.tidewrack.example": false, "192.0.2.1": false,
	} {
		if leaf.Matches(name) != want {
			t.Errorf("%s: %v", name, !want)
		}
	}
	for n, want := range map[int64]string{1: "01", 255: "ff", 256: "0100", -2: "-02"} {
		if got := cert.SerialText(big.NewInt(n)); got != want {
			t.Errorf("serial %d is written %s", n, got)
		}
	}
	if _, err := cert.Parse(append(slices.Clone(leaf.Raw), 0)); err == nil {
		t.Error("bytes behind a certificate are taken")
	}
}

// Old boxes serve SHA-1, which crypto/x509 refuses to check: the path must be
// found all the same, and then be called weak.
func TestAnOldHashIsCheckedAndCalledWeak(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Skip("this Go makes no such small keys: ", err)
	}
	template := x509.Certificate{NotBefore: testkit.Now, NotAfter: testkit.Now.AddDate(1, 0, 0), IsCA: true,
		BasicConstraintsValid: true}
	made, err := cert.Issue(rand.Reader, template, key.Public(), nil, key)
	if err != nil {
		t.Fatal(err)
	}
	old := withSHA1(t, made, key)
	if !old.WeakHash() || !old.WeakKey() || !old.SelfSigned() {
		t.Errorf("weak hash %v, weak key %v, self-signed %v", old.WeakHash(), old.WeakKey(), old.SelfSigned())
	}
	other, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	if forged := withSHA1(t, made, other); forged.SelfSigned() {
		t.Error("a forged signature over SHA-1 is believed")
	}
}

// withSHA1 signs a certificate again, with the algorithm that old boxes used.
func withSHA1(t *testing.T, c *cert.Certificate, key *rsa.PrivateKey) *cert.Certificate {
	t.Helper()
	var outer struct {
		TBS       asn1.RawValue
		Algorithm asn1.RawValue
		Signature asn1.BitString
	}
	if _, err := asn1.Unmarshal(c.Raw, &outer); err != nil {
		t.Fatal(err)
	}
	sha256WithRSA, sha1WithRSA := []byte{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x0b}, byte(0x05)
	swap := func(der []byte) []byte {
		der = slices.Clone(der)
		for i := 0; i+len(sha256WithRSA) <= len(der); i++ {
			if slices.Equal(der[i:i+len(sha256WithRSA)], sha256WithRSA) {
				der[i+len(sha256WithRSA)-1] = sha1WithRSA
			}
		}
		return der
	}
	tbs := swap(outer.TBS.FullBytes)
	digest := sha1.Sum(tbs)
	signature, err := rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA1, digest[:])
	if err != nil {
		t.Fatal(err)
	}
	outer.TBS, outer.Algorithm = asn1.RawValue{FullBytes: tbs},
		asn1.RawValue{FullBytes: swap(outer.Algorithm.FullBytes)}
	outer.Signature = asn1.BitString{Bytes: signature, BitLength: 8 * len(signature)}
	der, err := asn1.Marshal(outer)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := cert.Parse(der)
	if err != nil {
		t.Fatal(err)
	}
	return signed
}

func FuzzParse(f *testing.F) {
	root := testkit.Root(f, "Quay Root")
	f.Add(root.Raw)
	f.Add(root.Leaf(f, "gate.tidewrack.example").Raw)
	f.Fuzz(func(t *testing.T, der []byte) {
		if c, err := cert.Parse(der); err == nil {
			c.Facts()
			c.Extensions()
			c.Matches("gate.tidewrack.example")
		}
	})
}
