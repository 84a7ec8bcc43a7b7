// Package revocation reads what an authority says of certificates that it took back: OCSP
// responses (RFC 6960) and revocation lists (RFC 5280, 5). It fetches nothing.
//
//	Sources(leaf) → where to ask      Request(leaf, issuer) → what to send to a responder
//	Response(der, leaf, issuer, at), ReadList(der, issuer, at, leaves).Of(leaf) → Statement
//
// What is not signed by the issuer, or by whom it names for that, is an error.
package revocation

import (
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/pki/cert"

	"golang.org/x/crypto/ocsp"
)

// Status is what an authority says of a certificate.
type Status string

// The statuses. Unknown is a responder that does not know the certificate.
const (
	Good    Status = "good"
	Revoked Status = "revoked"
	Unknown Status = "unknown"
)

// Statement is what was said of one certificate.
type Statement struct {
	Status Status    `json:"status" required:"true" enum:"good,revoked,unknown"`
	At     time.Time `json:"revoked_at,omitzero"`
	Reason string    `json:"reason,omitempty"`
	From   time.Time `json:"from" required:"true"`
	Until  time.Time `json:"until,omitzero"`
}

// Limits of what is read.
const (
	MaxResponse = 64 << 10 // of a responder; usual ones have two kilobytes
	MaxList     = 16 << 20 // of a revocation list; the largest public ones are near it
)

// skew is how far the clocks of two machines may differ.
const skew = 5 * time.Minute

// Sources are the addresses where a certificate says that its revocation can be looked up.
type Sources struct {
	Responders []string // OCSP
	Lists      []string
}

// None reports whether the certificate names no address.
func (s Sources) None() bool { return len(s.Responders)+len(s.Lists) == 0 }

// SourcesOf reads the addresses of a certificate, those of HTTP alone.
func SourcesOf(c *cert.Certificate) Sources {
	x, err := x509.ParseCertificate(c.Raw)
	if err != nil {
		return Sources{}
	}
	web := func(all []string) []string {
		return slices.DeleteFunc(slices.Clone(all), func(url string) bool {
			return !strings.HasPrefix(url, "http://") && !strings.HasPrefix(url, "https://")
		})
	}
	return Sources{web(x.OCSPServer), web(x.CRLDistributionPoints)}
}

// Request returns the question for a responder (RFC 6960, 4.1), with SHA-1 names, which all know.
func Request(leaf, issuer *cert.Certificate) ([]byte, error) {
	x, above, err := both(leaf, issuer)
	if err != nil {
		return nil, err
	}
	return ocsp.CreateRequest(x, above, &ocsp.RequestOptions{Hash: crypto.SHA1})
}

// Response reads a responder's answer about a leaf.
func Response(der []byte, leaf, issuer *cert.Certificate, at time.Time) (Statement, error) {
	if len(der) > MaxResponse {
		return Statement{}, fmt.Errorf("the OCSP response is longer than %d bytes", MaxResponse)
	}
	x, above, err := both(leaf, issuer)
	if err != nil {
		return Statement{}, err
	}
	if err := boundedResponder(der); err != nil {
		return Statement{}, fmt.Errorf("the OCSP response is signed by a certificate that is not used: %w", err)
	}
	said, err := ocsp.ParseResponseForCert(der, x, above)
	if err != nil {
		return Statement{}, fmt.Errorf("the OCSP response cannot be used: %w", err)
	}
	if by := said.Certificate; by != nil && !by.Equal(above) {
		switch {
		case !slices.Contains(by.ExtKeyUsage, x509.ExtKeyUsageOCSPSigning): // RFC 6960, 4.2.2.2
			return Statement{}, errors.New("the OCSP response is signed by a certificate that may not sign responses")
		case at.After(by.NotAfter) || at.Add(skew).Before(by.NotBefore):
			return Statement{}, errors.New("the OCSP response is signed by a certificate that has expired or is " +
				"not valid yet")
		}
	}
	if err := current(said.ThisUpdate, said.NextUpdate, at); err != nil {
		return Statement{}, fmt.Errorf("the OCSP response %w", err)
	}
	out := Statement{Status: Good, From: said.ThisUpdate, Until: said.NextUpdate}
	switch said.Status {
	case ocsp.Good:
	case ocsp.Revoked:
		out.Status, out.At, out.Reason = Revoked, said.RevokedAt, reasons[said.RevocationReason]
	default:
		out.Status = Unknown
	}
	return out, nil
}

// both returns two certificates as crypto/x509 has them.
func both(leaf, issuer *cert.Certificate) (x, above *x509.Certificate, err error) {
	if x, err = x509.ParseCertificate(leaf.Raw); err != nil {
		return nil, nil, err
	}
	if above, err = x509.ParseCertificate(issuer.Raw); err != nil {
		return nil, nil, err
	}
	return x, above, cert.Bounded(above.PublicKey)
}

// current returns why what was said counts no more, or not yet.
func current(from, until, at time.Time) error {
	switch {
	case from.After(at.Add(skew)):
		return fmt.Errorf("is of %s, which is still to come", from.Format(time.DateOnly))
	case !until.IsZero() && until.Before(at.Add(-skew)):
		return fmt.Errorf("has been out of date since %s", until.Format(time.DateOnly))
	}
	return nil
}

// reasons are those of RFC 5280, 5.3.1.
var reasons = map[int]string{0: "", 1: "keyCompromise", 2: "cACompromise", 3: "affiliationChanged", 4: "superseded",
	5: "cessationOfOperation", 6: "certificateHold", 8: "removeFromCRL", 9: "privilegeWithdrawn", 10: "aACompromise"}
