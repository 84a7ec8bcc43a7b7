package cert

import (
	"encoding/hex"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Distinguished names are compared as RFC 5280, section 7.1, says: attribute by
// attribute, without regard to case, to blanks at the ends and to runs of blanks,
// and whatever the string type (RFC 4518, as far as that asks for). What cannot be
// read is compared byte by byte.

// mostRDNs bounds the work on one name.
const mostRDNs = 64

// NameKey returns equal texts for names that are equal. raw is a Name as DER.
func NameKey(raw []byte) string { return strings.Join(RDNKeys(raw), "\x00") }

// RDNKeys returns the keys of a name's relative distinguished names in their order.
func RDNKeys(raw []byte) []string {
	outer, list := cryptobyte.String(raw), cryptobyte.String(nil)
	if !outer.ReadASN1(&list, tags.SEQUENCE) || !outer.Empty() {
		return []string{"\x01" + string(raw)}
	}
	var out []string
	for !list.Empty() {
		var set cryptobyte.String
		if len(out) >= mostRDNs || !list.ReadASN1(&set, tags.SET) {
			return []string{"\x01" + string(raw)}
		}
		var pairs []string
		for !set.Empty() {
			var pair, value cryptobyte.String
			var id cryptobyte.String
			var tag tags.Tag
			if !set.ReadASN1(&pair, tags.SEQUENCE) || !pair.ReadASN1(&id, tags.OBJECT_IDENTIFIER) ||
				!pair.ReadAnyASN1(&value, &tag) {
				return []string{"\x01" + string(raw)}
			}
			pairs = append(pairs, string(id)+"="+prepared(tag, value))
		}
		slices.Sort(pairs) // a set has no order
		out = append(out, strings.Join(pairs, "+"))
	}
	return out
}

// The string types of DirectoryString (X.520) besides those of cryptobyte.
const (
	teletexString   = tags.Tag(20)
	universalString = tags.Tag(28)
	bmpString       = tags.Tag(30)
)

// prepared brings an attribute's value into the form in which it is compared.
func prepared(tag tags.Tag, value []byte) string {
	text := ""
	switch tag {
	case tags.PrintableString, tags.IA5String, tags.UTF8String, tags.T61String:
		text = string(value)
		if tag == teletexString {
			text = latin1(value)
		}
	case bmpString:
		if len(value)%2 != 0 {
			return "#" + hex.EncodeToString(value)
		}
		units := make([]uint16, 0, len(value)/2)
		for i := 0; i+1 < len(value); i += 2 {
			units = append(units, uint16(value[i])<<8|uint16(value[i+1]))
		}
		text = string(utf16.Decode(units))
	case universalString:
		if len(value)%4 != 0 {
			return "#" + hex.EncodeToString(value)
		}
		var b strings.Builder
		for i := 0; i+3 < len(value); i += 4 {
			b.WriteRune(rune(value[i])<<24 | rune(value[i+1])<<16 | rune(value[i+2])<<8 | rune(value[i+3]))
		}
		text = b.String()
	default:
		return string(rune(tag)) + "#" + hex.EncodeToString(value)
	}
	return folded(text)
}

func latin1(value []byte) string {
	var b strings.Builder
	for _, c := range value {
		b.WriteRune(rune(c))
	}
	return b.String()
}

// folded prepares a string as RFC 4518 says: mapped (2.2), normalized (2.3), and
// with insignificant blanks taken away (2.6.1). Most names are ASCII and need no
// tables.
func folded(text string) string {
	ascii := true
	for i := 0; i < len(text); i++ {
		ascii = ascii && text[i] < 0x80 && text[i] >= ' '
	}
	if ascii {
		text = strings.ToLower(text)
	} else {
		text = norm.NFKC.String(cases.Fold().String(strings.Map(mapped, text)))
	}
	return strings.Join(strings.Fields(text), " ")
}

// mapped drops what has no meaning in a name, and makes a blank of every blank.
func mapped(r rune) rune {
	switch {
	case r == '\t', r == '\n', r == '\v', r == '\f', r == '\r', r == 0x85,
		unicode.In(r, unicode.Zs, unicode.Zl, unicode.Zp):
		return ' '
	case r == 0xAD, r == 0x1806, r == 0x34F, r >= 0x180B && r <= 0x180D, r >= 0xFE00 && r <= 0xFE0F, r == 0xFFFC,
		r == 0x200B, unicode.In(r, unicode.Cc, unicode.Cf):
		return -1
	}
	return r
}

// SubjectKey and IssuerKey are equal for names that are equal.
func (c *Certificate) SubjectKey() string { return c.subjectKey }

// IssuerKey returns the issuer's; see SubjectKey.
func (c *Certificate) IssuerKey() string { return c.issuerKey }

// SelfIssued reports whether subject and issuer are the same name (RFC 5280, 3.2).
func (c *Certificate) SelfIssued() bool { return c.subjectKey == c.issuerKey }
