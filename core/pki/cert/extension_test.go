package cert_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"net"
	"strings"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

func said(c *cert.Certificate) map[string]cert.Extension {
	out := map[string]cert.Extension{}
	for _, e := range c.Extensions() {
		out[e.Name] = e
	}
	return out
}

// What the extensions of a leaf and of an authority say is written in words, and which of them are critical.
func TestExtensionsAreSaidInWords(t *testing.T) {
	root := testkit.Root(t, "Quay Root", func(c *x509.Certificate) { c.MaxPathLen = 1 })
	leaf := root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		c.IPAddresses = []net.IP{net.IPv4(192, 0, 2, 7)}
		c.CRLDistributionPoints = []string{"http://crl.example/quay.crl"}
		c.OCSPServer, c.IssuingCertificateURL = []string{"http://ocsp.example"}, []string{"http://ca.example/quay.cer"}
		policy, _ := x509.OIDFromInts([]uint64{2, 23, 140, 1, 2, 1})
		c.Policies = []x509.OID{policy}
	})
	of := said(leaf.Certificate)
	for name, want := range map[string]string{
		"keyUsage": "digitalSignature", "extKeyUsage": "serverAuth", "basicConstraints": "no authority",
		"subjectAltName": "gate.tidewrack.example, 192.0.2.7", "cRLDistributionPoints": "http://crl.example/quay.crl",
		"authorityInfoAccess":    "OCSP http://ocsp.example, issuer http://ca.example/quay.cer",
		"certificatePolicies":    "2.23.140.1.2.1",
		"authorityKeyIdentifier": fmt.Sprintf("%x", root.X509().SubjectKeyId),
	} {
		if of[name].Value != want {
			t.Errorf("%s is %q, not %q", name, of[name].Value, want)
		}
	}
	if !of["keyUsage"].Critical || of["extKeyUsage"].Critical {
		t.Errorf("critical are: %+v", of)
	}
	if is := said(root.Certificate)["basicConstraints"]; is.Value != "authority, path length 1" ||
		!is.Critical {
		t.Errorf("of the root: %+v", is)
	}
}

// An extension that nobody knows is shown by its number and its first bytes; very many and very long ones are cut.
func TestExtensionsOfAStrangerAreBounded(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		for i := range 200 {
			c.ExtraExtensions = append(c.ExtraExtensions, pkix.Extension{Id: asn1.ObjectIdentifier{1, 2, 3, i},
				Value: []byte(strings.Repeat("\x1b", 100))})
		}
		for i := range 300 {
			c.DNSNames = append(c.DNSNames, fmt.Sprintf("name-%d.example", i))
		}
	})
	all := leaf.Extensions()
	if len(all) != 64 {
		t.Errorf("%d extensions are shown", len(all))
	}
	for _, e := range all {
		if len(e.Value) > 1010 || strings.Contains(e.Value, "\x1b") {
			t.Errorf("%s takes %d bytes: %q", e.Name, len(e.Value), e.Value)
		}
	}
	if last := all[len(all)-1]; !strings.HasPrefix(last.Value, "100 bytes: 1b1b") || len(last.Value) > 150 {
		t.Errorf("the last one is %+v", last)
	}
}
