package request

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"net"
	"strconv"
	"strings"

	"freshseal/core/pki/cert"
)

// NewKey makes a key of a planned type, from the system's randomness.
func NewKey(t KeyType) (crypto.Signer, error) {
	switch t {
	case ECDSAP256:
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case ECDSAP384:
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	}
	bits, err := strconv.Atoi(strings.TrimPrefix(string(t), "rsa-"))
	if err != nil {
		return nil, fmt.Errorf("no key type is called %q", t)
	}
	return rsa.GenerateKey(rand.Reader, bits)
}

// Make makes the request of a plan with a key, as PKCS #10 (RFC 2986), for
// those that cannot make it themselves.
func Make(p Plan, key crypto.Signer) (Request, error) {
	some := func(value string) []string {
		if value == "" {
			return nil
		}
		return []string{value}
	}
	usage, err := keyUsage(p)
	if err != nil {
		return Request{}, err
	}
	var more []pkix.AttributeTypeAndValue
	if p.Subject.Email != "" {
		more = append(more, cert.EmailAttribute(p.Subject.Email))
	}
	template := x509.CertificateRequest{
		Subject: pkix.Name{CommonName: p.Subject.CommonName, Organization: some(p.Subject.Organization),
			OrganizationalUnit: some(p.Subject.Unit),
			Locality:           some(p.Subject.Locality), Province: some(p.Subject.State),
			Country:    some(p.Subject.Country),
			ExtraNames: more},
		ExtraExtensions: usage,
	}
	for _, name := range p.Names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &template, key)
	if err != nil {
		return Request{}, fmt.Errorf("making the request: %w", err)
	}
	return Parse(der)
}

// keyUsage asks for what a server needs, and a client where the plan says so (RFC 5280, 4.2.1.3 and 4.2.1.12).
func keyUsage(p Plan) ([]pkix.Extension, error) {
	bits := asn1.BitString{Bytes: []byte{0x80}, BitLength: 1} // digitalSignature
	if strings.HasPrefix(string(p.Key), "rsa-") {
		bits = asn1.BitString{Bytes: []byte{0xa0}, BitLength: 3} // and keyEncipherment
	}
	usage, err := asn1.Marshal(bits)
	if err != nil {
		return nil, err
	}
	uses := []asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 1}}
	if p.ClientUse {
		uses = append(uses, asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 2})
	}
	extended, err := asn1.Marshal(uses)
	return []pkix.Extension{
		{Id: asn1.ObjectIdentifier{2, 5, 29, 15}, Critical: true, Value: usage},
		{Id: asn1.ObjectIdentifier{2, 5, 29, 37}, Value: extended},
	}, err
}

// TypeOf returns the key type of a private key; false where it is none of AllKeyTypes.
func TypeOf(key crypto.Signer) (KeyType, bool) {
	kind, bits := cert.RSA, 0
	switch public := key.Public().(type) {
	case *rsa.PublicKey:
		bits = public.N.BitLen()
	case *ecdsa.PublicKey:
		kind, bits = cert.ECDSA, public.Curve.Params().BitSize
	default:
		return "", false
	}
	for _, each := range AllKeyTypes {
		if k, n := each.Size(); k == kind && n == bits {
			return each, true
		}
	}
	return "", false
}
