package testkit

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"encoding/asn1"
	"testing"
)

// Odd signs a certificate of this authority again after its text was changed, as
// boxes do that write certificates with programs of their own. What stands
// between from and to must have the same length.
func (s Signer) Odd(t testing.TB, der, from, to []byte) []byte {
	t.Helper()
	var outer struct {
		TBS       asn1.RawValue
		Algorithm asn1.RawValue
		Signature asn1.BitString
	}
	if _, err := asn1.Unmarshal(der, &outer); err != nil {
		t.Fatal(err)
	}
	if len(from) != len(to) || !bytes.Contains(outer.TBS.FullBytes, from) {
		t.Fatalf("%x does not stand in the certificate", from)
	}
	tbs := bytes.Replace(outer.TBS.FullBytes, from, to, 1)
	digest := sha256.Sum256(tbs)
	signature, err := s.Key.Sign(rand.Reader, digest[:], crypto.SHA256)
	if err != nil {
		t.Fatal(err)
	}
	outer.TBS, outer.Signature = asn1.RawValue{FullBytes: tbs},
		asn1.BitString{Bytes: signature, BitLength: 8 * len(signature)}
	odd, err := asn1.Marshal(outer)
	if err != nil {
		t.Fatal(err)
	}
	return odd
}
