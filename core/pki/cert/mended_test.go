package cert

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"net"
	"reflect"
	"testing"
	"time"
)

// Where both can read a certificate, the lenient reader says what the strict one says.
func TestTheLenientReaderAgreesWithTheStrictOne(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := x509.Certificate{
		Subject: pkix.Name{CommonName: "gate.tidewrack.example",
			Organization: []string{"Tidewrack Ferries", "Söhne"}, Country: []string{"XA"}},
		NotBefore:             time.Date(1999, 12, 31, 23, 59, 59, 0, time.UTC),
		NotAfter:              time.Date(2051, 1, 1, 0, 0, 0, 0, time.UTC),
		DNSNames:              []string{"gate.tidewrack.example", "*.tidewrack.example"},
		IPAddresses:           []net.IP{net.IPv4(192, 0, 2, 1).To4(), net.ParseIP("2001:db8::1")},
		KeyUsage:              x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, IsCA: true, MaxPathLen: 2, PermittedDNSDomains: []string{"tidewrack.example"},
		PermittedDNSDomainsCritical: true,
		CRLDistributionPoints:       []string{"http://ca.tidewrack.example/list"},
		OCSPServer:                  []string{"http://ocsp.tidewrack.example"},
		IssuingCertificateURL:       []string{"http://ca.tidewrack.example/root.cer"},
	}
	made, err := Issue(rand.Reader, template, key.Public(), nil, key)
	if err != nil {
		t.Fatal(err)
	}
	strict := made.X509()
	lenient, err := mended(made.Raw)
	if err != nil {
		t.Fatal(err)
	}
	for name, pair := range map[string][2]any{
		"subject": {strict.Subject.String(), lenient.Subject.String()},
		"issuer":  {strict.Issuer.String(), lenient.Issuer.String()},
		"serial":  {strict.SerialNumber, lenient.SerialNumber},
		"from":    {strict.NotBefore, lenient.NotBefore}, "to": {strict.NotAfter, lenient.NotAfter},
		"names": {strict.DNSNames, lenient.DNSNames}, "addresses": {strict.IPAddresses, lenient.IPAddresses},
		"usage": {strict.KeyUsage, lenient.KeyUsage}, "usages": {strict.ExtKeyUsage, lenient.ExtKeyUsage},
		"authority": {strict.IsCA, lenient.IsCA}, "length": {strict.MaxPathLen, lenient.MaxPathLen},
		"permitted": {strict.PermittedDNSDomains, lenient.PermittedDNSDomains},
		"lists":     {strict.CRLDistributionPoints, lenient.CRLDistributionPoints},
		"issuers":   {strict.IssuingCertificateURL, lenient.IssuingCertificateURL},
		"key id":    {strict.SubjectKeyId, lenient.SubjectKeyId}, "version": {strict.Version, lenient.Version},
		"key":       {strict.PublicKey, lenient.PublicKey},
		"algorithm": {strict.SignatureAlgorithm, lenient.SignatureAlgorithm},
		"unknown":   {len(strict.UnhandledCriticalExtensions), len(lenient.UnhandledCriticalExtensions)},
	} {
		if !reflect.DeepEqual(pair[0], pair[1]) {
			t.Errorf("%s: strictly %v, leniently %v", name, pair[0], pair[1])
		}
	}
	if !bytes.Equal(lenient.Raw, made.Raw) || !bytes.Equal(lenient.RawTBSCertificate, strict.RawTBSCertificate) ||
		!bytes.Equal(lenient.RawSubject, strict.RawSubject) || !bytes.Equal(lenient.Signature, strict.Signature) {
		t.Error("what is compared and checked is not the original")
	}
}
