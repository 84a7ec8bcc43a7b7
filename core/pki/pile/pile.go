// Package pile sorts files whose names and endings mean nothing: whatever an
// administrator was sent goes in, certificates, requests and the rest come out.
//
//	files  →  Sort  →  per file: what it holds  →  Certificates, Requests, Keys
//
// It reads PEM (RFC 7468) in the dress that mail, notepads and portals give it,
// base64 without any armour, DER, PKCS #7 (RFC 5652), PKCS #12 (RFC 7292), and
// archives and mails of all that. Files of an archive get accounts of their own.
package pile

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"unicode/utf8"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/pkcs12"
)

// Limits against piles that were made to hurt. MaxBytes counts what archives
// unpack to as well.
const (
	MaxBytes = 64 << 20 // of all files together
	MaxItems = 100_000  // things found in one pile
	maxDepth = 5        // archives in archives
	mostOdd  = 1_000    // certificates that are read although strict readers refuse them
	maxNotes = 1_000    // things in one file that are reported one by one, unless they can be used
)

// ErrTooLarge means that a pile is over MaxBytes or MaxItems.
var ErrTooLarge = errors.New("the pile is too large: at most 64 MiB, unpacked, and 100,000 things at once; give " +
	"it in parts")

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

// Item is one thing found in a file. A private key is reported by its presence
// and its public half; see Keys.
type Item struct {
	Kind    Kind   `json:"kind" required:"true" enum:"certificate,request,key,revocation-list,junk"`
	SHA256  string `json:"sha256,omitempty"`
	Subject string `json:"subject,omitempty"`
	Note    string `json:"note,omitempty"` // why it is junk, or what to do with it

	Certificate *cert.Certificate        `json:"-"`
	Request     *x509.CertificateRequest `json:"-"`
	Key         crypto.Signer            `json:"-"` // never written anywhere by this package
}

// Account tells what one file held. A file of an archive is named after both:
// "bundle.zip › leaf.cer".
type Account struct {
	Name  string `json:"name" required:"true"`
	Holds []Item `json:"holds" required:"true"`
}

// Options are what helps to open what is locked.
type Options struct {
	Passphrases []string // tried on PKCS #12 and on locked keys, after none at all
}

// Sort reads every file and tells what it holds, in the order given. A file
// that cannot be read is junk in its account and no error; the only error is
// ErrTooLarge.
func Sort(files []File, o Options) ([]Account, error) {
	s := sorter{passphrases: append([]string{""}, o.Passphrases...), effort: pkcs12.NewEffort(), bytes: MaxBytes,
		items: MaxItems}
	for _, f := range files {
		if s.bytes -= len(f.Content); s.bytes < 0 {
			return nil, ErrTooLarge
		}
	}
	for _, f := range files {
		if err := s.file(f.Name, f.Content, 0); err != nil {
			return nil, err
		}
	}
	return s.accounts, nil
}

// sorter goes through a pile and keeps count of what it may still take.
type sorter struct {
	passphrases  []string
	effort       *pkcs12.Effort
	bytes, items int
	odd          int // certificates that strict readers refuse, so far
	accounts     []Account
}

// file sorts one file, or the files in it.
func (s *sorter) file(name string, content []byte, depth int) error {
	inner, err := s.unpack(content, depth)
	if err != nil {
		return err
	}
	if inner != nil {
		for _, f := range inner {
			if f.broken != "" {
				if err := s.account(name, []Item{junk(f.broken)}); err != nil {
					return err
				}
				continue
			}
			if err := s.file(name+" › "+shown(f.name), f.content, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	return s.account(name, s.sort(content))
}

func (s *sorter) account(name string, holds []Item) error {
	if s.items -= len(holds); s.items < 0 {
		return ErrTooLarge
	}
	s.accounts = append(s.accounts, Account{Name: name, Holds: brief(holds)})
	return nil
}

// brief leaves out of the account what is only told of, where there is far too
// much of it.
func brief(holds []Item) []Item {
	told := 0
	var out []Item
	for _, item := range holds {
		if item.Kind == Junk {
			if told++; told > maxNotes {
				continue
			}
		}
		out = append(out, item)
	}
	if told > maxNotes {
		out = append(out, junk(fmt.Sprintf("and %d more that cannot be used", told-maxNotes)))
	}
	return out
}

// sort tells what a file holds that is no archive.
func (s *sorter) sort(content []byte) []Item {
	if len(bytes.TrimSpace(content)) == 0 {
		return []Item{junk("the file is empty")}
	}
	if items := s.der(content); items != nil {
		return items
	}
	text := plainText(content)
	if items := s.armoured(text); len(items) > 0 {
		return items
	}
	if der := bareBase64(text); der != nil {
		if items := s.der(der); items != nil {
			return items
		}
	}
	return []Item{junk(guess(content))}
}

// Certificates returns the different certificates of a pile, each once, in the
// order in which they first appear.
func Certificates(accounts []Account) []*cert.Certificate {
	var out []*cert.Certificate
	seen := map[string]bool{}
	for _, item := range all(accounts) {
		if item.Certificate != nil && !seen[item.SHA256] {
			seen[item.SHA256] = true
			out = append(out, item.Certificate)
		}
	}
	return out
}

// Keys returns the private keys of a pile that could be opened.
func Keys(accounts []Account) []crypto.Signer {
	var out []crypto.Signer
	for _, item := range all(accounts) {
		if item.Key != nil {
			out = append(out, item.Key)
		}
	}
	return out
}

func all(accounts []Account) func(func(int, Item) bool) {
	return func(yield func(int, Item) bool) {
		n := 0
		for _, a := range accounts {
			for _, item := range a.Holds {
				if !yield(n, item) {
					return
				}
				n++
			}
		}
	}
}

func junk(note string) Item { return Item{Kind: Junk, Note: note} }

// guess names what a file without anything usable seems to be.
func guess(content []byte) string {
	for _, known := range []struct{ magic, what string }{
		{"\x89PNG", "a picture (PNG)"}, {"\xff\xd8\xff", "a picture (JPEG)"}, {"GIF8", "a picture (GIF)"},
		{"%PDF", "a PDF document; ask for the certificate as a file"}, {"\x7fELF", "a program"}, {"MZ", "a program"},
		{"7z\xbc\xaf\x27\x1c", "a 7z archive; unpack it and give the files"},
		{"Rar!", "a RAR archive; unpack it and give the files"},
		{"\xd0\xcf\x11\xe0", "an Office or Outlook file; save what it holds as files of their own"},
		{"\xfe\xed\xfe\xed", "a Java key store (JKS); export its entries as PKCS #12 or PEM"},
		{"ssh-", "a public SSH key, which is no certificate"},
	} {
		if bytes.HasPrefix(content, []byte(known.magic)) {
			return known.what
		}
	}
	if len(content) > 4 && content[0] == 0x30 && content[1] == 0x82 &&
		int(content[2])<<8|int(content[3]) > len(content)-4 {
		return "DER that is cut off; fetch it again"
	}
	if bytes.IndexByte(content, 0) >= 0 || !utf8.Valid(content) {
		return "bytes that are neither PEM nor DER"
	}
	return "text without any PEM block"
}

// shown writes a name from an archive so that it cannot do anything to a terminal.
func shown(name string) string {
	return string(bytes.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == utf8.RuneError {
			return '?'
		}
		return r
	}, []byte(name)))
}
