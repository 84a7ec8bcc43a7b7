// Package request plans what a certificate request (PKCS #10, RFC 2986) must
// say, and checks one against its plan before anybody is asked to sign it.
//
//	plan  →  the device makes the request  →  Check  →  the signer
package request

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// KeyType is a kind and size of key.
type KeyType string

// The key types that are planned today.
const (
	ECDSAP256 KeyType = "ecdsa-p256"
	ECDSAP384 KeyType = "ecdsa-p384"
	RSA2048   KeyType = "rsa-2048"
	RSA3072   KeyType = "rsa-3072"
	RSA4096   KeyType = "rsa-4096"
)

// RSA1024 is for boxes that can do no better, and only where the policy says so.
const RSA1024 KeyType = "rsa-1024"

// KeyTypes are all key types, the first being the default; AllKeyTypes those
// besides that are too weak for anything but a box that can do no better.
var (
	KeyTypes    = []KeyType{ECDSAP256, ECDSAP384, RSA2048, RSA3072, RSA4096}
	AllKeyTypes = append(slices.Clone(KeyTypes), RSA1024)
)

// Text returns the key type in the words that cert.KeyText uses.
func (k KeyType) Text() string {
	switch k {
	case ECDSAP256:
		return "ECDSA P-256"
	case ECDSAP384:
		return "ECDSA P-384"
	}
	return strings.Replace(string(k), "rsa-", "RSA ", 1)
}

// Size returns the kind of the key and its size in bits.
func (k KeyType) Size() (cert.KeyKind, int) {
	switch k {
	case ECDSAP256:
		return cert.ECDSA, 256
	case ECDSAP384:
		return cert.ECDSA, 384
	}
	bits, _ := strconv.Atoi(strings.TrimPrefix(string(k), "rsa-")) // another type is none, and told of elsewhere
	return cert.RSA, bits
}

// Subject is the part of a distinguished name that is planned. Empty fields
// are left out.
type Subject struct {
	CommonName   string `json:"common_name,omitempty"`
	Organization string `json:"organization,omitempty"`
	Unit         string `json:"unit,omitempty"`
	Locality     string `json:"locality,omitempty"`
	State        string `json:"state,omitempty"`
	Country      string `json:"country,omitempty"`
	Email        string `json:"email,omitempty"` // ASCII (RFC 5280, 4.1.2.6)
}

// field is one attribute of a subject with its bound (RFC 5280, appendix A.1).
type field struct {
	short, value string
	bound        int
}

func (s Subject) fields() []field {
	return []field{
		{"C", s.Country, 2}, {"ST", s.State, 128}, {"L", s.Locality, 128},
		{"O", s.Organization, 64}, {"OU", s.Unit, 64}, {"CN", s.CommonName, 64}, {"emailAddress", s.Email, 255},
	}
}

// Plan is what a request must say.
type Plan struct {
	Subject Subject  `json:"subject" required:"true"`
	Names   []string `json:"names" required:"true"` // DNS names (A-labels) and IP addresses
	Key     KeyType  `json:"key" required:"true"`

	ClientUse bool `json:"client_use,omitempty"`
	SameKey   bool `json:"same_key,omitempty"`
	Weak      bool `json:"weak,omitempty"`

	Dropped  map[string]string `json:"dropped,omitempty"`
	LeftOut  map[string]string `json:"left_out,omitempty"`
	Cautions []string          `json:"cautions,omitempty"`
	Sources  map[string]string `json:"sources,omitempty"`
}

// maxNames bounds a request; signers refuse more than about a hundred.
const maxNames = 100

var (
	country = regexp.MustCompile(`^[A-Z]{2}$`)
	email   = regexp.MustCompile(`^[A-Za-z0-9.!#$%&'*+/=?^_{|}~-]+@[A-Za-z0-9.-]+$`)
)

// Complete brings a plan into its final form: names in A-labels and lower
// case, each once, the first one the common name if none is given.
func (p Plan) Complete() Plan {
	var names []string
	for _, name := range p.Names {
		name = PlainName(name)
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	p.Names = names
	if p.Subject.CommonName == "" && len(names) > 0 && len(names[0]) <= 64 {
		p.Subject.CommonName = names[0]
	}
	if p.Key == "" {
		p.Key = KeyTypes[0]
	}
	return p
}

// Check tells what is wrong with the plan itself, before a box is touched.
func (p Plan) Check() []finding.Finding {
	var found []finding.Finding
	bad := func(format string, args ...any) {
		found = append(found, finding.PlanInvalid.Found(format, args...))
	}
	if len(p.Names) == 0 {
		bad("the request has no name")
	}
	if len(p.Names) > maxNames {
		bad("the request has %d names, more than %d", len(p.Names), maxNames)
	}
	for _, name := range p.Names {
		if flaw := NameFlaw(name); flaw != "" {
			bad("%q is neither a DNS name nor an IP address: %s", name, flaw)
		}
	}
	switch {
	case slices.Contains(KeyTypes, p.Key), p.Key == RSA1024 && p.Weak:
	case p.Key == RSA1024:
		found = append(found, finding.WeakKey.Found("a key of %s is asked for", p.Key.Text()).
			WithRemedy("choose another; where the device can do no better, allow weak keys for it by a policy "+
				"of its own"))
	default:
		bad("no key type is called %q; the key types are %v", p.Key, KeyTypes)
	}
	return append(found, p.Subject.Check()...)
}

// Check finds what cannot stand in a subject (RFC 5280, appendix A.1).
func (s Subject) Check() []finding.Finding {
	var found []finding.Finding
	bad := func(format string, args ...any) {
		found = append(found, finding.PlanInvalid.Found(format, args...))
	}
	for _, f := range s.fields() {
		switch {
		case len([]rune(f.value)) > f.bound:
			bad("%s=%s is longer than %d characters", f.short, f.value, f.bound)
		case strings.ContainsFunc(f.value, isControl):
			bad("%s holds a control character", f.short)
		}
	}
	if c := s.Country; c != "" && !country.MatchString(c) {
		bad("the country %q is not two capital letters (ISO 3166)", c)
	}
	if s.Email != "" && !email.MatchString(s.Email) {
		bad("%q is not a mail address in ASCII", s.Email)
	}
	return found
}

func isControl(r rune) bool { return r < ' ' || r == 0x7f }

func (s Subject) String() string {
	var parts []string
	for _, f := range slices.Backward(s.fields()) {
		if f.value != "" {
			parts = append(parts, fmt.Sprintf("%s=%s", f.short, f.value))
		}
	}
	return strings.Join(parts, ", ")
}
