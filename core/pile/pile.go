// Package pile sorts files whose names and endings mean nothing: whatever an
// administrator was sent goes in, certificates, requests and the rest come out.
//
//	files  →  Sort  →  per file: what it holds  →  Certificates, Requests
//
// It reads PEM (RFC 7468) in the dress that mail, notepads and portals give it
// (CRLF or CR line ends, a byte order mark, text around the blocks) and DER.
package pile

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"freshseal/core/cert"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// Limits against piles that were made to hurt.
const (
	MaxBytes = 64 << 20 // of all files together
	MaxItems = 100_000  // things found in one pile
)

// ErrTooLarge says that a pile is over MaxBytes or MaxItems.
var ErrTooLarge = errors.New("the pile is too large: at most 64 MiB and 100,000 things at once; give it in parts")

// File is one file of the pile. The name only tells people which it was.
type File struct {
	Name    string
	Content []byte
}

// Kind says what a thing in a pile is.
type Kind string

// The kinds, as they stand in the API.
const (
	Certificate    Kind = "certificate"
	Request        Kind = "request"
	Key            Kind = "key"
	RevocationList Kind = "revocation-list"
	Junk           Kind = "junk"
)

// Item is one thing found in a file. Of a private key only its presence is
// told: its bytes do not leave this package.
type Item struct {
	Kind    Kind   `json:"kind" required:"true" enum:"certificate,request,key,revocation-list,junk"`
	SHA256  string `json:"sha256,omitempty"`
	Subject string `json:"subject,omitempty"`
	Note    string `json:"note,omitempty"` // why it is junk, or what to do with it

	Certificate *cert.Certificate        `json:"-"`
	Request     *x509.CertificateRequest `json:"-"`
}

// Account tells what one file held.
type Account struct {
	Name  string `json:"name" required:"true"`
	Holds []Item `json:"holds" required:"true"`
}

// Sort reads every file and tells what it holds, in the order given. A file
// that cannot be read is junk in its account and no error; the only error is
// ErrTooLarge.
func Sort(files []File) ([]Account, error) {
	total, items := 0, 0
	for _, f := range files {
		total += len(f.Content)
	}
	if total > MaxBytes {
		return nil, ErrTooLarge
	}
	accounts := make([]Account, 0, len(files))
	for _, f := range files {
		holds := sortFile(f.Content)
		if items += len(holds); items > MaxItems {
			return nil, ErrTooLarge
		}
		accounts = append(accounts, Account{Name: f.Name, Holds: holds})
	}
	return accounts, nil
}

// Certificates are the different certificates of a pile, each once, in the
// order in which they first appear.
func Certificates(accounts []Account) []*cert.Certificate {
	var out []*cert.Certificate
	seen := map[string]bool{}
	for _, a := range accounts {
		for _, item := range a.Holds {
			if item.Certificate != nil && !seen[item.SHA256] {
				seen[item.SHA256] = true
				out = append(out, item.Certificate)
			}
		}
	}
	return out
}

func sortFile(content []byte) []Item {
	if len(bytes.TrimSpace(content)) == 0 {
		return []Item{junk("the file is empty")}
	}
	if items := sortDER(content); items != nil {
		return items
	}
	items := sortPEM(plainLines(content))
	if len(items) == 0 {
		return []Item{junk(guess(content))}
	}
	return items
}

// plainLines takes away the byte order mark and makes CRLF and CR to LF.
func plainLines(text []byte) []byte {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	return bytes.ReplaceAll(text, []byte("\r"), []byte("\n"))
}

func sortPEM(text []byte) []Item {
	var items []Item
	for len(items) <= MaxItems {
		block, rest := pem.Decode(text)
		if block == nil {
			break
		}
		items = append(items, sortBlock(block))
		text = rest
	}
	if n := bytes.Count(text, []byte("-----BEGIN ")); n > 0 {
		items = append(items, junk(fmt.Sprintf("%d block(s) that begin and are cut or damaged; copy them again, whole", n)))
	}
	return items
}

func sortBlock(block *pem.Block) Item {
	switch block.Type {
	case "CERTIFICATE", "X509 CERTIFICATE":
		return certificate(block.Bytes)
	case "CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST":
		return request(block.Bytes)
	case "X509 CRL":
		return Item{Kind: RevocationList, SHA256: cert.Fingerprint(block.Bytes)}
	}
	if strings.HasSuffix(block.Type, "PRIVATE KEY") {
		return key()
	}
	return junk(fmt.Sprintf("a block %q, which is not used here", printable(block.Type)))
}

// sortDER takes one or more DER values one after the other; nil says that the
// content is not DER.
func sortDER(content []byte) []Item {
	var items []Item
	for rest := cryptobyte.String(content); !rest.Empty(); {
		var element cryptobyte.String
		if len(items) > MaxItems || !rest.ReadASN1Element(&element, asn1.SEQUENCE) {
			return nil
		}
		items = append(items, derItem(element))
	}
	return items
}

func derItem(der []byte) Item {
	if item := certificate(der); item.Kind != Junk {
		return item
	}
	if item := request(der); item.Kind != Junk {
		return item
	}
	if isKey(der) {
		return key()
	}
	if _, err := x509.ParseRevocationList(der); err == nil {
		return Item{Kind: RevocationList, SHA256: cert.Fingerprint(der)}
	}
	return junk("DER that is neither certificate, request, key nor revocation list")
}

func certificate(der []byte) Item {
	c, err := cert.Parse(der)
	if err != nil {
		return junk("a certificate that cannot be read: " + err.Error())
	}
	return Item{Kind: Certificate, SHA256: c.SHA256, Subject: c.Subject(), Certificate: c}
}

func request(der []byte) Item {
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return junk("a request that cannot be read: " + err.Error())
	}
	return Item{Kind: Request, SHA256: cert.Fingerprint(der), Subject: r.Subject.String(), Request: r}
}

func key() Item {
	return Item{Kind: Key, Note: "a private key: it was not kept. It should not travel in files like this; delete them"}
}

func isKey(der []byte) bool {
	if _, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		return true
	}
	if _, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return true
	}
	_, err := x509.ParseECPrivateKey(der)
	return err == nil
}

func junk(note string) Item { return Item{Kind: Junk, Note: note} }

// guess names what a file without any certificate seems to be.
func guess(content []byte) string {
	for _, known := range []struct{ magic, what string }{
		{"\x89PNG", "a picture (PNG)"}, {"\xff\xd8\xff", "a picture (JPEG)"}, {"GIF8", "a picture (GIF)"},
		{"%PDF", "a PDF document"}, {"PK\x03\x04", "a zip archive; unpack it and give the files"},
		{"\x1f\x8b", "a gzip archive; unpack it and give the files"}, {"\x7fELF", "a program"},
	} {
		if bytes.HasPrefix(content, []byte(known.magic)) {
			return known.what
		}
	}
	if bytes.IndexByte(content, 0) >= 0 {
		return "bytes that are neither PEM nor DER"
	}
	return "text without any PEM block"
}

func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '?'
		}
		return r
	}, s)
}
