// Package ber makes DER of BER, as far as certificates and stores travel in it:
// lengths that are not told beforehand, and byte strings in pieces.
package ber

import (
	"encoding/binary"

	"golang.org/x/crypto/cryptobyte"
)

// Definite makes DER of the first element of BER with lengths that are not told
// beforehand, and byte strings in pieces (X.690, 8.1.3.6 and 8.7.3), as some
// browsers and signing programs write it. DER is given back as it is. What is nested
// deeper than 32 levels is refused: whoever reads the result need not fear it.
func Definite(in []byte) ([]byte, bool) {
	if whole, rest := cryptobyte.String(nil), cryptobyte.String(in); rest.ReadAnyASN1Element(&whole, nil) &&
		!indefinite(whole, 0) {
		return whole, true
	}
	out, rest, ok := element(in, 0)
	return out, ok && out != nil && len(rest) < len(in)
}

const mostNested = 32

// indefinite reports whether somewhere in DER there is a length or a string as BER alone has it.
func indefinite(der []byte, depth int) bool {
	for len(der) > 1 && depth < mostNested {
		tag, header, length, ok := head(der)
		if !ok || length < 0 || tag == 0x24 {
			return true
		}
		if tag&0x20 != 0 && indefinite(der[header:header+length], depth+1) {
			return true
		}
		der = der[header+length:]
	}
	return false
}

// head reads tag and length; a length that is not told is -1.
func head(in []byte) (tag byte, header, length int, ok bool) {
	if len(in) < 2 || in[0]&0x1f == 0x1f { // tags of several bytes stand in no store
		return 0, 0, 0, false
	}
	switch n := int(in[1]); {
	case n < 0x80:
		header, length = 2, n
	case n == 0x80:
		return in[0], 2, -1, true
	case n <= 0x84 && len(in) >= 2+n-0x80:
		for _, b := range in[2 : 2+n-0x80] {
			length = length<<8 | int(b)
		}
		header = 2 + n - 0x80
	default:
		return 0, 0, 0, false
	}
	return in[0], header, length, length <= len(in)-header
}

// element makes DER of the first element of BER; nothing where it is the end of
// one whose length was not told.
func element(in []byte, depth int) (out, rest []byte, ok bool) {
	tag, header, length, ok := head(in)
	if !ok || depth > mostNested {
		return nil, nil, false
	}
	if tag == 0 && length == 0 {
		return nil, in[2:], true
	}
	if tag&0x20 == 0 {
		if length < 0 {
			return nil, nil, false
		}
		return in[:header+length], in[header+length:], true
	}
	body := in[header:]
	if length >= 0 {
		body, rest = body[:length], body[length:]
	}
	var content []byte
	for {
		if length >= 0 && len(body) == 0 {
			break
		}
		var part []byte
		if part, body, ok = element(body, depth+1); !ok {
			return nil, nil, false
		}
		if part == nil {
			if length >= 0 {
				return nil, nil, false
			}
			rest = body
			break
		}
		if tag == 0x24 {
			_, header, _, _ := head(part)
			part = part[header:]
		}
		content = append(content, part...)
	}
	if tag == 0x24 {
		tag = 0x04
	}
	size := binary.BigEndian.AppendUint32([]byte{tag, 0x84}, uint32(len(content)))
	if len(content) < 0x80 {
		size = []byte{tag, byte(len(content))}
	} else {
		for size[2] == 0 {
			size = append(size[:2], size[3:]...)
			size[1]--
		}
	}
	return append(size, content...), rest, true
}
