package cert

import (
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/hex"
	"regexp"
	"strings"
)

// emailAddress is the attribute of a subject that holds a mail address (RFC 5280, 4.1.2.6: deprecated, and asked for
// by forms).
var emailAddress = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1}

// EmailAttribute returns the attribute of a subject for a mail address, which is ASCII.
func EmailAttribute(address string) pkix.AttributeTypeAndValue {
	return pkix.AttributeTypeAndValue{Type: emailAddress,
		Value: asn1.RawValue{Tag: asn1.TagIA5String, Bytes: []byte(address)}}
}

// EmailOf returns the first mail address of a subject, or nothing.
func EmailOf(subject pkix.Name) string {
	for _, each := range subject.Names {
		if text, ok := each.Value.(string); ok && each.Type.Equal(emailAddress) {
			return text
		}
	}
	return ""
}

var emailInHex = regexp.MustCompile(`1\.2\.840\.113549\.1\.9\.1=#([0-9a-f]+)`)

// NameText returns a distinguished name in the form of RFC 4514, in which a mail address can be read.
func NameText(name pkix.Name) string {
	return emailInHex.ReplaceAllStringFunc(name.String(), func(found string) string {
		// hexadecimal by the pattern, but for an odd digit
		der, _ := hex.DecodeString(emailInHex.FindStringSubmatch(found)[1])
		var text string
		if rest, err := asn1.Unmarshal(der, &text); err != nil || len(rest) > 0 {
			return found
		}
		return "emailAddress=" + strings.NewReplacer(`\`, `\\`, ",", `\,`, "+", `\+`, `"`, `\"`, "<", `\<`, ">", `\>`,
			";", `\;`).Replace(text)
	})
}
