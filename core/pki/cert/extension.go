package cert

import (
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"strings"
)

// Bounds of what is shown of a certificate's extensions: they are foreign.
const (
	mostShownExtensions = 64
	mostShownBytes      = 64
	mostValueText       = 1000
)

// extensionNames are the names of extensions as RFC 5280, 6962 and 7633 have them.
var extensionNames = map[string]string{
	"2.5.29.14": "subjectKeyIdentifier", "2.5.29.15": "keyUsage", "2.5.29.17": "subjectAltName",
	"2.5.29.18": "issuerAltName", "2.5.29.19": "basicConstraints", "2.5.29.30": "nameConstraints",
	"2.5.29.31": "cRLDistributionPoints", "2.5.29.32": "certificatePolicies", "2.5.29.33": "policyMappings",
	"2.5.29.35": "authorityKeyIdentifier", "2.5.29.36": "policyConstraints", "2.5.29.37": "extKeyUsage",
	"2.5.29.46": "freshestCRL", "2.5.29.54": "inhibitAnyPolicy", "1.3.6.1.5.5.7.1.1": "authorityInfoAccess",
	"1.3.6.1.5.5.7.1.11": "subjectInfoAccess", "1.3.6.1.5.5.7.1.24": "tlsFeature",
	"1.3.6.1.4.1.11129.2.4.2": "signedCertificateTimestampList",
}

// Extensions returns the first extensions of the certificate, in their order.
func (c *Certificate) Extensions() []Extension {
	x := c.X509()
	var out []Extension
	for _, e := range x.Extensions[:min(len(x.Extensions), mostShownExtensions)] {
		number := e.Id.String()
		name, known := extensionNames[number]
		if !known {
			name = number
		}
		value := extensionText(c, x, name)
		if value == "" {
			value = fmt.Sprintf("%d bytes: %s", len(e.Value), hex.EncodeToString(e.Value[:min(len(e.Value),
				mostShownBytes)]))
		}
		if cut := strings.ToValidUTF8(value[:min(len(value), mostValueText)], ""); len(cut) < len(value) {
			value = cut + "…"
		}
		out = append(out, Extension{Name: name, Critical: e.Critical, Value: value})
	}
	return out
}

// extensionText returns what an extension says in words, empty if that is not known.
func extensionText(c *Certificate, x *x509.Certificate, name string) string {
	switch name {
	case "subjectKeyIdentifier":
		return hex.EncodeToString(x.SubjectKeyId)
	case "authorityKeyIdentifier":
		return hex.EncodeToString(x.AuthorityKeyId)
	case "keyUsage":
		var uses []string
		for _, use := range keyUses {
			if x.KeyUsage&use.bit != 0 {
				uses = append(uses, use.name)
			}
		}
		return strings.Join(uses, ", ")
	case "extKeyUsage":
		var uses []string
		for _, use := range x.ExtKeyUsage {
			uses = append(uses, extendedUses[use])
		}
		for _, use := range x.UnknownExtKeyUsage {
			uses = append(uses, use.String())
		}
		return strings.Join(uses, ", ")
	case "subjectAltName":
		return strings.Join(c.Names(), ", ")
	case "basicConstraints":
		switch {
		case !x.IsCA:
			return "no authority"
		case x.MaxPathLen > 0 || x.MaxPathLenZero:
			return fmt.Sprintf("authority, path length %d", x.MaxPathLen)
		}
		return "authority"
	case "cRLDistributionPoints":
		return strings.Join(x.CRLDistributionPoints, ", ")
	case "authorityInfoAccess":
		var places []string
		for _, place := range x.OCSPServer {
			places = append(places, "OCSP "+place)
		}
		for _, place := range x.IssuingCertificateURL {
			places = append(places, "issuer "+place)
		}
		return strings.Join(places, ", ")
	case "certificatePolicies":
		var policies []string
		for _, p := range x.Policies {
			policies = append(policies, p.String())
		}
		return strings.Join(policies, ", ")
	}
	return ""
}
