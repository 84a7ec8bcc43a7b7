package cert_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// With a key that is out of bounds no signature is checked: the check would cost
// minutes. The key is made up; nobody can make such a signature, and nobody has to.
func TestNoSignatureIsCheckedWithAnAbsurdKey(t *testing.T) {
	modulus := func(bits uint) *big.Int { return new(big.Int).SetBit(new(big.Int).Lsh(big.NewInt(1), bits-1), 0, 1) }
	for about, c := range map[string]struct {
		key rsa.PublicKey
		ok  bool
	}{
		"2,048 bits":                  {rsa.PublicKey{N: modulus(2048), E: 65537}, true},
		"16,384 bits":                 {rsa.PublicKey{N: modulus(16_384), E: 65537}, true},
		"16,385 bits":                 {rsa.PublicKey{N: modulus(16_385), E: 65537}, false},
		"two million bits":            {rsa.PublicKey{N: modulus(2_000_000), E: 65537}, false},
		"the exponent 1":              {rsa.PublicKey{N: modulus(2048), E: 1}, false},
		"an even exponent":            {rsa.PublicKey{N: modulus(2048), E: 65536}, false},
		"an exponent of 62 bits":      {rsa.PublicKey{N: modulus(2048), E: 1<<61 + 1}, false},
		"an even modulus":             {rsa.PublicKey{N: new(big.Int).Lsh(big.NewInt(1), 2047), E: 65537}, false},
		"a negative modulus":          {rsa.PublicKey{N: new(big.Int).Neg(modulus(2048)), E: 65537}, false},
		"no modulus":                  {rsa.PublicKey{E: 65537}, false},
		"the smallest exponent there": {rsa.PublicKey{N: modulus(2048), E: 3}, true},
	} {
		if err := cert.Bounded(&c.key); (err == nil) != c.ok || err != nil && !errors.Is(err, cert.ErrUnbounded) {
			t.Errorf("%s: %v", about, err)
		}
	}
}

// A certificate that was parsed before is not checked for its own signature again.
func TestParsedAgainItIsAsItWas(t *testing.T) {
	root := testkit.Root(t, "Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	for _, c := range []*cert.Certificate{root.Certificate, leaf.Certificate} {
		again, err := cert.Again(c.Raw, c.SelfSigned())
		if err != nil || again.SelfSigned() != c.SelfSigned() || again.SHA256 != c.SHA256 ||
			again.Subject() != c.Subject() {
			t.Errorf("%s: %v, self-signed %v", c.Subject(), err, again.SelfSigned())
		}
	}
}

// A certificate that calls itself self-signed, with a key of a million bits: parsing it
// would try its signature for an hour, were that not refused.
func TestAnAbsurdKeyIsParsedAtOnce(t *testing.T) {
	n := new(big.Int).SetBit(new(big.Int).Lsh(big.NewInt(1), 999_999), 0, 1)
	signer := testkit.NewKey(t)
	template := x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "absurd"},
		NotBefore: testkit.Now, NotAfter: testkit.Now.AddDate(1, 0, 0), SignatureAlgorithm: x509.ECDSAWithSHA256}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &rsa.PublicKey{N: n, E: 1<<31 - 1}, signer)
	if err != nil {
		t.Fatal(err)
	}
	c, err := cert.Parse(der)
	if err != nil || c.SelfSigned() || !c.SelfIssued() {
		t.Fatalf("%v, self-signed", err)
	}
	if err := c.SignedBy(c); !errors.Is(err, cert.ErrUnbounded) {
		t.Errorf("its own signature: %v", err)
	}
	if _, bits := c.KeySize(); bits != 1_000_000 {
		t.Errorf("its key has %d bits", bits)
	}
}
