package cert

import (
	"crypto/sha256"
	"encoding/base64"
)

// Pin names what somebody recorded of a certificate, to recognise it by.
type Pin string

// What is pinned.
const (
	PinSHA256      Pin = "sha256"      // SHA-256 of the certificate, hexadecimal
	PinSHA1        Pin = "sha1"        // SHA-1 of the certificate, hexadecimal
	PinKey         Pin = "key"         // SHA-256 of the SubjectPublicKeyInfo, base64 (RFC 7469, section 2.4)
	PinCertificate Pin = "certificate" // all of it, PEM
	PinRoot        Pin = "root"        // the root at the end of its chain, PEM, in a trust store
)

// Pins are all of them.
var Pins = []Pin{PinSHA256, PinSHA1, PinKey, PinCertificate, PinRoot}

// Breaks returns what happens at a replacement to whoever pinned this.
func (p Pin) Breaks() string {
	switch p {
	case PinKey:
		return "rejects the new certificate until it knows the new key; nothing breaks where the key stays"
	case PinRoot:
		return "rejects the new certificate where its chain ends in another root, until it trusts that one"
	}
	return "rejects the new certificate until it knows it"
}

// Of returns what is pinned, of a certificate; of PinRoot it must be the root.
func (p Pin) Of(c *Certificate) string {
	switch p {
	case PinSHA1:
		return c.SHA1()
	case PinKey:
		sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
		return base64.StdEncoding.EncodeToString(sum[:])
	case PinCertificate, PinRoot:
		return string(c.PEM())
	}
	return c.SHA256
}
