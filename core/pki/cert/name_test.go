package cert_test

import (
	"testing"

	"freshseal/core/pki/cert"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// attribute is a type and value of a name; tag is the string type.
type attribute struct {
	id    []uint32
	tag   asn1.Tag
	value string
}

var (
	country = []uint32{2, 5, 4, 6}
	org     = []uint32{2, 5, 4, 10}
	common  = []uint32{2, 5, 4, 3}
)

const (
	utf8String = asn1.UTF8String
	printable  = asn1.PrintableString
	teletex    = asn1.T61String
	bmp        = asn1.Tag(30)
)

// name writes a Name; each list is a relative distinguished name.
func name(t *testing.T, rdns ...[]attribute) []byte {
	t.Helper()
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, rdn := range rdns {
			b.AddASN1(asn1.SET, func(b *cryptobyte.Builder) {
				for _, a := range rdn {
					b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
						oid := []byte{byte(a.id[0]*40 + a.id[1]), byte(a.id[2]), byte(a.id[3])}
						b.AddASN1(asn1.OBJECT_IDENTIFIER, func(b *cryptobyte.Builder) { b.AddBytes(oid) })
						b.AddASN1(a.tag, func(b *cryptobyte.Builder) { b.AddBytes([]byte(a.value)) })
					})
				}
			})
		}
	})
	der, err := b.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	return der
}

// A case for each sentence of RFC 5280, section 7.1, and of RFC 4518 that it names.
func TestNamesAreComparedAsTheStandardSays(t *testing.T) {
	one := func(tag asn1.Tag, value string) []byte { return name(t, []attribute{{org, tag, value}}) }
	for about, c := range map[string]struct {
		a, b  []byte
		equal bool
	}{
		"the same": {one(utf8String, "Tidewrack"), one(utf8String, "Tidewrack"), true},
		"another case": {one(utf8String, "TIDEWRACK Ferries"),
			one(utf8String, "tidewrack ferries"), true},
		"another string type": {one(printable, "Tidewrack"), one(utf8String, "Tidewrack"), true},
		"a BMPString":         {one(bmp, "\x00T\x00i\x00d\x00e"), one(utf8String, "Tide"), true},
		"a TeletexString":     {one(teletex, "R\xe9gie"), one(utf8String, "Régie"), true},
		"blanks at the ends":  {one(utf8String, "  Tidewrack "), one(printable, "Tidewrack"), true},
		"runs of blanks": {one(utf8String, "Tidewrack   Ferries"),
			one(utf8String, "Tidewrack Ferries"), true},
		"no blank": {one(utf8String, "TidewrackFerries"),
			one(utf8String, "Tidewrack Ferries"), false},
		"a no-break space": {one(utf8String, "Tidewrack\u00a0Ferries"),
			one(utf8String, "Tidewrack Ferries"), true},
		"a soft hyphen": {one(utf8String, "Tide\u00adwrack"), one(utf8String, "Tidewrack"),
			true},
		"letters that are composed": {one(utf8String, "Re\u0301gie"), one(utf8String, "R\u00e9gie"), true},
		"compatible letters":        {one(utf8String, "Ｔidewrack"), one(utf8String, "Tidewrack"), true},
		"folding beyond ASCII":      {one(utf8String, "STRASSE"), one(utf8String, "straße"), true},
		"another letter":            {one(utf8String, "Tidewrack"), one(utf8String, "Tidewreck"), false},
		"another attribute": {one(utf8String, "Tidewrack"),
			name(t, []attribute{{common, utf8String, "Tidewrack"}}), false},
		"one attribute more": {one(utf8String, "Tidewrack"),
			name(t, []attribute{{org, utf8String, "Tidewrack"}}, []attribute{{country, printable, "NO"}}), false},
		"another order of the parts": {name(t, []attribute{{org, utf8String, "a"}},
			[]attribute{{common, utf8String, "b"}}), name(t, []attribute{{common, utf8String, "b"}},
			[]attribute{{org, utf8String, "a"}}), false},
		"another order in one part": {name(t,
			[]attribute{{org, utf8String, "a"}, {common, utf8String, "b"}}),
			name(t, []attribute{{common, utf8String, "B"}, {org, utf8String, "A"}}), true},
		"two parts instead of one": {name(t,
			[]attribute{{org, utf8String, "a"}, {common, utf8String, "b"}}),
			name(t, []attribute{{org, utf8String, "a"}}, []attribute{{common, utf8String, "b"}}), false},
		"what is no string, to the byte":   {one(asn1.OCTET_STRING, "A"), one(asn1.OCTET_STRING, "a"), false},
		"what cannot be read, to the byte": {[]byte{0x30, 3, 1, 2}, []byte{0x30, 3, 1, 3}, false},
		"a value that would join two by itself": {name(t, []attribute{{org, utf8String, "a"}},
			[]attribute{{org, utf8String, "b"}}), one(utf8String, "a\x00\x03U\x04\n=b"), false},
	} {
		if equal := cert.NameKey(c.a) == cert.NameKey(c.b); equal != c.equal {
			t.Errorf("%s: equal %v, want %v (%q, %q)", about, equal, c.equal, cert.NameKey(c.a), cert.NameKey(c.b))
		}
	}
}

func FuzzNameKey(f *testing.F) {
	f.Add([]byte{0x30, 0})
	f.Add([]byte{0x30, 0x0b, 0x31, 9, 0x30, 7, 6, 3, 0x55, 4, 3, 0x1e, 0})
	f.Fuzz(func(t *testing.T, raw []byte) {
		if cert.NameKey(raw) != cert.NameKey(append([]byte{}, raw...)) {
			t.Error("a name differs from itself")
		}
	})
}
