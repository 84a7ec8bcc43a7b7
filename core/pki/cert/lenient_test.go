package cert_test

import (
	"bytes"
	"crypto/x509"
	"slices"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// What strict readers refuse and old boxes serve is read all the same: what it
// says, who signed it, and why others will have nothing of it.
func TestWhatStrictReadersRefuseIsReadAsFarAsItGoes(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate_1.tidewrack.example", func(c *x509.Certificate) {
		c.DNSNames = []string{"gate.tidewrack.example", "second.tidewrack.example"}
	})
	serial := leaf.SerialNumber.Bytes()
	negative := slices.Clone(serial)
	negative[0] |= 0x80
	begins := []byte(leaf.NotBefore.UTC().Format("060102150405Z"))
	for fault, change := range map[string]struct {
		from, to []byte
		seen     func(*cert.Certificate) bool
	}{
		"a negative serial number": {serial, negative, func(c *cert.Certificate) bool {
			return c.SerialNumber.Sign() < 0 && c.Serial()[0] == '-'
		}},
		"an underscore in a PrintableString": {append([]byte{0x0c, 24}, "gate_1"...),
			append([]byte{0x13, 24}, "gate_1"...),
			func(c *cert.Certificate) bool { return c.CommonName() == "gate_1.tidewrack.example" }},
		"a time without seconds": {append([]byte{0x17, 13}, begins...),
			append([]byte{0x18, 13}, []byte("20260501"+"1200Z")...),
			func(c *cert.Certificate) bool { return c.NotBefore.Equal(time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)) }},
		"version 4": {[]byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 3}, func(c *cert.Certificate) bool {
			return c.Version == 4
		}},
		"a name that is no ASCII": {[]byte("second.tide"), []byte("sec\xf6nd.tide"), func(c *cert.Certificate) bool {
			return slices.Equal(c.DNSNames, []string{"gate.tidewrack.example"})
		}},
		"the same extension twice": {[]byte{0x55, 0x1d, 0x25}, []byte{0x55, 0x1d, 0x23},
			func(c *cert.Certificate) bool {
				return len(c.ExtKeyUsage) == 0
			}},
		"an address of a strange length": {append([]byte{0x82, 24}, "second.tidewrack.example"...),
			append([]byte{0x87, 24}, "second.tidewrack.example"...), func(c *cert.Certificate) bool {
				return len(c.IPAddresses) == 0
			}},
	} {
		der := root.Odd(t, leaf.Raw, change.from, change.to)
		if _, err := x509.ParseCertificate(der); err == nil {
			t.Fatalf("%s: crypto/x509 takes it; the example shows nothing", fault)
		}
		c, err := cert.Parse(der)
		if err != nil {
			t.Errorf("%s: %v", fault, err)
			continue
		}
		if c.Refused == "" || !bytes.Equal(c.Raw, der) || c.SignedBy(root.Certificate) != nil ||
			!c.SameKey(leaf.RawSubjectPublicKeyInfo) || c.Issuer() != "CN=Quay Root" {
			t.Errorf("%s: refused for %q, signed by the root: %v, issuer %s", fault, c.Refused,
				c.SignedBy(root.Certificate), c.Issuer())
		}
		if !change.seen(c) || !c.Matches("gate.tidewrack.example") {
			t.Errorf("%s is read as %+v", fault, c.Facts())
		}
	}
	if leaf.Refused != "" {
		t.Errorf("a sound certificate is refused: %s", leaf.Refused)
	}
}
