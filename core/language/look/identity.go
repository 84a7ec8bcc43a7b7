package look

import (
	"encoding/pem"
	"math/big"
	"strings"

	"freshseal/core/pki/cert"
)

// maxTold is the maximum size in bytes of what a device says of a certificate.
const maxTold = 64 << 10

// Identity are the forms in which a device may name one certificate. The zero value names none.
type Identity struct {
	SHA256 string // lower case hexadecimal
	SHA1   string
	Serial string // lower case hexadecimal without leading zeros
	dec    string
}

// Of returns the identity of a certificate.
func Of(c *cert.Certificate) Identity {
	if c == nil {
		return Identity{}
	}
	id := Identity{SHA256: c.SHA256, SHA1: plainHex(c.SHA1()), Serial: plainHex(c.Serial())}
	if n, ok := new(big.Int).SetString(id.Serial, 16); ok {
		id.dec = n.String()
	}
	return id
}

// Named reports whether a text names the certificate: as PEM, by its SHA-256 or SHA-1 fingerprint, or by its serial
// number in hexadecimal or decimal. Colons, blanks and case do not count.
func (id Identity) Named(text string) bool {
	form := Plain(text)
	return form != "" && (form == id.SHA256 || form == id.SHA1 || form == id.Serial || form == id.dec)
}

// Plain returns the form in which two texts of a device are compared: of PEM the SHA-256 of the first certificate, of a
// fingerprint or serial number its digits.
func Plain(text string) string {
	if text = strings.TrimSpace(text); len(text) > maxTold {
		return ""
	}
	if block, _ := pem.Decode([]byte(text)); block != nil {
		return cert.Fingerprint(block.Bytes)
	}
	return plainHex(text)
}

func plainHex(text string) string {
	text = strings.ToLower(strings.Map(func(r rune) rune {
		if r == ':' || r == ' ' || r == '-' {
			return -1
		}
		return r
	}, text))
	text = strings.TrimPrefix(strings.TrimPrefix(text, "sha256"), "0x")
	if short := strings.TrimLeft(text, "0"); len(text) < 40 { // of a serial number
		return short
	}
	return text
}

// Told returns what a device's own word for a certificate says. stood is the word that it gave before the first change,
// before and new are the certificates that stood and that are installed.
func Told(text, stood string, before, new Identity) Word {
	switch {
	case Plain(text) == "":
		return Unknown
	case new.Named(text):
		return New
	case Plain(stood) != "" && Plain(text) == Plain(stood), before.Named(text):
		return Before
	}
	return Other
}
