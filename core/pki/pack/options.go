package pack

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/pkcs12"

	"github.com/digitorus/pkcs7"
)

// Encoding is how a file is written.
type Encoding string

// The encodings.
const (
	PEM       Encoding = "pem"
	DER       Encoding = "der"        // one certificate, or a key
	PKCS7     Encoding = "pkcs7"      // DER, certificates alone (RFC 5652, 5.1)
	PKCS7PEM  Encoding = "pkcs7-pem"  // the same in armour
	PKCS12    Encoding = "pkcs12"     // with the key; AES-256 and SHA-256
	PKCS12Old Encoding = "pkcs12-old" // 3DES and SHA-1, for boxes that know nothing newer
)

// Encodings are all encodings.
var Encodings = []Encoding{PEM, DER, PKCS7, PKCS7PEM, PKCS12, PKCS12Old}

// KeyPlace says where the private key is in a file.
type KeyPlace string

// The places.
const (
	NoKey     KeyPlace = "none"
	KeyBefore KeyPlace = "before"
	KeyAfter  KeyPlace = "after"
	KeyAlone  KeyPlace = "alone" // and no certificate
)

// KeyPlaces are all places.
var KeyPlaces = []KeyPlace{NoKey, KeyBefore, KeyAfter, KeyAlone}

// KeyForm is how a private key is written.
type KeyForm string

// The forms of a key.
const (
	PKCS8       KeyForm = "pkcs8"        // RFC 5958
	PKCS1       KeyForm = "pkcs1"        // RFC 8017, RSA alone
	SEC1        KeyForm = "sec1"         // RFC 5915, elliptic curves alone
	PKCS8Locked KeyForm = "pkcs8-locked" // PBES2, AES-256
	OlderLocked KeyForm = "older-locked" // PKCS #1 or SEC 1 in PEM, AES-256 (RFC 1421, 4.4)
)

// KeyForms are all forms of a key.
var KeyForms = []KeyForm{PKCS8, PKCS1, SEC1, PKCS8Locked, OlderLocked}

// Options is all that a box may want of a file beyond what it holds.
type Options struct {
	Encoding   Encoding
	Place      KeyPlace
	KeyForm    KeyForm
	Passphrase string
	Alias      string // of a PKCS #12 store's key: the name under which some boxes look for it
	CRLF       bool
	LineLength int  // of PEM, 64 where it is 0; -1: all on one line
	Text       bool // a line in words before each certificate
}

// ErrNoPassphrase means that something is to be locked and nothing locks it.
var ErrNoPassphrase = errors.New("this form is locked with a passphrase, and none is given")

// Unfit returns why no file can be written in this dress, whatever the chain is.
func (d Options) Unfit(form Form) error {
	several := slices.Contains([]Form{LeafFirst, LeafFirstWithRoot, Intermediates, IntermediatesWithRoot}, form)
	switch store := d.Encoding == PKCS12 || d.Encoding == PKCS12Old; {
	case store && !d.HoldsKey():
		return errNoKeyWanted
	case store && d.Place == KeyAlone:
		return errKeyWithout
	case store && !slices.Contains([]Form{Leaf, LeafFirst, LeafFirstWithRoot}, form):
		return errors.New("a PKCS #12 store begins with the leaf")
	case (d.Encoding == PKCS7 || d.Encoding == PKCS7PEM) && d.HoldsKey():
		return errKeyInPKCS7
	case d.Encoding == DER && d.Place == KeyAlone && d.KeyForm == OlderLocked:
		return errOlderDER
	case d.Encoding == DER && d.Place != KeyAlone && (several || d.HoldsKey()):
		return errOneInDER
	case d.Alias != "" && !store:
		return errors.New("only a PKCS #12 store has an alias")
	}
	return nil
}

// HoldsKey reports whether the file holds the private key.
func (d Options) HoldsKey() bool { return d.Place != "" && d.Place != NoKey }

var (
	errNoKeyWanted = errors.New("a PKCS #12 store is for a key with its certificates, and no key is wanted")
	errKeyInPKCS7  = errors.New("PKCS #7 holds no key; ask for pkcs12")
	errKeyWithout  = errors.New("a PKCS #12 store is for a key with its certificates")
	errOlderDER    = errors.New("the older locked form exists as PEM alone")
	errOneInDER    = errors.New("DER holds one thing: one certificate, or the key alone; ask for pem, pkcs7 or pkcs12")
)

// Write writes a file in this dress, and reads it back: what it returns holds
// just the certificates of the form, in order, and this key where it should.
func Write(form Form, d Options, path chain.Path, key crypto.Signer) ([]byte, error) {
	certificates, err := choose(form, path)
	if err != nil {
		return nil, err
	}
	if d.Place == KeyAlone {
		certificates = nil
	}
	if store := d.Encoding == PKCS12 || d.Encoding == PKCS12Old; store && d.Unfit(form) != nil {
		return nil, d.Unfit(form)
	}
	if !d.HoldsKey() {
		key = nil
	} else if key == nil {
		return nil, errors.New("the file is to hold the key, and there is none")
	} else if spki, err := x509.MarshalPKIXPublicKey(key.Public()); err != nil || !path.Leaf().SameKey(spki) {
		return nil, errors.New("the key is not the leaf's")
	}
	out, err := d.write(certificates, key)
	if err != nil {
		return nil, err
	}
	return out, readBack(out, d.Passphrase, certificates, key)
}

func (d Options) write(certificates []*cert.Certificate, key crypto.Signer) ([]byte, error) {
	switch d.Encoding {
	case "", PEM:
		return d.pem(certificates, key)
	case DER:
		return d.der(certificates, key)
	case PKCS7, PKCS7PEM:
		if key != nil {
			return nil, errKeyInPKCS7
		}
		var all []byte
		for _, c := range certificates {
			all = append(all, c.Raw...)
		}
		der, err := pkcs7.DegenerateCertificate(all)
		if err != nil || d.Encoding == PKCS7 {
			return der, err
		}
		return d.armour("PKCS7", nil, der), nil
	case PKCS12, PKCS12Old:
		if d.Passphrase == "" {
			return nil, ErrNoPassphrase
		}
		return d.store(certificates, key)
	}
	return nil, fmt.Errorf("no encoding is called %q; the encodings are %v", d.Encoding, Encodings)
}

// store writes PKCS #12.
func (d Options) store(certificates []*cert.Certificate, key crypto.Signer) ([]byte, error) {
	store := pkcs12.Store{Alias: d.Alias, Old: d.Encoding == PKCS12Old}
	for _, c := range certificates {
		store.Certificates = append(store.Certificates, c.Raw)
	}
	var err error
	if store.Key, err = x509.MarshalPKCS8PrivateKey(key); err != nil {
		return nil, err
	}
	return pkcs12.Write(rand.Reader, store, d.Passphrase)
}

func (d Options) der(certificates []*cert.Certificate, key crypto.Signer) ([]byte, error) {
	switch {
	case len(certificates) == 1 && key == nil:
		return certificates[0].Raw, nil
	case len(certificates) == 0 && key != nil:
		_, _, der, err := d.key(key)
		return der, err
	}
	return nil, errOneInDER
}

func (d Options) pem(certificates []*cert.Certificate, key crypto.Signer) ([]byte, error) {
	var locked, out []byte
	if key != nil {
		label, headers, der, err := d.key(key)
		if err != nil {
			return nil, err
		}
		locked = d.armour(label, headers, der)
	}
	if d.Place != KeyAfter {
		out = append(out, locked...)
	}
	for _, c := range certificates {
		if d.Text {
			out = append(out,
				d.lines(fmt.Sprintf("subject: %s\nissuer:  %s\nuntil:   %s\n", c.Subject(), c.Issuer(),
					c.NotAfter.UTC().Format("2006-01-02 15:04:05 MST")))...)
		}
		out = append(out, d.armour("CERTIFICATE", nil, c.Raw)...)
	}
	if d.Place == KeyAfter {
		out = append(out, locked...)
	}
	return out, nil
}

// key writes a key in the form that is wanted: its label, its headers (of the
// older locked form) and its bytes.
func (d Options) key(key crypto.Signer) (label string, headers map[string]string, der []byte, err error) {
	locks := d.KeyForm == PKCS8Locked || d.KeyForm == OlderLocked
	if locks && d.Passphrase == "" {
		return "", nil, nil, ErrNoPassphrase
	}
	older := func() (string, []byte, error) {
		switch k := key.(type) {
		case *rsa.PrivateKey:
			return "RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(k), nil
		case *ecdsa.PrivateKey:
			der, err := x509.MarshalECPrivateKey(k)
			return "EC PRIVATE KEY", der, err
		}
		return "", nil, fmt.Errorf("a key of the kind %T has no older form; ask for pkcs8", key)
	}
	switch d.KeyForm {
	case "", PKCS8:
		der, err = x509.MarshalPKCS8PrivateKey(key)
		return "PRIVATE KEY", nil, der, err
	case PKCS8Locked:
		if der, err = x509.MarshalPKCS8PrivateKey(key); err == nil {
			der, err = pkcs12.LockKey(rand.Reader, der, d.Passphrase)
		}
		return "ENCRYPTED PRIVATE KEY", nil, der, err
	case PKCS1, SEC1:
		label, der, err = older()
		if err == nil && (label == "RSA PRIVATE KEY") != (d.KeyForm == PKCS1) {
			err = fmt.Errorf("%s is not a form for this kind of key; ask for pkcs8", d.KeyForm)
		}
		return label, nil, der, err
	case OlderLocked:
		if d.Encoding == DER {
			return "", nil, nil, errOlderDER
		}
		if label, der, err = older(); err != nil {
			return "", nil, nil, err
		}
		//lint:ignore SA1019 devices ask for keys in this form
		block, err := x509.EncryptPEMBlock(rand.Reader, label, der, []byte(d.Passphrase), x509.PEMCipherAES256)
		if err != nil {
			return "", nil, nil, err
		}
		return label, block.Headers, block.Bytes, nil
	}
	return "", nil, nil, fmt.Errorf("no form of a key is called %q; the forms are %v", d.KeyForm, KeyForms)
}

// armour writes one block with lines as long as they are wanted.
func (d Options) armour(label string, headers map[string]string, der []byte) []byte {
	if d.LineLength == 0 || d.LineLength == 64 || headers != nil {
		return d.lines(string(pem.EncodeToMemory(&pem.Block{Type: label, Headers: headers, Bytes: der})))
	}
	text := base64.StdEncoding.EncodeToString(der)
	length := d.LineLength
	if length < 0 {
		length = len(text)
	}
	var out strings.Builder
	out.WriteString("-----BEGIN " + label + "-----\n")
	for line := range slices.Chunk([]byte(text), length) {
		out.Write(line)
		out.WriteByte('\n')
	}
	out.WriteString("-----END " + label + "-----\n")
	return d.lines(out.String())
}

// lines gives a text the line ends that are wanted.
func (d Options) lines(text string) []byte {
	if d.CRLF {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	return []byte(text)
}

// readBack sorts what was written as if it came from a stranger, and compares.
func readBack(written []byte, passphrase string, want []*cert.Certificate, key crypto.Signer) error {
	if len(want) == 0 && key == nil {
		return nil
	}
	accounts, err := pile.Sort([]pile.File{{Content: written}}, pile.Options{Passphrases: []string{passphrase}})
	if err != nil {
		return err
	}
	var got []string
	for _, item := range accounts[0].Holds {
		if item.Certificate != nil {
			got = append(got, item.SHA256)
		}
	}
	var wanted []string
	for _, c := range want {
		wanted = append(wanted, c.SHA256)
	}
	if !slices.Equal(got, wanted) {
		return fmt.Errorf("reading back: the certificates are not those that were written")
	}
	keys := pile.Keys(accounts)
	switch {
	case key == nil && len(keys) == 0:
		return nil
	case key == nil || len(keys) != 1:
		return fmt.Errorf("reading back: %d keys", len(keys))
	}
	was, err1 := x509.MarshalPKCS8PrivateKey(key)
	is, err2 := x509.MarshalPKCS8PrivateKey(keys[0])
	if err1 != nil || err2 != nil || !bytes.Equal(was, is) {
		return errors.New("reading back: the key is not the one that was written")
	}
	return nil
}

// KeyDER writes a key alone, and the label that its armour bears.
func KeyDER(d Options, key crypto.Signer) (label string, der []byte, err error) {
	label, _, der, err = d.key(key)
	return label, der, err
}
