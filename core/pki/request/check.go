package request

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
)

// MaxSize is the maximum size of a request in bytes.
const MaxSize = 64 << 10

// Request is a PKCS #10 request that was read and whose signature holds.
type Request struct {
	*x509.CertificateRequest
}

// Parse reads one request from PEM (text around it is passed over), DER or the base64 of
// DER, and checks that it is signed with its own key.
func Parse(content []byte) (Request, error) {
	if len(content) > MaxSize {
		return Request{}, fmt.Errorf("a request of %d bytes is longer than the %d that are taken", len(content),
			MaxSize)
	}
	der := content
	for rest := content; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type == "CERTIFICATE REQUEST" || block.Type == "NEW CERTIFICATE REQUEST" {
			der = block.Bytes
			break
		}
	}
	if plain, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(der)), "")); err == nil {
		der = plain // DER itself is never base64: it begins with 0
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		if r = inPile(content); r == nil {
			return Request{}, errors.New("this is not a certificate request (PKCS #10)")
		}
	}
	if err := cert.Bounded(r.PublicKey); err != nil {
		return Request{}, fmt.Errorf("the request cannot be checked: %w", err)
	}
	if err := r.CheckSignature(); err != nil {
		return Request{}, fmt.Errorf("the request's own signature does not hold: %w", err)
	}
	return Request{r}, nil
}

// inPile returns the one request in a text that boxes and mails have dressed up, such as with
// blank lines between its lines; nil if there is none.
func inPile(content []byte) *x509.CertificateRequest {
	accounts, err := pile.Sort([]pile.File{{Name: "request", Content: content}}, pile.Options{})
	if err != nil || len(accounts) != 1 {
		return nil
	}
	for _, item := range accounts[0].Holds {
		if item.Request != nil {
			return item.Request
		}
	}
	return nil
}

// PEM returns the request in the text form of RFC 7468.
func (r Request) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: r.Raw})
}

// PublicKeyPEM returns the request's public key in the text form of RFC 7468, as
// openssl prints it with -pubout.
func (r Request) PublicKeyPEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: r.RawSubjectPublicKeyInfo})
}

// SPKI returns the DER of the request's SubjectPublicKeyInfo.
func (r Request) SPKI() []byte { return r.RawSubjectPublicKeyInfo }

// SHA256 returns the fingerprint of the request, which can be compared by telephone.
func (r Request) SHA256() string { return cert.Fingerprint(r.Raw) }

// Names returns the subject alternative names asked for, as text.
func (r Request) Names() []string {
	names := append([]string{}, r.DNSNames...)
	for _, ip := range r.IPAddresses {
		names = append(names, ip.String())
	}
	return names
}

// Key names the kind and size of the key: "ECDSA P-256".
func (r Request) Key() string { return cert.KeyText(r.PublicKey) }

// Check compares a request with its plan; none of severity error means that
// the box made what was planned.
func Check(plan Plan, r Request) []finding.Finding {
	var found []finding.Finding
	names := r.Names()
	for _, want := range plan.Names {
		if !slices.Contains(names, want) {
			found = append(found, finding.NameMissing.Found("the request lacks the name %s", want))
		}
	}
	for _, have := range names {
		if !slices.Contains(plan.Names, have) {
			found = append(found, finding.NameSurplus.Found("the request has the name %s, which was not planned",
				have).As(finding.Error).
				WithRemedy("see what added it on the box, and make the request again"))
		}
	}
	if r.Key() != plan.Key.Text() {
		found = append(found, finding.KeyDiffers.Found("the request's key is %s; planned was %s", r.Key(),
			plan.Key.Text()).
			WithRemedy("see which keys the box can make, and choose one of them"))
	}
	switch r.SignatureAlgorithm {
	case x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.MD5WithRSA:
		f := finding.WeakHash.Found("the request is signed with %s", r.SignatureAlgorithm)
		if plan.Weak {
			f = f.As(finding.Warning)
		}
		found = append(found, f)
	}
	if usages := extendedUsages(r); len(usages) > 0 && !slices.ContainsFunc(usages, serves) {
		found = append(found, finding.UsageWrong.Found("the request asks for a certificate that is not for servers"))
	}
	if want, have := plan.Subject, subjectOf(r); want != have {
		found = append(found, finding.SubjectDiffers.Found("the request's subject is “%s”; planned was “%s”", have,
			want))
	}
	return found
}

func subjectOf(r Request) Subject {
	first := func(list []string) string {
		if len(list) == 0 {
			return ""
		}
		return list[0]
	}
	s := r.Subject
	return Subject{CommonName: s.CommonName, Organization: first(s.Organization), Unit: first(s.OrganizationalUnit),
		Locality: first(s.Locality), State: first(s.Province), Country: first(s.Country), Email: cert.EmailOf(s)}
}

// extendedUsages returns those that a request asks for (RFC 5280, 4.2.1.12).
func extendedUsages(r Request) []asn1.ObjectIdentifier {
	for _, e := range r.Extensions {
		var out []asn1.ObjectIdentifier
		if e.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 37}) {
			if _, err := asn1.Unmarshal(e.Value, &out); err == nil {
				return out
			}
		}
	}
	return nil
}

// ForClients reports whether the request asks for the use clientAuth.
func (r Request) ForClients() bool {
	return slices.ContainsFunc(extendedUsages(r), func(id asn1.ObjectIdentifier) bool {
		return id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 2})
	})
}

// serves reports whether a usage is a server's, or any.
func serves(id asn1.ObjectIdentifier) bool {
	return id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 1}) ||
		id.Equal(asn1.ObjectIdentifier{2, 5, 29, 37, 0})
}

// Names reports whether a text names a request: as a request or public key (PEM), or by the SHA-256 of the request
// (DER) or of its public key in hexadecimal.
func Names(r Request, text string) bool {
	text = strings.TrimSpace(text)
	if other, err := Parse([]byte(text)); err == nil {
		return bytes.Equal(other.SPKI(), r.SPKI())
	}
	if block, _ := pem.Decode([]byte(text)); block != nil {
		return bytes.Equal(block.Bytes, r.SPKI())
	}
	plain := strings.ToLower(strings.NewReplacer(":", "", " ", "").Replace(text))
	return plain != "" && (plain == r.SHA256() || plain == cert.Fingerprint(r.SPKI()))
}
