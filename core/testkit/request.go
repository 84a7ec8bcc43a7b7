package testkit

import (
	"crypto/rand"
	"crypto/x509"
	"testing"

	"freshseal/core/pki/request"
)

// Request makes a request of a template, with a key of its own.
func Request(t testing.TB, template x509.CertificateRequest) request.Request {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader, &template, NewKey(t))
	if err != nil {
		t.Fatal(err)
	}
	r, err := request.Parse(der)
	if err != nil {
		t.Fatal(err)
	}
	return r
}
