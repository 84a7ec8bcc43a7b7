package parts

import (
	"bufio"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/standin"
)

// Answered returns the subject that answers to a form's questions make; what was left empty is left out.
func Answered(answers map[string]string) pkix.Name {
	out := pkix.Name{CommonName: answers["Common name"]}
	for question, to := range map[string]*[]string{"Organization": &out.Organization, "Unit": &out.OrganizationalUnit,
		"Locality": &out.Locality, "State": &out.Province, "Country": &out.Country} {
		if answers[question] != "" {
			*to = []string{answers[question]}
		}
	}
	out.ExtraNames = mailed(answers["E-mail"])
	return out
}

// NewRequest makes a key and a request (RFC 2986), both as PEM.
func NewRequest(kind string, subject pkix.Name, names, addresses []string) (request, key []byte, err error) {
	var made crypto.Signer
	if kind == "ec" {
		made, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	} else {
		made, err = rsa.GenerateKey(rand.Reader, 2048)
	}
	if err != nil {
		return nil, nil, err
	}
	wanted := x509.CertificateRequest{Subject: subject, DNSNames: names}
	for _, a := range addresses {
		ip := net.ParseIP(a)
		if ip == nil {
			return nil, nil, errors.New(a + " is no address")
		}
		wanted.IPAddresses = append(wanted.IPAddresses, ip)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &wanted, made)
	if err != nil {
		return nil, nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(made)
	return standin.PemOf("CERTIFICATE REQUEST", der), standin.PemOf("PRIVATE KEY", pkcs8), err
}

// mailed returns what a subject has beside its usual fields where a form asks for a mail address.
func mailed(address string) []pkix.AttributeTypeAndValue {
	if address == "" {
		return nil
	}
	return []pkix.AttributeTypeAndValue{cert.EmailAttribute(address)}
}

// Requested returns the subject and the names that lines such as "name = gate" ask for.
func Requested(lines io.Reader) (subject pkix.Name, names []string) {
	for s := bufio.NewScanner(lines); s.Scan(); {
		switch key, value, _ := strings.Cut(s.Text(), "="); strings.TrimSpace(key) {
		case "common name":
			subject.CommonName = strings.TrimSpace(value)
		case "organization":
			subject.Organization = standin.Some(strings.TrimSpace(value))
		case "names":
			names = strings.Split(value, ",")
		}
	}
	return subject, names
}

// Unlocked returns a private key without its passphrase, PEM.
func Unlocked(key, passphrase []byte) ([]byte, error) {
	accounts, err := pile.Sort([]pile.File{{Name: "key", Content: key}},
		pile.Options{Passphrases: []string{string(passphrase)}})
	if err != nil {
		return nil, err
	}
	for _, opened := range pile.Keys(accounts) {
		return PemOfKey(opened)
	}
	return nil, errors.New("the key cannot be opened")
}

// PemOfKey returns a private key, PKCS #8 in PEM.
func PemOfKey(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return standin.PemOf("PRIVATE KEY", der), err
}

// Asked is what a request in JSON asks for.
type Asked struct {
	CommonName, Organization, Unit, Locality, State, Country, Email, Key string
	Names                                                                []string
}

// Subject returns the subject that is asked for.
func (a Asked) Subject() pkix.Name {
	return pkix.Name{CommonName: a.CommonName, Organization: standin.Some(a.Organization),
		OrganizationalUnit: standin.Some(a.Unit),
		Locality:           standin.Some(a.Locality), Province: standin.Some(a.State), Country: standin.Some(a.Country),
		ExtraNames: mailed(a.Email)}
}

// AnswerRequest makes a key, which is kept in a file, and answers with the request for it.
func AnswerRequest(r *standin.Running, w http.ResponseWriter, a Asked, keyFile string) {
	_, err := r.NextRequest(a.Subject(), a.Names, a.Key)
	if err != nil {
		standin.RefuseJSON(w, err)
		return
	}
	text, _ := r.Root.ReadFile(standin.Inside(standin.NextRequest)) // just made
	key, _ := r.Root.ReadFile(standin.Inside(standin.AskedKey))
	if err := r.Lay(map[string][]byte{keyFile: key}); err != nil {
		standin.RefuseJSON(w, err)
		return
	}
	standin.WriteJSON(w, http.StatusCreated, map[string]string{"request": string(text)})
}

// InForm returns what a request in a form asks for: its fields have the names of commonName, organization, unit,
// locality, state and country.
func InForm(call *http.Request, commonName, organization, unit, locality, state, country string) pkix.Name {
	return Asked{CommonName: call.FormValue(commonName), Organization: call.FormValue(organization),
		Unit: call.FormValue(unit), Locality: call.FormValue(locality), State: call.FormValue(state),
		Country: call.FormValue(country)}.Subject()
}
