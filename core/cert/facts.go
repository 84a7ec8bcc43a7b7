package cert

import "time"

// Facts is a certificate as the API and the commands show it.
type Facts struct {
	Name       string    `json:"name" required:"true" description:"what people call it"`
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
	SelfSigned bool      `json:"self_signed" required:"true"`
	Authority  bool      `json:"authority" required:"true"`
	Refused    string    `json:"refused,omitempty" description:"why strict readers refuse it"`
}

// Facts are what the API and the commands show of the certificate.
func (c *Certificate) Facts() Facts {
	return Facts{
		Name: c.ShortName(), Subject: c.subject, Issuer: c.Issuer(), Names: c.Names(),
		NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(),
		Serial: c.Serial(), SHA256: c.SHA256, SHA1: c.SHA1(),
		Key: c.Key(), Signature: c.SignatureText(),
		SelfSigned: c.selfSigned, Authority: c.IsAuthority(), Refused: c.Refused,
	}
}
