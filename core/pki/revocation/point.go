package revocation

import (
	"encoding/asn1"

	"golang.org/x/crypto/cryptobyte"
	tag "golang.org/x/crypto/cryptobyte/asn1"
)

// issuingPoint is the extension that says for which certificates a list speaks.
var issuingPoint = asn1.ObjectIdentifier{2, 5, 29, 28}

// partial reports whether an issuing distribution point (RFC 5280, 5.2.5) limits a list in a
// way that leaves certificates of servers or authorities out, or speaks for other issuers:
//
//	IssuingDistributionPoint ::= SEQUENCE { distributionPoint [0], onlyContainsUserCerts [1],
//	  onlyContainsCACerts [2], onlySomeReasons [3], indirectCRL [4], onlyContainsAttributeCerts [5] }
//
// A list that was fetched from the address which the certificate names, and that is for servers
// alone, is whole for servers; one for authorities alone is whole for them. So these two do not make it partial.
func partial(value []byte) bool {
	s := cryptobyte.String(value)
	var point cryptobyte.String
	if !s.ReadASN1(&point, tag.SEQUENCE) || !s.Empty() {
		return true
	}
	for !point.Empty() {
		var field cryptobyte.String
		var t tag.Tag
		if !point.ReadAnyASN1(&field, &t) {
			return true
		}
		switch t {
		case tag.Tag(0).ContextSpecific().Constructed(), tag.Tag(1).ContextSpecific(), tag.Tag(2).ContextSpecific():
		default:
			return true
		}
	}
	return false
}
