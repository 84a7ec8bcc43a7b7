package pile

import (
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"html"
	"regexp"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// plainText makes plain lines of a text: UTF-16 and byte order marks, CRLF and
// CR line ends, and the dress of web pages and of JSON are taken off.
func plainText(text []byte) []byte {
	text = fromUTF16(text)
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	if bytes.IndexByte(text, '\r') >= 0 { // a copy of a large pile costs as much as reading it
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
		text = bytes.ReplaceAll(text, []byte("\r"), []byte("\n"))
	}
	if bytes.Contains(text, []byte("\xe2\x80")) { // word processors make one long dash of several short ones
		text = bytes.ReplaceAll(bytes.ReplaceAll(text, []byte("–"), []byte("-")), []byte("—"), []byte("-"))
	}
	if bytes.Contains(text, []byte(`\n`)) && bytes.Contains(text, []byte("BEGIN")) {
		text = bytes.ReplaceAll(bytes.ReplaceAll(text, []byte(`\r`), nil), []byte(`\n`), []byte("\n"))
	}
	if tag.Match(text) {
		text = tag.ReplaceAll(text, []byte("\n"))
		text = []byte(html.UnescapeString(string(text)))
	} else if bytes.Contains(text, []byte("&#")) || bytes.Contains(text, []byte("&nbsp;")) {
		text = []byte(html.UnescapeString(string(text)))
	}
	return text
}

// tag is a tag of HTML. Nothing in armour looks like one.
var tag = regexp.MustCompile(`(?i)</?(?:br|p|div|span|pre|code|td|tr|table|tbody|html|body|head|font|textarea|li|ul|b|i|tt|blockquote)(?:\s[^<>]{0,500})?/?>`)

// fromUTF16 makes UTF-8 of UTF-16, with a byte order mark or without.
func fromUTF16(text []byte) []byte {
	if len(text) < 4 {
		return text
	}
	at := func(i int) uint16 { return uint16(text[i]) | uint16(text[i+1])<<8 }
	body := text
	switch {
	case text[0] == 0xff && text[1] == 0xfe:
		body = text[2:]
	case text[0] == 0xfe && text[1] == 0xff:
		at = func(i int) uint16 { return uint16(text[i])<<8 | uint16(text[i+1]) }
		body = text[2:]
	case text[1] == 0 && text[3] == 0 && text[0] >= ' ' && text[0] < 0x7f:
	case text[0] == 0 && text[2] == 0 && text[1] >= ' ' && text[1] < 0x7f:
		at = func(i int) uint16 { return uint16(text[i])<<8 | uint16(text[i+1]) }
	default:
		return text
	}
	units := make([]uint16, 0, len(body)/2)
	for i := len(text) - len(body); i+1 < len(text); i += 2 {
		units = append(units, at(i))
	}
	return []byte(string(utf16.Decode(units)))
}

// mark is the beginning or the end of a block.
type mark struct {
	from, to int // in the text, dashes included
	end      bool
	label    string
}

// marks finds the marks of a text.
func marks(text []byte) []mark {
	var out []mark
	for at := 0; len(out) <= 2*MaxItems; {
		i := bytes.IndexByte(text[at:], '-')
		if i < 0 {
			break
		}
		m, ok := markAt(text, at+i)
		if ok {
			out = append(out, m)
		}
		at = m.to
	}
	return out
}

// markAt reads a mark that begins at from; if there is none, it says where
// to go on.
func markAt(text []byte, from int) (mark, bool) {
	at := dashes(text, from)
	m := mark{from: from, to: max(at, from+1)}
	if at-from < 2 {
		return m, false
	}
	rest := bytes.TrimPrefix(text[at:min(len(text), at+64)], []byte(" "))
	word := []byte("BEGIN ")
	if !bytes.HasPrefix(rest, word) {
		word, m.end = []byte("END "), true
		if !bytes.HasPrefix(rest, word) {
			return m, false
		}
	}
	rest = rest[len(word):]
	n := bytes.IndexFunc(rest, func(r rune) bool {
		return !('A' <= r && r <= 'Z' || '0' <= r && r <= '9' || r == ' ' || r == '#' || r == '.')
	})
	if n <= 0 {
		return m, false
	}
	m.label = strings.TrimSpace(string(rest[:n]))
	after := bytes.Index(text[at:], rest) + at + n
	m.to = min(dashes(text, after), after+5) // the next mark may begin at once
	return m, m.to-after >= 2 && m.label != ""
}

// dashes returns where a run of dashes ends.
func dashes(text []byte, at int) int {
	for at < len(text) && text[at] == '-' {
		at++
	}
	return at
}

// armoured reads every block of a text, whatever stands around them.
func (s *sorter) armoured(text []byte) []Item {
	all := marks(text)
	var items []Item
	for i := 0; i < len(all); i++ {
		m := all[i]
		if m.end {
			continue // of a block whose beginning is not here
		}
		if i+1 == len(all) || !all[i+1].end {
			items = append(items,
				junk(fmt.Sprintf("a block %q that begins and has no end; copy it again, whole", m.label)))
			continue
		}
		items = append(items, s.block(m.label, text[m.to:all[i+1].from])...)
		i++
	}
	return items
}

// header is a line before the base64 of an older locked key (RFC 1421, 4.4).
var header = regexp.MustCompile(`(?m)^[>\s]*((?:Proc-Type|DEK-Info|Comment|X-[A-Za-z-]+)): *(.*)$`)

// attribute is a line that openssl writes between blocks, and some people leave in them.
var attribute = regexp.MustCompile(`(?m)^[>\s]*(?:Bag Attributes|friendlyName|localKeyID|Key Attributes|subject=|issuer=).*$`)

// block reads what is between two marks.
func (s *sorter) block(label string, body []byte) []Item {
	var headers map[string]string
	if bytes.IndexByte(body, ':') >= 0 || bytes.Contains(body, []byte("subject=")) { // base64 has neither
		headers = map[string]string{}
		for _, h := range header.FindAllSubmatch(body, 10) {
			headers[string(h[1])] = strings.TrimSpace(string(h[2]))
		}
		body = attribute.ReplaceAll(header.ReplaceAll(body, nil), nil)
	}
	der := fromBase64(body)
	if der == nil {
		return []Item{junk(fmt.Sprintf("a block %q that is damaged; copy it again, whole", label))}
	}
	switch label {
	case "CERTIFICATE", "X509 CERTIFICATE", "X.509 CERTIFICATE":
		if item := s.certificate(der); item.Kind == Certificate {
			return []Item{item}
		}
		if items := s.der(der); items != nil {
			return items // PKCS #7 under the wrong name is what some portals give
		}
		return []Item{s.certificate(der)}
	case "TRUSTED CERTIFICATE": // openssl's own: the certificate, then what it is trusted for
		return []Item{s.certificate(firstElement(der))}
	case "CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST":
		return []Item{request(der)}
	case "X509 CRL":
		return []Item{revocations(der)}
	case "PKCS7", "PKCS #7 SIGNED DATA", "CMS":
		if items := s.signedData(der); items != nil {
			return items
		}
		return []Item{junk("a PKCS #7 block that cannot be read")}
	case "PUBLIC KEY", "RSA PUBLIC KEY":
		return []Item{junk("a public key, which is no certificate")}
	case "EC PARAMETERS", "DH PARAMETERS", "DSA PARAMETERS":
		return nil
	}
	if strings.HasSuffix(label, "PRIVATE KEY") {
		return []Item{s.keyBlock(label, headers, der)}
	}
	return []Item{junk(fmt.Sprintf("a block %q, which is not used here", label))}
}

// keyBlock reads a private key, whatever its form.
func (s *sorter) keyBlock(label string, headers map[string]string, der []byte) Item {
	if strings.HasPrefix(label, "OPENSSH") || strings.HasPrefix(label, "SSH2") {
		return keyItem(nil, "a private SSH key: it was not kept")
	}
	if headers["DEK-Info"] == "" {
		return s.keyDER(der)
	}
	block := &pem.Block{Type: label, Headers: headers, Bytes: der}
	for _, passphrase := range s.passphrases {
		//lint:ignore SA1019 such keys are still about, and are only read
		if plain, err := x509.DecryptPEMBlock(block, []byte(passphrase)); err == nil {
			if key := parseKey(plain); key != nil {
				return keyItem(key, "")
			}
		}
	}
	return keyItem(nil, lockedKey)
}

// fromBase64 reads base64 with or without its padding, whatever blanks, quote
// marks and line ends stand in it; nil says that it is none.
func fromBase64(text []byte) []byte {
	clean := make([]byte, 0, len(text))
	for i := 0; i < len(text); {
		if c := text[i]; inBase64[c] {
			clean = append(clean, c)
			i++
			continue
		}
		r, size := utf8.DecodeRune(text[i:])
		i += size
		switch {
		case r == '-':
			clean = append(clean, '+') // base64url (RFC 4648, 5)
		case r == '_':
			clean = append(clean, '/')
		case r == ' ', r == '\n', r == '\t', r == '>', r == '|', r == '"', r == '\'', r == ',', r == '\\', r == 0xa0,
			r == 0x200b, r == 0xfeff, r == 0x2028:
		default:
			return nil
		}
	}
	clean = bytes.TrimRight(clean, "=")
	der := make([]byte, base64.RawStdEncoding.DecodedLen(len(clean)))
	n, err := base64.RawStdEncoding.Decode(der, clean)
	if err != nil || n == 0 {
		return nil
	}
	return der[:n]
}

// inBase64 are the characters of RFC 4648, 4.
var inBase64 = func() (is [256]bool) {
	for _, c := range []byte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=") {
		is[c] = true
	}
	return is
}()

// bareBase64 reads a text that is base64 and nothing else.
func bareBase64(text []byte) []byte {
	if len(text) < 64 {
		return nil
	}
	return fromBase64(text)
}
