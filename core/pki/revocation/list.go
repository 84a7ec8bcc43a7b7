package revocation

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"time"

	"freshseal/core/pki/cert"

	"golang.org/x/crypto/cryptobyte"
	tag "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/ocsp"
)

// List is what a revocation list says of some certificates.
type List struct {
	From, Until time.Time
	issuer      []byte
	asked       map[string]bool // serial numbers that it was read for
	revoked     map[string]entry
}

type entry struct {
	at     time.Time
	reason int
}

// ReadList reads what a revocation list that its issuer signed says of some certificates. The entries are read one
// after another and only theirs are kept, so a list takes no memory beside its own bytes. One with a part of the truth
// (a delta list, or one for some certificates only by a critical extension) is refused.
func ReadList(der []byte, issuer *cert.Certificate, at time.Time, about ...*cert.Certificate) (*List, error) {
	if len(der) > MaxList {
		return nil, fmt.Errorf("the revocation list is longer than %d bytes", MaxList)
	}
	above, err := x509.ParseCertificate(issuer.Raw)
	if err != nil {
		return nil, err
	}
	if err := cert.Bounded(above.PublicKey); err != nil {
		return nil, err
	}
	said, entries, err := cutList(der)
	if err != nil {
		return nil, fmt.Errorf("the revocation list cannot be read: %w", err)
	}
	if err := said.CheckSignatureFrom(above); err != nil {
		return nil, fmt.Errorf("the revocation list is not signed by the issuer: %w", err)
	}
	for _, e := range said.Extensions {
		if e.Critical && !e.Id.Equal(issuingPoint) {
			return nil, fmt.Errorf("the revocation list has the critical extension %s, which is not understood", e.Id)
		}
		if e.Id.Equal(issuingPoint) && partial(e.Value) {
			return nil, errors.New("the revocation list covers only some of the issuer's certificates")
		}
	}
	if err := current(said.ThisUpdate, said.NextUpdate, at); err != nil {
		return nil, fmt.Errorf("the revocation list %w", err)
	}
	out := &List{From: said.ThisUpdate, Until: said.NextUpdate, issuer: above.RawSubject, asked: map[string]bool{},
		revoked: map[string]entry{}}
	for _, c := range about {
		out.asked[string(c.SerialNumber.Bytes())] = true
	}
	if err := out.take(entries); err != nil {
		return nil, fmt.Errorf("the revocation list cannot be read: %w", err)
	}
	return out, nil
}

// cutList reads a list without its entries, and the entries as they are. The signature of what it returns is over the
// whole list.
func cutList(der []byte) (*x509.RevocationList, cryptobyte.String, error) {
	broken := errors.New("it is no revocation list")
	input := cryptobyte.String(der)
	var outer, tbs, whole, algorithm, entries cryptobyte.String
	var signature asn1.BitString
	if !input.ReadASN1(&outer, tag.SEQUENCE) || !input.Empty() || !outer.ReadASN1Element(&whole, tag.SEQUENCE) ||
		!outer.ReadASN1Element(&algorithm, tag.SEQUENCE) || !outer.ReadASN1BitString(&signature) || !outer.Empty() {
		return nil, nil, broken
	}
	if rest := whole; !rest.ReadASN1(&tbs, tag.SEQUENCE) {
		return nil, nil, broken
	}
	// version, signature algorithm, issuer, this update, next update; the entries are the first SEQUENCE behind a time
	var head []byte
	for times := 0; !tbs.Empty(); {
		var element cryptobyte.String
		var is tag.Tag
		if !tbs.ReadAnyASN1Element(&element, &is) {
			return nil, nil, broken
		}
		if is == tag.SEQUENCE && times > 0 && entries == nil {
			if !element.ReadASN1(&entries, tag.SEQUENCE) {
				return nil, nil, broken
			}
			continue
		}
		if is == tag.UTCTime || is == tag.GeneralizedTime {
			times++
		}
		head = append(head, element...)
	}
	var b cryptobyte.Builder
	b.AddASN1(tag.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(tag.SEQUENCE, func(b *cryptobyte.Builder) { b.AddBytes(head) })
		b.AddBytes(algorithm)
		b.AddASN1BitString(signature.RightAlign())
	})
	cut, err := b.Bytes()
	if err != nil {
		return nil, nil, err
	}
	said, err := x509.ParseRevocationList(cut)
	if err != nil {
		return nil, nil, err
	}
	if len(said.RevokedCertificateEntries) > 0 { // a second list of entries
		return nil, nil, broken
	}
	said.RawTBSRevocationList, said.Signature = whole, signature.RightAlign()
	return said, entries, nil
}

// take stores the entries of certificates that were asked about (RFC 5280, 5.1.2.6).
func (l *List) take(entries cryptobyte.String) error {
	for !entries.Empty() {
		var one, number cryptobyte.String
		if !entries.ReadASN1(&one, tag.SEQUENCE) || !one.ReadASN1(&number, tag.INTEGER) {
			return errors.New("an entry is malformed")
		}
		for len(number) > 0 && number[0] == 0 {
			number = number[1:]
		}
		if !l.asked[string(number)] {
			continue
		}
		var e entry
		var is tag.Tag
		var value cryptobyte.String
		if peek := one; !peek.ReadAnyASN1(&value, &is) {
			return errors.New("an entry is malformed")
		}
		var ok bool
		if is == tag.UTCTime {
			ok = one.ReadASN1UTCTime(&e.at)
		} else {
			ok = one.ReadASN1GeneralizedTime(&e.at)
		}
		if !ok {
			return errors.New("an entry has no time")
		}
		var err error
		if e.reason, err = reasonOf(one); err != nil {
			return err
		}
		l.revoked[string(number)] = e
	}
	return nil
}

// reasonCode is the extension of an entry with its reason (RFC 5280, 5.3.1).
var reasonCode = asn1.ObjectIdentifier{2, 5, 29, 21}

func reasonOf(extensions cryptobyte.String) (int, error) {
	if extensions.Empty() {
		return 0, nil
	}
	var all []pkix.Extension
	if rest, err := asn1.Unmarshal(extensions, &all); err != nil || len(rest) > 0 {
		return 0, errors.New("the extensions of an entry are malformed")
	}
	for _, e := range all {
		if e.Id.Equal(reasonCode) {
			value, reason := cryptobyte.String(e.Value), 0
			if !value.ReadASN1Enum(&reason) {
				return 0, errors.New("the reason of an entry is malformed")
			}
			return reason, nil
		}
	}
	return 0, nil
}

// Of returns what the list says of one of the certificates that it was read for; of others it knows nothing.
func (l *List) Of(c *cert.Certificate) Statement {
	out := Statement{Status: Good, From: l.From, Until: l.Until}
	number := c.SerialNumber.Bytes()
	e, listed := l.revoked[string(number)]
	if string(c.RawIssuer) != string(l.issuer) || !l.asked[string(number)] {
		out.Status = Unknown
	} else if listed && e.reason != ocsp.RemoveFromCRL {
		out.Status, out.At, out.Reason = Revoked, e.at, reasons[e.reason]
	}
	return out
}
