package revocation_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"math/big"
	"runtime"
	"strings"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/revocation"
	"freshseal/core/testkit"

	"golang.org/x/crypto/ocsp"
)

func strict(t testing.TB, s testkit.Signer) *x509.Certificate {
	t.Helper()
	x, err := x509.ParseCertificate(s.Raw)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// response is an OCSP response; change alters it before it is signed.
func response(t testing.TB, about testkit.Signer, issuer *x509.Certificate, by testkit.Signer,
	change func(*ocsp.Response)) []byte {
	t.Helper()
	said := ocsp.Response{Status: ocsp.Good, SerialNumber: about.SerialNumber,
		ThisUpdate: testkit.Now.Add(-time.Hour), NextUpdate: testkit.Now.Add(time.Hour)}
	if signs := strict(t, by); !signs.Equal(issuer) {
		said.Certificate = signs
	}
	change(&said)
	der, err := ocsp.CreateResponse(issuer, strict(t, by), said, by.Key)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func TestAResponderIsBelievedOnlyWhereItMaySpeak(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	other := testkit.Root(t, "Other Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	another := root.Leaf(t, "mail.tidewrack.example")
	signs := func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning} }
	responder := root.Leaf(t, "Quay Responder", signs)
	past := root.Leaf(t, "Past Responder", signs, func(c *x509.Certificate) {
		c.NotBefore, c.NotAfter = testkit.Now.AddDate(-1, 0, 0), testkit.Now.AddDate(0, -1, 0)
	})
	stranger := other.Leaf(t, "Stranger", signs)
	same := func(*ocsp.Response) {}
	for about, c := range map[string]struct {
		der  []byte
		says string // its status, or a part of the error
	}{
		"good, by the issuer":  {response(t, leaf, strict(t, root), root, same), "good"},
		"good, by a responder": {response(t, leaf, strict(t, root), responder, same), "good"},
		"revoked": {response(t, leaf, strict(t, root), responder, func(r *ocsp.Response) {
			r.Status, r.RevokedAt, r.RevocationReason = ocsp.Revoked, testkit.Now, 1
		}), "revoked"},
		"not known": {response(t, leaf, strict(t, root), root, func(r *ocsp.Response) {
			r.Status = ocsp.Unknown
		}), "unknown"},
		"of a server's certificate":  {response(t, leaf, strict(t, root), another, same), "may not sign responses"},
		"of a responder from before": {response(t, leaf, strict(t, root), past, same), "has expired"},
		"of another authority's":     {response(t, leaf, strict(t, root), stranger, same), "cannot be used"},
		"of another authority":       {response(t, leaf, strict(t, other), other, same), "cannot be used"},
		"about another certificate":  {response(t, another, strict(t, root), root, same), "cannot be used"},
		"out of date": {response(t, leaf, strict(t, root), root, func(r *ocsp.Response) {
			r.NextUpdate = testkit.Now.Add(-time.Hour)
		}), "out of date"},
		"of tomorrow": {response(t, leaf, strict(t, root), root, func(r *ocsp.Response) {
			r.ThisUpdate = testkit.Now.Add(time.Hour)
		}), "still to come"},
		"try later": {ocsp.TryLaterErrorResponse, "cannot be used"},
		"nothing":   {nil, "cannot be used"},
		"endless":   {make([]byte, revocation.MaxResponse+1), "longer than"},
	} {
		got, err := revocation.Response(c.der, leaf.Certificate, root.Certificate, testkit.Now)
		if err != nil && !strings.Contains(err.Error(), c.says) || err == nil && string(got.Status) != c.says {
			t.Errorf("%s: %+v, %v; want %s", about, got, err, c.says)
		}
		if got.Status == revocation.Revoked && (got.Reason != "keyCompromise" || !got.At.Equal(testkit.Now)) {
			t.Errorf("%+v", got)
		}
	}
}

// list is a revocation list with these numbers.
func list(t testing.TB, by testkit.Signer, change func(*x509.RevocationList), revoked ...*big.Int) []byte {
	t.Helper()
	l := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: testkit.Now.Add(-time.Hour),
		NextUpdate: testkit.Now.Add(time.Hour)}
	for _, n := range revoked {
		l.RevokedCertificateEntries = append(l.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: n, RevocationTime: testkit.Now, ReasonCode: 4})
	}
	change(l)
	der, err := x509.CreateRevocationList(rand.Reader, l, strict(t, by), by.Key)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func TestAListIsBelievedOnlyWhereItSpeaksForTheCertificate(t *testing.T) {
	signsLists := func(c *x509.Certificate) { c.KeyUsage |= x509.KeyUsageCRLSign }
	root := testkit.Root(t, "Quay Root", signsLists)
	other := testkit.Root(t, "Other Root", signsLists)
	leaf := root.Leaf(t, "gate.tidewrack.example")
	with := func(id asn1.ObjectIdentifier, critical bool, value ...byte) func(*x509.RevocationList) {
		return func(l *x509.RevocationList) {
			l.ExtraExtensions = []pkix.Extension{{Id: id, Critical: critical, Value: value}}
		}
	}
	point := asn1.ObjectIdentifier{2, 5, 29, 28}
	same := func(*x509.RevocationList) {}
	for about, c := range map[string]struct {
		der  []byte
		says string
	}{
		"empty":       {list(t, root, same), "good"},
		"with it":     {list(t, root, same, big.NewInt(7), leaf.SerialNumber), "revoked"},
		"with others": {list(t, root, same, new(big.Int).Add(leaf.SerialNumber, big.NewInt(1))), "good"},
		"for servers": {list(t, root, with(point, true, 0x30, 3, 0x81, 1, 0xff), leaf.SerialNumber),
			"revoked"},
		"for some reasons":    {list(t, root, with(point, true, 0x30, 4, 0x83, 2, 0, 0x40)), "only some"},
		"of several issuers":  {list(t, root, with(point, true, 0x30, 3, 0x84, 1, 0xff)), "only some"},
		"with a broken point": {list(t, root, with(point, true, 0x30, 9)), "only some"},
		"a delta": {list(t, root, with(asn1.ObjectIdentifier{2, 5, 29, 27}, true, 2, 1, 1)),
			"critical extension"},
		"of another authority": {list(t, other, same, leaf.SerialNumber), "not signed by the issuer"},
		"out of date": {list(t, root, func(l *x509.RevocationList) {
			l.ThisUpdate, l.NextUpdate = testkit.Now.Add(-2*time.Hour), testkit.Now.Add(-time.Hour)
		}), "out of date"},
		"no list": {[]byte("<html>"), "cannot be read"},
	} {
		l, err := revocation.ReadList(c.der, root.Certificate, testkit.Now, leaf.Certificate)
		if err != nil {
			if !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v; want %s", about, err, c.says)
			}
			continue
		}
		if got := l.Of(leaf.Certificate); string(got.Status) != c.says {
			t.Errorf("%s: %+v; want %s", about, got, c.says)
		}
		if got := l.Of(other.Leaf(t, "gate.tidewrack.example").Certificate); got.Status != revocation.Unknown {
			t.Errorf("%s: a stranger's certificate is %s", about, got.Status)
		}
	}
}

func FuzzResponse(f *testing.F) {
	root := testkit.Root(f, "Quay Root")
	leaf := root.Leaf(f, "gate.tidewrack.example")
	f.Add(response(f, leaf, strict(f, root), root, func(*ocsp.Response) {}))
	f.Add(ocsp.TryLaterErrorResponse)
	f.Fuzz(func(t *testing.T, der []byte) {
		if a, err := revocation.Response(der, leaf.Certificate, root.Certificate, testkit.Now); err == nil &&
			a.Status != revocation.Good {
			t.Errorf("the authority said good, and what was made of it says %+v", a)
		}
	})
}

func FuzzList(f *testing.F) {
	root := testkit.Root(f, "Quay Root", func(c *x509.Certificate) { c.KeyUsage |= x509.KeyUsageCRLSign })
	f.Add(list(f, root, func(*x509.RevocationList) {}, big.NewInt(5)))
	f.Fuzz(func(t *testing.T, der []byte) {
		if l, err := revocation.ReadList(der, root.Certificate, testkit.Now, root.Certificate); err == nil {
			l.Of(root.Certificate)
		}
	})
}

// A list of the most entries leaves nothing in memory but those that were asked about.
func TestALargeListTakesNoMemory(t *testing.T) {
	root := testkit.Root(t, "Quay Root", func(c *x509.Certificate) { c.KeyUsage |= x509.KeyUsageCRLSign })
	leaf, other := root.Leaf(t, "gate.tidewrack.example"), root.Leaf(t, "mail.tidewrack.example")
	numbers := make([]*big.Int, 200_000)
	for i := range numbers {
		numbers[i] = big.NewInt(int64(i) + 1<<40)
	}
	der := list(t, root, func(*x509.RevocationList) {}, append(numbers, leaf.SerialNumber)...)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	l, err := revocation.ReadList(der, root.Certificate, testkit.Now, leaf.Certificate, other.Certificate)
	runtime.ReadMemStats(&after)
	if err != nil || l.Of(leaf.Certificate).Status != revocation.Revoked ||
		l.Of(other.Certificate).Status != revocation.Good {
		t.Fatalf("%v: %+v, %+v", err, l.Of(leaf.Certificate), l.Of(other.Certificate))
	}
	if used := after.TotalAlloc - before.TotalAlloc; used > 1<<20 {
		t.Errorf("a list of %d bytes took %d", len(der), used)
	}
	if got := l.Of(root.Leaf(t, "nobody").Certificate); got.Status != revocation.Unknown {
		t.Errorf("one that was not asked about is %s", got.Status)
	}
}

// A responder whose key would take seconds to check with is not believed.
func TestAResponderWithAnEndlessKey(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	modulus := new(big.Int).SetBit(big.NewInt(1), 240_000, 1)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(7),
		NotBefore: testkit.Now.AddDate(0, -1, 0), NotAfter: testkit.Now.AddDate(1, 0, 0),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning}}, strict(t, root),
		&rsa.PublicKey{N: modulus, E: 65537}, root.Key)
	if err != nil {
		t.Fatal(err)
	}
	endless, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	said := response(t, leaf, strict(t, root), root, func(r *ocsp.Response) { r.Certificate = endless })
	if _, err := revocation.Response(said, leaf.Certificate, root.Certificate, testkit.Now); !errors.Is(err,
		cert.ErrUnbounded) {
		t.Errorf("%v", err)
	}
}
