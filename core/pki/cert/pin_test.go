package cert_test

import (
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// What is pinned is the same as other programs compute of the same bytes.
func TestWhatIsPinnedOfACertificate(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	c := root.Leaf(t, "gate.tidewrack.example").Certificate
	one, two := sha1.Sum(c.Raw), sha256.Sum256(c.RawSubjectPublicKeyInfo)
	for pin, want := range map[cert.Pin]string{
		cert.PinSHA256: c.SHA256, cert.PinSHA1: hex.EncodeToString(one[:]),
		cert.PinKey:         base64.StdEncoding.EncodeToString(two[:]),
		cert.PinRoot:        string(root.PEM()),
		cert.PinCertificate: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})),
	} {
		of := c
		if pin == cert.PinRoot {
			of = root.Certificate
		}
		if got := pin.Of(of); got != want {
			t.Errorf("%s: %s, not %s", pin, got, want)
		}
	}
	if len(cert.Pins) != 5 {
		t.Errorf("they are %v", cert.Pins)
	}
}
