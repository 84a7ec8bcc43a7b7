package pile

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	encodingasn1 "encoding/asn1"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"freshseal/core/pki/ber"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pkcs12"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

const lockedKey = "a private key, locked with a passphrase: it was not kept. It should not travel in files like this"

// der takes one or more DER values one after the other; nil says that the
// content is not DER.
func (s *sorter) der(content []byte) []Item {
	if len(content) < 2 || content[0] != 0x30 {
		return nil
	}
	if content[1] == 0x80 { // BER of indefinite length (X.690, 8.1.3.6): PKCS #7 of older programs
		return s.signedData(content)
	}
	var items []Item
	for rest := cryptobyte.String(content); !rest.Empty(); {
		var element cryptobyte.String
		if len(items) > MaxItems || !rest.ReadASN1Element(&element, asn1.SEQUENCE) {
			if len(items) > 0 && len(strings.Trim(string(rest), "\r\n\x00\x1a ")) == 0 {
				break // line ends or zeros behind the last one
			}
			return nil
		}
		items = append(items, s.element(element)...)
	}
	return items
}

// firstElement returns the first DER value of several.
func firstElement(der []byte) []byte {
	rest, element := cryptobyte.String(der), cryptobyte.String(nil)
	if !rest.ReadASN1Element(&element, asn1.SEQUENCE) {
		return der
	}
	return element
}

// element tells what one DER value is.
func (s *sorter) element(der []byte) []Item {
	if item := s.certificate(der); item.Kind == Certificate {
		return []Item{item}
	}
	if item := request(der); item.Kind == Request {
		return []Item{item}
	}
	if items := s.signedData(der); items != nil {
		return items
	}
	if items := s.pfx(der); items != nil {
		return items
	}
	if item := s.keyDER(der); item.Kind == Key {
		return []Item{item}
	}
	if item := revocations(der); item.Kind == RevocationList {
		return []Item{item}
	}
	if looksLikeCertificate(der) {
		return []Item{s.certificate(der)} // which says what is wrong with it
	}
	return []Item{junk("DER that is neither certificate, request, PKCS #7, PKCS #12, key nor revocation list")}
}

// looksLikeCertificate sees the outline of Certificate (RFC 5280, 4.1).
func looksLikeCertificate(der []byte) bool {
	outer, inner := cryptobyte.String(der), cryptobyte.String(nil)
	var tbs, algorithm cryptobyte.String
	var signature []byte
	return outer.ReadASN1(&inner, asn1.SEQUENCE) && inner.ReadASN1(&tbs, asn1.SEQUENCE) &&
		inner.ReadASN1(&algorithm, asn1.SEQUENCE) &&
		inner.ReadASN1BitStringAsBytes(&signature) && inner.Empty() && len(tbs) > 100
}

// certificate reads one certificate, leniently as long as there are few such.
func (s *sorter) certificate(der []byte) Item {
	parse := cert.Parse
	if s.odd >= mostOdd {
		parse = cert.ParseStrict
	}
	c, err := parse(der)
	if err != nil {
		return junk("a certificate that cannot be read: " + err.Error())
	}
	item := Item{Kind: Certificate, SHA256: c.SHA256, Subject: c.Subject(), Certificate: c}
	if c.Refused != "" {
		s.odd++
		item.Note = "strict readers refuse it: " + c.Refused
	}
	return item
}

func request(der []byte) Item {
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return junk("a request that cannot be read: " + err.Error())
	}
	return Item{Kind: Request, SHA256: cert.Fingerprint(der), Subject: cert.NameText(r.Subject), Request: r}
}

func revocations(der []byte) Item {
	list, err := x509.ParseRevocationList(der)
	if err != nil {
		return junk("a revocation list that cannot be read: " + err.Error())
	}
	return Item{Kind: RevocationList, SHA256: cert.Fingerprint(der), Subject: list.Issuer.String()}
}

// signedDataID is the content type of PKCS #7 (RFC 5652, 5).
var signedDataID = encodingasn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}

// signedData tells which certificates PKCS #7 holds (RFC 5652, 5.1), in DER or in
// BER; nil says that it is none. Signatures on it are of no interest here.
func (s *sorter) signedData(content []byte) []Item {
	der, ok := ber.Definite(content)
	if !ok {
		return nil
	}
	in, outer, wrapped, data := cryptobyte.String(der), cryptobyte.String(nil), cryptobyte.String(nil),
		cryptobyte.String(nil)
	var id encodingasn1.ObjectIdentifier
	if !in.ReadASN1(&outer, asn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&id) || !id.Equal(signedDataID) {
		return nil
	}
	var certificates, lists cryptobyte.String
	var some, someLists bool
	if !outer.ReadASN1(&wrapped, asn1.Tag(0).Constructed().ContextSpecific()) ||
		!wrapped.ReadASN1(&data, asn1.SEQUENCE) || !data.SkipASN1(asn1.INTEGER) ||
		!data.SkipASN1(asn1.SET) || !data.SkipASN1(asn1.SEQUENCE) ||
		!data.ReadOptionalASN1(&certificates, &some, asn1.Tag(0).Constructed().ContextSpecific()) ||
		!data.ReadOptionalASN1(&lists, &someLists, asn1.Tag(1).Constructed().ContextSpecific()) {
		return []Item{junk("PKCS #7 that is damaged; have it sent again")}
	}
	var items []Item
	each := func(list cryptobyte.String, read func(der []byte) Item) {
		for !list.Empty() && len(items) <= MaxItems {
			var element cryptobyte.String
			var tag asn1.Tag
			if !list.ReadAnyASN1Element(&element, &tag) {
				items = append(items, junk("PKCS #7 that is damaged; have it sent again"))
				return
			}
			if tag == asn1.SEQUENCE { // other kinds are no X.509
				items = append(items, read(element))
			}
		}
	}
	each(certificates, func(der []byte) Item { return s.certificate(der) })
	each(lists, revocations)
	if len(items) == 0 {
		return []Item{junk("a PKCS #7 envelope without certificates")}
	}
	return items
}

// pfx tells what PKCS #12 (RFC 7292) holds; nil says that it is none.
func (s *sorter) pfx(der []byte) []Item {
	if !pkcs12.Is(der) {
		return nil
	}
	var why error
	for _, passphrase := range s.passphrases {
		bags, err := pkcs12.Read(der, passphrase, s.effort)
		if err != nil {
			if why == nil || !errors.Is(err, pkcs12.ErrPassphrase) {
				why = err
			}
			continue
		}
		var items []Item
		for _, b := range bags {
			switch {
			case b.Certificate != nil:
				items = append(items, s.certificate(b.Certificate))
			case b.Key != nil:
				items = append(items, s.keyDER(b.Key))
			default:
				items = append(items, revocations(b.Revocations))
			}
		}
		if len(items) == 0 {
			items = []Item{junk("a PKCS #12 store that is empty")}
		}
		return items
	}
	var rounds pkcs12.ErrRounds
	switch {
	case errors.As(why, &rounds):
		return []Item{junk("PKCS #12: " + why.Error() + "; export it again")}
	case errors.Is(why, pkcs12.ErrPassphrase):
		return []Item{junk("a PKCS #12 store whose passphrase is another, or not given")}
	}
	return []Item{junk("a PKCS #12 store of a form that is not read here (" + why.Error() + "); have its " +
		"certificates exported as PEM or PKCS #7")}
}

// keyDER reads a private key in whatever DER it comes.
func (s *sorter) keyDER(der []byte) Item {
	if key := parseKey(der); key != nil {
		return keyItem(key, "")
	}
	if !isLockedKey(der) {
		return junk("a private key that cannot be read")
	}
	for _, passphrase := range s.passphrases {
		plain, err := pkcs12.OpenKey(der, passphrase, s.effort)
		if errors.As(err, new(pkcs12.ErrRounds)) {
			return junk("a locked key: " + err.Error())
		}
		if key := parseKey(plain); key != nil {
			return keyItem(key, "")
		}
	}
	return keyItem(nil, lockedKey)
}

// isLockedKey sees the outline of EncryptedPrivateKeyInfo (RFC 5958, 3).
func isLockedKey(der []byte) bool {
	outer, inner := cryptobyte.String(der), cryptobyte.String(nil)
	var algorithm cryptobyte.String
	var sealed cryptobyte.String
	return outer.ReadASN1(&inner, asn1.SEQUENCE) && inner.ReadASN1(&algorithm, asn1.SEQUENCE) &&
		inner.ReadASN1(&sealed, asn1.OCTET_STRING) && inner.Empty() && algorithm.PeekASN1Tag(asn1.OBJECT_IDENTIFIER)
}

// parseKey reads PKCS #8 (RFC 5958), PKCS #1 (RFC 8017) and SEC 1 (RFC 5915).
func parseKey(der []byte) crypto.Signer {
	if key, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		signer, _ := key.(crypto.Signer)
		return signer
	}
	if key, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return key
	}
	if key, err := x509.ParseECPrivateKey(der); err == nil {
		return key
	}
	return nil
}

// keyItem tells of a private key, by its public half where it could be opened.
func keyItem(key crypto.Signer, note string) Item {
	if key == nil {
		return Item{Kind: Key, Note: note}
	}
	item := Item{Kind: Key, Key: key, Note: "a private key: it was not kept. It should not travel in files like " +
		"this; delete them"}
	if spki, err := x509.MarshalPKIXPublicKey(key.Public()); err == nil {
		sum := sha256.Sum256(spki)
		item.SHA256 = hex.EncodeToString(sum[:])
	}
	switch k := key.(type) {
	case *ecdsa.PrivateKey:
		item.Subject = "ECDSA " + k.Params().Name
	case *rsa.PrivateKey:
		item.Subject = fmt.Sprintf("RSA %d", k.N.BitLen())
	}
	return item
}
