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
)

// Pins are all of them.
var Pins = []Pin{PinSHA256, PinSHA1, PinKey, PinCertificate}

// Of is what is pinned, of a certificate.
func (p Pin) Of(c *Certificate) string {
	switch p {
	case PinSHA1:
		return c.SHA1()
	case PinKey:
		sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
		return base64.StdEncoding.EncodeToString(sum[:])
	case PinCertificate:
		return string(c.PEM())
	}
	return c.SHA256
}
