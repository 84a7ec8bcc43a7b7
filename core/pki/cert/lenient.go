package cert

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"math/big"
	"net"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// Old boxes serve certificates that crypto/x509 refuses to read: a negative
// serial number, an underscore in a PrintableString, a time with fractions, the
// same extension twice. Their owner must see what they say all the same. mended
// writes such a certificate again without its faults, has that read, and puts
// back what really is there: what is compared, hashed and sent is always
// the original.

// mostExtensions bounds the work on one certificate; real ones have up to twenty.
const mostExtensions = 30

var errOutline = errors.New("it has not the outline of a certificate (RFC 5280, 4.1)")

// outline are the parts of a certificate, each as DER with its tag.
type outline struct {
	tbs, algorithm                  cryptobyte.String
	signature                       []byte
	version                         int
	serial                          *big.Int
	issuer, validity, subject, spki cryptobyte.String
	extensions                      []extension
}

type extension struct {
	id       asn1.ObjectIdentifier
	critical bool
	value    []byte
}

func mended(der []byte) (*x509.Certificate, error) {
	o, err := readOutline(der)
	if err != nil {
		return nil, err
	}
	x, err := x509.ParseCertificate(o.write(o.extensions))
	if err != nil {
		if x, err = o.piecemeal(); err != nil {
			return nil, err
		}
	}
	x.Raw, x.RawTBSCertificate, x.RawIssuer, x.RawSubject, x.RawSubjectPublicKeyInfo = der, o.tbs, o.issuer,
		o.subject, o.spki
	x.Version, x.SerialNumber = o.version, o.serial
	return x, nil
}

// piecemeal stores those extensions that can be read, one after the other.
func (o outline) piecemeal() (*x509.Certificate, error) {
	x, err := x509.ParseCertificate(o.write(nil))
	if err != nil {
		return nil, errOutline
	}
	var kept []extension
	var lost []asn1.ObjectIdentifier
	seen := map[string]bool{}
	for _, e := range o.extensions {
		with, err := x509.ParseCertificate(o.write(append(kept[:len(kept):len(kept)], e)))
		if err != nil && e.id.Equal(subjectAltName) {
			e.value = mendedNames(e.value)
			with, err = x509.ParseCertificate(o.write(append(kept[:len(kept):len(kept)], e)))
		}
		switch {
		case err == nil && !seen[e.id.String()]:
			kept, x = append(kept, e), with
		case e.critical:
			lost = append(lost, e.id)
		}
		seen[e.id.String()] = true
	}
	x.UnhandledCriticalExtensions = append(x.UnhandledCriticalExtensions, lost...)
	return x, nil
}

var subjectAltName = asn1.ObjectIdentifier{2, 5, 29, 17}

// revive:disable-next-line:cyclomatic reads a structure field by field
func readOutline(der []byte) (outline, error) {
	var o outline
	in, whole, tbs, number, list := cryptobyte.String(der), cryptobyte.String(nil), cryptobyte.String(nil),
		cryptobyte.String(nil), cryptobyte.String(nil)
	var some bool
	if !in.ReadASN1(&whole, tags.SEQUENCE) || !in.Empty() || !whole.ReadASN1Element(&o.tbs, tags.SEQUENCE) ||
		!whole.ReadASN1Element(&o.algorithm, tags.SEQUENCE) ||
		!whole.ReadASN1BitStringAsBytes(&o.signature) {
		return o, errOutline
	}
	tbs = o.tbs
	version := cryptobyte.String(nil)
	o.version = 1
	if !tbs.ReadASN1(&tbs, tags.SEQUENCE) ||
		!tbs.ReadOptionalASN1(&version, &some, tags.Tag(0).Constructed().ContextSpecific()) ||
		some && !version.ReadASN1Integer(&o.version) {
		return o, errOutline
	}
	if some {
		o.version++
	}
	var inner cryptobyte.String
	if !tbs.ReadASN1(&number, tags.INTEGER) || !tbs.ReadASN1Element(&inner, tags.SEQUENCE) ||
		!tbs.ReadASN1Element(&o.issuer, tags.SEQUENCE) ||
		!tbs.ReadASN1(&o.validity, tags.SEQUENCE) || !tbs.ReadASN1Element(&o.subject, tags.SEQUENCE) ||
		!tbs.ReadASN1Element(&o.spki, tags.SEQUENCE) {
		return o, errOutline
	}
	o.serial = signed(number)
	if !tbs.SkipOptionalASN1(tags.Tag(1).ContextSpecific()) || !tbs.SkipOptionalASN1(tags.Tag(2).ContextSpecific()) ||
		!tbs.ReadOptionalASN1(&list, &some, tags.Tag(3).Constructed().ContextSpecific()) || some &&
		!list.ReadASN1(&list, tags.SEQUENCE) {
		return o, errOutline
	}
	for !list.Empty() && len(o.extensions) < mostExtensions {
		var one, value cryptobyte.String
		var e extension
		if !list.ReadASN1(&one, tags.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&e.id) ||
			one.PeekASN1Tag(tags.BOOLEAN) && !one.ReadASN1Boolean(&e.critical) ||
			!one.ReadASN1(&value, tags.OCTET_STRING) {
			break // the rest cannot be told apart
		}
		e.value = value
		o.extensions = append(o.extensions, e)
	}
	return o, nil
}

// signed reads an integer in two's complement, however many bytes it wastes.
func signed(number []byte) *big.Int {
	n := new(big.Int).SetBytes(number)
	if len(number) > 0 && number[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(len(number)*8)))
	}
	return n
}

// write writes the certificate without its faults, and with these extensions.
func (o outline) write(extensions []extension) []byte {
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.Tag(0).Constructed().ContextSpecific(), func(b *cryptobyte.Builder) { b.AddASN1Int64(2) })
			b.AddASN1Int64(1)
			b.AddBytes(o.algorithm)
			b.AddBytes(mendedName(o.issuer))
			from, to := o.period()
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1GeneralizedTime(from)
				b.AddASN1GeneralizedTime(to)
			})
			b.AddBytes(mendedName(o.subject))
			b.AddBytes(o.key())
			if len(extensions) == 0 {
				return
			}
			b.AddASN1(tags.Tag(3).Constructed().ContextSpecific(), func(b *cryptobyte.Builder) {
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					for _, e := range extensions {
						b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
							b.AddASN1ObjectIdentifier(e.id)
							if e.critical {
								b.AddASN1Boolean(true)
							}
							b.AddASN1OctetString(e.value)
						})
					}
				})
			})
		})
		b.AddBytes(o.algorithm)
		b.AddASN1BitString(o.signature)
	})
	out, _ := b.Bytes() // what cannot be written cannot be read either
	return out
}

// key returns the public key, or if nobody can read it, one of no kind.
func (o outline) key() []byte {
	if _, err := x509.ParsePKIXPublicKey(o.spki); err == nil {
		return o.spki
	}
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{2, 25, 0})
		})
		b.AddASN1BitString([]byte{0})
	})
	return b.BytesOrPanic()
}

// period reads the validity; what cannot be read is the year 1, long over.
func (o outline) period() (from, to time.Time) {
	next := func(s *cryptobyte.String) time.Time {
		var text cryptobyte.String
		var tag tags.Tag
		if !s.ReadAnyASN1(&text, &tag) {
			return time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
		}
		layouts := []string{"20060102150405.999999999Z0700", "20060102150405Z0700", "200601021504Z0700",
			"20060102150405"}
		if tag == tags.UTCTime {
			layouts = []string{"060102150405Z0700", "0601021504Z0700", "060102150405.999Z0700", "060102150405"}
		}
		for _, layout := range layouts {
			if at, err := time.Parse(layout, string(text)); err == nil {
				if tag == tags.UTCTime && at.Year() >= 2050 {
					at = at.AddDate(-100, 0, 0) // RFC 5280, 4.1.2.5.1
				}
				return at.UTC().Truncate(time.Second)
			}
		}
		return time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	s := o.validity
	from = next(&s)
	return from, next(&s)
}

// mendedName writes a distinguished name with every value as UTF-8.
func mendedName(name cryptobyte.String) []byte {
	var sequence cryptobyte.String
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		if !name.ReadASN1(&sequence, tags.SEQUENCE) {
			return
		}
		for !sequence.Empty() {
			var set cryptobyte.String
			if !sequence.ReadASN1(&set, tags.SET) {
				return
			}
			for !set.Empty() {
				var one, value cryptobyte.String
				var id asn1.ObjectIdentifier
				var tag tags.Tag
				if !set.ReadASN1(&one, tags.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&id) ||
					!one.ReadAnyASN1(&value, &tag) {
					return
				}
				b.AddASN1(tags.SET, func(b *cryptobyte.Builder) {
					b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
						b.AddASN1ObjectIdentifier(id)
						b.AddASN1(tags.UTF8String, func(b *cryptobyte.Builder) {
							b.AddBytes([]byte(readable(tag, value)))
						})
					})
				})
			}
		}
	})
	out, _ := b.Bytes()
	return out
}

// readable makes UTF-8 of a string of any of the old kinds.
func readable(tag tags.Tag, value []byte) string {
	const bmp = tags.Tag(30)
	switch {
	case tag == bmp:
		var units []uint16
		for i := 0; i+1 < len(value); i += 2 {
			units = append(units, uint16(value[i])<<8|uint16(value[i+1]))
		}
		return string(utf16.Decode(units))
	case utf8.Valid(value):
		return string(value)
	}
	letters := make([]rune, len(value)) // Latin-1, as T61String is mostly used
	for i, b := range value {
		letters[i] = rune(b)
	}
	return string(letters)
}

// mendedNames stores those of the subject alternative names that can be read.
func mendedNames(value []byte) []byte {
	in, list := cryptobyte.String(value), cryptobyte.String(nil)
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		if !in.ReadASN1(&list, tags.SEQUENCE) {
			return
		}
		for !list.Empty() {
			var name cryptobyte.String
			var tag tags.Tag
			if !list.ReadAnyASN1(&name, &tag) {
				return
			}
			switch text := strings.TrimSpace(string(name)); {
			case tag == tags.Tag(2).ContextSpecific() && ascii(text):
				name = cryptobyte.String(text)
			case tag == tags.Tag(7).ContextSpecific() && (len(name) == net.IPv4len || len(name) == net.IPv6len):
			case tag == tags.Tag(7).ContextSpecific() && net.ParseIP(text) != nil: // an address written as text
				ip := net.ParseIP(text)
				if ip.To4() != nil {
					ip = ip.To4()
				}
				name = cryptobyte.String(ip)
			default:
				continue
			}
			b.AddASN1(tag, func(b *cryptobyte.Builder) { b.AddBytes(name) })
		}
	})
	return b.BytesOrPanic()
}

func ascii(text string) bool {
	return text != "" && !bytes.ContainsFunc([]byte(text), func(r rune) bool { return r <= ' ' || r > '~' })
}
