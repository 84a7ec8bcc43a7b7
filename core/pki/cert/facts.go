package cert

import (
	"crypto/x509"
	"time"
)

// Facts is a certificate as the API and the commands show it.
type Facts struct {
	Name       string    `json:"name" required:"true"`
	Subject    string    `json:"subject" required:"true"`
	Issuer     string    `json:"issuer" required:"true"`
	Names      []string  `json:"names" required:"true"`
	NotBefore  time.Time `json:"not_before" required:"true"`
	NotAfter   time.Time `json:"not_after" required:"true"`
	Serial     string    `json:"serial" required:"true"`
	SHA256     string    `json:"sha256" required:"true"`
	SHA1       string    `json:"sha1" required:"true"`
	Key        string    `json:"key" required:"true"`
	Signature  string    `json:"signature" required:"true"`
	Uses       []string  `json:"uses" required:"true"`
	SelfSigned bool      `json:"self_signed" required:"true"`
	Authority  bool      `json:"authority" required:"true"`
	Refused    string    `json:"refused,omitempty"`
}

// Extension is an extension of a certificate (RFC 5280, 4.2).
type Extension struct {
	Name     string `json:"name" required:"true"` // as RFC 5280 has it, else its number
	Critical bool   `json:"critical,omitempty"`
	// in words where the name is known, else its first bytes in hexadecimal
	Value string `json:"value" required:"true"`
}

// Facts returns what the API and the commands show of the certificate.
func (c *Certificate) Facts() Facts {
	return Facts{
		Name: c.ShortName(), Subject: c.subject, Issuer: c.Issuer(), Names: c.Names(),
		NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(),
		Serial: c.Serial(), SHA256: c.SHA256, SHA1: c.SHA1(),
		Key: c.Key(), Signature: c.SignatureText(), Uses: c.Uses(),
		SelfSigned: c.selfSigned, Authority: c.IsAuthority(), Refused: c.Refused,
	}
}

// The names of uses as RFC 5280 has them.
var (
	keyUses = []struct {
		bit  x509.KeyUsage
		name string
	}{
		{x509.KeyUsageDigitalSignature, "digitalSignature"}, {x509.KeyUsageContentCommitment, "nonRepudiation"},
		{x509.KeyUsageKeyEncipherment, "keyEncipherment"}, {x509.KeyUsageDataEncipherment, "dataEncipherment"},
		{x509.KeyUsageKeyAgreement, "keyAgreement"}, {x509.KeyUsageCertSign, "keyCertSign"},
		{x509.KeyUsageCRLSign, "cRLSign"}, {x509.KeyUsageEncipherOnly, "encipherOnly"},
		{x509.KeyUsageDecipherOnly, "decipherOnly"},
	}
	extendedUses = map[x509.ExtKeyUsage]string{
		x509.ExtKeyUsageAny: "anyExtendedKeyUsage", x509.ExtKeyUsageServerAuth: "serverAuth",
		x509.ExtKeyUsageClientAuth: "clientAuth", x509.ExtKeyUsageCodeSigning: "codeSigning",
		x509.ExtKeyUsageEmailProtection: "emailProtection", x509.ExtKeyUsageTimeStamping: "timeStamping",
		x509.ExtKeyUsageOCSPSigning: "OCSPSigning",
	}
)

// Uses returns what the key may be used for by key usage and extended key usage; those without a name are given by
// their number.
func (c *Certificate) Uses() []string {
	out := []string{}
	for _, use := range keyUses {
		if c.KeyUsage&use.bit != 0 {
			out = append(out, use.name)
		}
	}
	for _, use := range c.ExtKeyUsage {
		if name := extendedUses[use]; name != "" {
			out = append(out, name)
		}
	}
	for _, use := range c.UnknownExtKeyUsage {
		out = append(out, use.String())
	}
	return out
}
