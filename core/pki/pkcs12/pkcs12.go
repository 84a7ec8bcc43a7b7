// Package pkcs12 reads and writes PKCS #12 stores (RFC 7292): a private key with
// its certificates in one file, locked with a passphrase.
//
//	PFX → ContentInfo → AuthenticatedSafe: a list of ContentInfo, each
//	    in clear, or locked with the passphrase
//	      → SafeContents: a list of bags → certificate, key, revocation list
//
// Read takes what boxes and browsers write, stricter libraries' refusals
// included: stores without integrity protection, of certificates alone, in BER.
// Write makes the two forms that boxes want.
package pkcs12

import (
	"bytes"
	"crypto/hmac"
	"errors"
	"fmt"

	"freshseal/core/pki/ber"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// Bag is one thing in a store.
type Bag struct {
	Alias       string // the friendly name, which some boxes pick a key by
	Certificate []byte // DER, of a certificate
	Key         []byte // DER, PKCS #8 (RFC 5958)
	Revocations []byte // DER, of a revocation list
}

// What can be in the way of reading.
var (
	ErrForm       = errors.New("this is not PKCS #12")
	ErrPassphrase = errors.New("the passphrase is another")
)

// mostBags bounds a store; real ones hold a handful, trust stores some hundreds.
const (
	mostBags = 10_000
	mostDeep = 5 // SafeContents in SafeContents
)

// Is reports whether DER (or BER) has the outline of PKCS #12.
func Is(der []byte) bool {
	_, ok := outline(der)
	return ok
}

type pfx struct {
	authSafe cryptobyte.String // the content of the outer ContentInfo
	mac      cryptobyte.String // empty if there is none
}

func outline(der []byte) (pfx, bool) {
	var p pfx
	if len(der) < 2 || der[0] != 0x30 {
		return p, false
	}
	plain, ok := ber.Definite(der)
	if !ok {
		return p, false
	}
	outer, inner := cryptobyte.String(plain), cryptobyte.String(nil)
	var version int
	var kind oid
	if !outer.ReadASN1(&inner, asn1.SEQUENCE) || !inner.ReadASN1Integer(&version) || version != 3 {
		return p, false
	}
	content, ok := contentInfo(&inner, &kind)
	if !ok || kind != data || !content.ReadASN1(&p.authSafe, asn1.OCTET_STRING) {
		return p, false
	}
	var there bool
	return p, inner.ReadOptionalASN1(&p.mac, &there, asn1.SEQUENCE)
}

// contentInfo reads a ContentInfo (RFC 5652, 3).
func contentInfo(s *cryptobyte.String, kind *oid) (content cryptobyte.String, ok bool) {
	var info cryptobyte.String
	ok = s.ReadASN1(&info, asn1.SEQUENCE) && kind.read(&info) && info.ReadASN1(&content, explicit(0))
	return content, ok
}

func explicit(n uint8) asn1.Tag { return asn1.Tag(n).Constructed().ContextSpecific() }

// Read opens a store with a passphrase. Effort is how much work its locks may
// cost; it is used up by what they do cost.
func Read(der []byte, passphrase string, effort *Effort) ([]Bag, error) {
	p, ok := outline(der)
	if !ok {
		return nil, ErrForm
	}
	forms := [][]byte{wide(passphrase)}
	if passphrase == "" {
		forms = append(forms, nil) // some programs write no passphrase as nothing, others as an empty text
	}
	err := error(ErrPassphrase)
	for _, form := range forms {
		r := reader{passphrase: passphrase, wide: form, effort: effort}
		if err = r.proven(p); err == nil {
			if err = r.safe(p.authSafe); err == nil {
				return r.bags, nil
			}
		}
		if !errors.Is(err, ErrPassphrase) {
			break
		}
	}
	return nil, err
}

type reader struct {
	passphrase string
	wide       []byte // the same as the older locks want it
	effort     *Effort
	bags       []Bag
}

// proven checks the store's integrity with the passphrase (RFC 7292, 4). What has
// no such protection, or one of a kind that is not known here, is taken as it
// is: its certificates bear signatures of their own, and its key must be the leaf's.
func (r *reader) proven(p pfx) error {
	if p.mac.Empty() {
		return nil
	}
	var digestInfo, algorithm, digest, salt cryptobyte.String
	var kind oid
	rounds := 1
	if !p.mac.ReadASN1(&digestInfo, asn1.SEQUENCE) || !digestInfo.ReadASN1(&algorithm, asn1.SEQUENCE) ||
		!kind.read(&algorithm) ||
		!digestInfo.ReadASN1(&digest, asn1.OCTET_STRING) || !p.mac.ReadASN1(&salt, asn1.OCTET_STRING) ||
		!p.mac.Empty() && !p.mac.ReadASN1Integer(&rounds) {
		return ErrForm
	}
	h, known := digests[kind]
	if !known {
		return nil
	}
	if err := r.effort.take(rounds); err != nil {
		return err
	}
	key := derive(h, r.wide, salt, rounds, forMAC, h().Size())
	mac := hmac.New(h, key)
	mac.Write(p.authSafe)
	if !hmac.Equal(mac.Sum(nil), digest) {
		return ErrPassphrase
	}
	return nil
}

// safe reads an AuthenticatedSafe.
func (r *reader) safe(content cryptobyte.String) error {
	var list cryptobyte.String
	if !content.ReadASN1(&list, asn1.SEQUENCE) {
		return ErrForm
	}
	for !list.Empty() {
		var kind oid
		content, ok := contentInfo(&list, &kind)
		if !ok {
			return ErrForm
		}
		var plain cryptobyte.String
		switch kind {
		case data:
			if !content.ReadASN1(&plain, asn1.OCTET_STRING) {
				return ErrForm
			}
		case encryptedData:
			opened, err := r.encrypted(content)
			if err != nil {
				return err
			}
			plain = opened
		default:
			return fmt.Errorf("a part of it is locked in a way that is not read here (%s)", kind)
		}
		if err := r.contents(plain, 0); err != nil {
			return err
		}
	}
	return nil
}

// encrypted opens EncryptedData (RFC 5652, 8).
func (r *reader) encrypted(content cryptobyte.String) ([]byte, error) {
	var sequence, info, algorithm, sealed cryptobyte.String
	var version int
	var kind oid
	if !content.ReadASN1(&sequence, asn1.SEQUENCE) || !sequence.ReadASN1Integer(&version) ||
		!sequence.ReadASN1(&info, asn1.SEQUENCE) ||
		!kind.read(&info) || !info.ReadASN1(&algorithm, asn1.SEQUENCE) {
		return nil, ErrForm
	}
	if info.PeekASN1Tag(explicit(0)) { // as BER writes it
		var pieces cryptobyte.String
		for info.ReadASN1(&pieces, explicit(0)); !pieces.Empty(); {
			var piece cryptobyte.String
			if !pieces.ReadASN1(&piece, asn1.OCTET_STRING) {
				return nil, ErrForm
			}
			sealed = append(sealed, piece...)
		}
	} else if !info.ReadASN1(&sealed, asn1.Tag(0).ContextSpecific()) {
		return nil, ErrForm
	}
	return unlock(algorithm, sealed, r.passphrase, r.wide, r.effort)
}

// contents reads SafeContents (RFC 7292, 4.2).
func (r *reader) contents(plain cryptobyte.String, depth int) error {
	var list cryptobyte.String
	if !plain.ReadASN1(&list, asn1.SEQUENCE) || depth > mostDeep {
		return ErrForm
	}
	for !list.Empty() {
		var bag, value, attributes cryptobyte.String
		var kind oid
		var some bool
		if len(r.bags) >= mostBags {
			return fmt.Errorf("it holds more than %d things", mostBags)
		}
		if !list.ReadASN1(&bag, asn1.SEQUENCE) || !kind.read(&bag) || !bag.ReadASN1(&value, explicit(0)) ||
			!bag.ReadOptionalASN1(&attributes, &some, asn1.SET) {
			return ErrForm
		}
		out := Bag{Alias: alias(attributes)}
		var err error
		switch kind {
		case keyBag:
			out.Key = bytes.Clone(value)
		case lockedKeyBag:
			out.Key, err = unlockKey(value, r.passphrase, r.wide, r.effort)
		case certificateBag:
			out.Certificate, err = typed(value, x509Certificate)
		case revocationBag:
			out.Revocations, err = typed(value, x509Revocations)
		case contentsBag:
			if err := r.contents(value, depth+1); err != nil {
				return err
			}
			continue
		default:
			continue // secrets of other kinds are nothing for us
		}
		if err != nil {
			return err
		}
		r.bags = append(r.bags, out)
	}
	return nil
}

// typed reads CertBag and CRLBag: a kind, then the DER.
func typed(value cryptobyte.String, want oid) ([]byte, error) {
	var bag, content, der cryptobyte.String
	var kind oid
	if !value.ReadASN1(&bag, asn1.SEQUENCE) || !kind.read(&bag) || !bag.ReadASN1(&content, explicit(0)) ||
		kind != want || !content.ReadASN1(&der, asn1.OCTET_STRING) {
		return nil, ErrForm
	}
	return bytes.Clone(der), nil
}

// alias finds the friendly name among a bag's attributes (RFC 2985, 5.5.1).
func alias(attributes cryptobyte.String) string {
	for !attributes.Empty() {
		var attribute, values, name cryptobyte.String
		var kind oid
		if !attributes.ReadASN1(&attribute, asn1.SEQUENCE) || !kind.read(&attribute) {
			return ""
		}
		if kind == friendlyName && attribute.ReadASN1(&values, asn1.SET) && values.ReadASN1(&name, bmpString) {
			return narrow(name)
		}
	}
	return ""
}

// OpenKey opens a locked private key outside of any store: EncryptedPrivateKeyInfo
// (RFC 5958, 3). What it gives is PKCS #8.
func OpenKey(der []byte, passphrase string, effort *Effort) ([]byte, error) {
	return unlockKey(der, passphrase, wide(passphrase), effort)
}

func unlockKey(value cryptobyte.String, passphrase string, wide []byte, effort *Effort) ([]byte, error) {
	var info, algorithm, sealed cryptobyte.String
	if !value.ReadASN1(&info, asn1.SEQUENCE) || !info.ReadASN1(&algorithm, asn1.SEQUENCE) ||
		!info.ReadASN1(&sealed, asn1.OCTET_STRING) {
		return nil, ErrForm
	}
	return unlock(algorithm, sealed, passphrase, wide, effort)
}
