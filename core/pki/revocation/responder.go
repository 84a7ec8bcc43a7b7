package revocation

import (
	"crypto/x509"
	"encoding/asn1"

	"freshseal/core/pki/cert"
)

// boundedResponder reports that a response names a certificate of its responder whose key is out of bounds: one
// check of a signature with it would take seconds. What cannot be read here is left to who reads it whole
// (RFC 6960, 4.2.1).
//
//	OCSPResponse ::= SEQUENCE { status ENUMERATED, [0] SEQUENCE { type OID, response OCTET STRING } }
//	BasicOCSPResponse ::= SEQUENCE { data, algorithm, signature BIT STRING, [0] SEQUENCE OF Certificate }
func boundedResponder(der []byte) error {
	var outer struct {
		Status   asn1.Enumerated
		Response struct {
			Type   asn1.ObjectIdentifier
			Octets []byte
		} `asn1:"explicit,tag:0,optional"`
	}
	if _, err := asn1.Unmarshal(der, &outer); err != nil {
		return nil
	}
	var basic struct {
		Data, Algorithm asn1.RawValue
		Signature       asn1.BitString
		Certificates    []asn1.RawValue `asn1:"explicit,tag:0,optional"`
	}
	if _, err := asn1.Unmarshal(outer.Response.Octets, &basic); err != nil || len(basic.Certificates) == 0 {
		return nil
	}
	responder, err := x509.ParseCertificate(basic.Certificates[0].FullBytes)
	if err != nil {
		return nil
	}
	return cert.Bounded(responder.PublicKey)
}
