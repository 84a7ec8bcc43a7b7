package monitor

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/testkit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/wire"

	"golang.org/x/crypto/ocsp"
)

// authority publishes what it says of its certificates.
type authority struct {
	testkit.Signer
	url     string
	serial  *big.Int // of the certificate that its list has once that is revoked
	revoked atomic.Bool
	silent  atomic.Bool // the responder; the list is there
	asked   atomic.Int32
	listed  atomic.Int32
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{Signer: testkit.Root(t, "Quay Root", func(c *x509.Certificate) {
		c.KeyUsage |= x509.KeyUsageCRLSign
	})}
	issuer, err := x509.ParseCertificate(a.Raw)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/list" {
			a.listed.Add(1)
			l := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: testkit.Now.Add(-time.Hour),
				NextUpdate: testkit.Now.AddDate(0, 0, 7)}
			if a.revoked.Load() {
				l.RevokedCertificateEntries = []x509.RevocationListEntry{{SerialNumber: a.serial,
					RevocationTime: testkit.Now}}
			}
			der, _ := x509.CreateRevocationList(rand.Reader, l, issuer, a.Key)
			w.Write(der)
			return
		}
		a.asked.Add(1)
		if a.silent.Load() {
			http.Error(w, "later", http.StatusServiceUnavailable)
			return
		}
		question, _ := io.ReadAll(r.Body)
		about, err := ocsp.ParseRequest(question)
		if err != nil {
			t.Error(err)
			return
		}
		w.Write(a.says(t, about.SerialNumber, issuer))
	}))
	t.Cleanup(server.Close)
	a.url = server.URL
	return a
}

func (a *authority) says(t *testing.T, about *big.Int, issuer *x509.Certificate) []byte {
	t.Helper()
	said := ocsp.Response{Status: ocsp.Good, SerialNumber: about, ThisUpdate: testkit.Now.Add(-time.Hour),
		NextUpdate: testkit.Now.AddDate(0, 0, 7)}
	if a.revoked.Load() {
		said.Status, said.RevokedAt, said.RevocationReason = ocsp.Revoked, testkit.Now, ocsp.KeyCompromise
	}
	der, err := ocsp.CreateResponse(issuer, issuer, said, a.Key)
	if err != nil {
		t.Error(err)
	}
	return der
}

// box is a TLS server with these certificates, and the slot that it is read as.
func box(t *testing.T, s *Service, name string, certificates ...tls.Certificate) {
	t.Helper()
	server := httptest.NewUnstartedServer(http.NotFoundHandler())
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	server.TLS = &tls.Config{Certificates: certificates}
	server.StartTLS()
	t.Cleanup(server.Close)
	_, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	n, _ := strconv.Atoi(port)
	d := store.NewDevice{Device: store.Device{Name: name, Address: "127.0.0.1"}}
	d.Settings.V, d.Tags.V = map[string]string{}, []string{}
	d.Slots = []store.Slot{{Name: "web", Address: "127.0.0.1", Port: n, Protocol: "tls",
		ServerName: "gate.tidewrack.example"}}
	if err := s.store.Devices.(store.Devices).Add(t.Context(), []store.NewDevice{d}); err != nil {
		t.Fatal(err)
	}
}

func (s *Service) row(t *testing.T, device string) store.Slot {
	t.Helper()
	row, err := s.store.Slots.Get(t.Context(), device, "web")
	if err != nil {
		t.Fatal(err)
	}
	return row
}

func told(row store.Slot, code finding.Code) string {
	for _, f := range row.Findings.V {
		if f.Code == code {
			return f.What
		}
	}
	return ""
}

// Whoever signed a certificate may take it back: that is asked for if the policy wants it, of
// the responder first and then by the list, and not again before the answer grows old.
func TestARevokedCertificateIsFound(t *testing.T) {
	at := &clock{now: testkit.Now}
	s := room(t, at, nil)
	s.Ask(wire.Published{Guard: wire.Guard{Inside: true, Except: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}})
	a := newAuthority(t)
	leaf := a.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		c.OCSPServer, c.CRLDistributionPoints = []string{a.url + "/ocsp"},
			[]string{"ldap://dir.tidewrack.example/list", a.url + "/list"}
	})
	a.serial = leaf.SerialNumber
	if err := s.store.Chains.AddAnchors(t.Context(), Fleet, s.moment(), certificatesOf(a.Signer),
		store.Any); err != nil {
		t.Fatal(err)
	}
	box(t, s, "gate", tls.Certificate{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key})
	ask := func() store.Slot {
		t.Helper()
		if err := s.revocation.AskRevocation(t.Context()); err != nil {
			t.Fatal(err)
		}
		return s.row(t, "gate")
	}
	if _, err := s.ReadCloser(t.Context(), s.row(t, "gate")); err != nil {
		t.Fatal(err)
	}
	if ask(); a.asked.Load()+a.listed.Load() != 0 {
		t.Fatal("it was asked although no policy wants it")
	}
	yes := true
	if _, err := s.Rules.SetPolicy(t.Context(), contract.NewPolicy{Scope: Fleet, Rules: policy.Rules{Revocation: &yes}},
		problem.Any); err != nil {
		t.Fatal(err)
	}
	if row := ask(); row.Base != due.Fresh || a.asked.Load() != 1 || a.listed.Load() != 0 {
		t.Errorf("%s %v after %d questions", row.Base, row.Findings.V, a.asked.Load())
	}
	a.revoked.Store(true)
	if row := ask(); row.Base != due.Fresh || a.asked.Load() != 1 {
		t.Errorf("it was asked again at once")
	}
	at.pass(13 * time.Hour)
	if row := ask(); row.Base != due.Flawed || told(row, finding.Revoked) != "“gate.tidewrack.example” was revoked "+
		"on 2026-06-01 (keyCompromise); "+a.url+"/ocsp says so" {
		t.Errorf("%s %v", row.Base, row.Findings.V)
	}
	// The responder is down: the list says it too.
	a.silent.Store(true)
	at.pass(13 * time.Hour)
	if row := ask(); told(row, finding.Revoked) == "" || a.listed.Load() != 1 {
		t.Errorf("%v after %d lists", row.Findings.V, a.listed.Load())
	}
	// Both are gone: nobody knows, which is said, and is no error.
	s.Ask(wire.Published{Guard: wire.Guard{Inside: true}})
	at.pass(13 * time.Hour)
	if row := ask(); row.Base != due.Fresh || !strings.Contains(told(row, finding.RevocationUnknown),
		"not an address of the public Internet") {
		t.Errorf("%s %v", row.Base, row.Findings.V)
	}
}

func certificatesOf(signers ...testkit.Signer) (out []*cert.Certificate) {
	for _, s := range signers {
		out = append(out, s.Certificate)
	}
	return out
}

// A closer look shows the second certificate of a box, which is judged as the first, and the
// response that it staples.
func TestACloserLook(t *testing.T) {
	at := &clock{now: testkit.Now}
	s := room(t, at, nil)
	a := newAuthority(t)
	if err := s.store.Chains.AddAnchors(t.Context(), Fleet, s.moment(), certificatesOf(a.Signer),
		store.Any); err != nil {
		t.Fatal(err)
	}
	issuer, _ := x509.ParseCertificate(a.Raw)
	leaf := a.Leaf(t, "gate.tidewrack.example")
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(5),
		DNSNames: []string{"gate.tidewrack.example"}, NotBefore: testkit.Now.AddDate(-1, 0, 0),
		NotAfter:    testkit.Now.AddDate(0, 0, -3),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, issuer, &key.PublicKey, a.Key)
	if err != nil {
		t.Fatal(err)
	}
	staple := a.says(t, leaf.SerialNumber, issuer)
	box(t, s, "both", tls.Certificate{Certificate: [][]byte{leaf.Raw, a.Raw}, PrivateKey: leaf.Key,
		OCSPStaple: staple}, tls.Certificate{Certificate: [][]byte{der, a.Raw}, PrivateKey: key})
	a.revoked.Store(true)
	revoked := a.says(t, leaf.SerialNumber, issuer)
	box(t, s, "staples", tls.Certificate{Certificate: [][]byte{leaf.Raw, a.Raw}, PrivateKey: leaf.Key,
		OCSPStaple: revoked})
	box(t, s, "garbage", tls.Certificate{Certificate: [][]byte{leaf.Raw, a.Raw}, PrivateKey: leaf.Key,
		OCSPStaple: []byte("garbage")})
	for _, device := range []string{"both", "staples", "garbage"} {
		if _, err := s.ReadCloser(t.Context(), s.row(t, device)); err != nil {
			t.Fatal(err)
		}
	}
	both := s.row(t, "both")
	if both.Base != due.Flawed || both.Closer.V == nil || len(both.Closer.V.Second) != 2 ||
		both.Closer.V.Staple == nil || !strings.HasPrefix(told(both, finding.Expired), "second certificate "+
		"(RSA 2048): ") {
		t.Errorf("%s %+v %v", both.Base, both.Closer.V, both.Findings.V)
	}
	if row := s.row(t, "staples"); row.Base != due.Flawed || !strings.Contains(told(row, finding.Revoked),
		"staples says that the certificate was revoked on 2026-06-01") {
		t.Errorf("%s %v", row.Base, row.Findings.V)
	}
	if row := s.row(t, "garbage"); row.Base != due.Fresh || told(row, finding.StapleUnusable) == "" ||
		told(row, finding.SecondCertificate) != "" {
		t.Errorf("%s %v", row.Base, row.Findings.V)
	}
	// A usual reading, and a new judgement, leave what was found where it is; the next look comes in a day.
	if _, _, err := s.ReadAll(t.Context(), "", nil); err != nil {
		t.Fatal(err)
	}
	if err := s.rejudging.judgeAll(t.Context()); err != nil {
		t.Fatal(err)
	}
	again := s.row(t, "both")
	if again.Base != due.Flawed || told(again, finding.SecondCertificate) == "" ||
		!again.LookAt.Equal(both.LookAt.Time) || both.LookAt.Sub(testkit.Now) < 20*time.Hour {
		t.Errorf("%s %v, the next look at %s", again.Base, again.Findings.V, again.LookAt)
	}
	// The second certificate is that which a replacement installed: nothing strange is there.
	second := both.Closer.V.Second[0]
	if err := s.store.Slots.(store.Slots).SetInstalled(t.Context(), both.ID, second, "", s.moment()); err != nil {
		t.Fatal(err)
	}
	if err := s.rejudging.judgeAll(t.Context()); err != nil {
		t.Fatal(err)
	}
	if row := s.row(t, "both"); row.Base == due.Unexpected {
		t.Error("its own second certificate makes it unexpected")
	}
	// A round takes the closer look when its time has come.
	at.pass(48 * time.Hour)
	if _, _, err := s.ReadAll(context.Background(), "", nil); err != nil {
		t.Fatal(err)
	}
	if row := s.row(t, "both"); !row.LookAt.After(at.read()) || told(row, finding.SecondCertificate) == "" {
		t.Errorf("the next look is at %s: %v", row.LookAt, row.Findings.V)
	}
}

// A clock is told in words that do not change from one look to the next.
func TestAClockIsTold(t *testing.T) {
	a := newAuthority(t)
	leaf := a.Leaf(t, "gate.tidewrack.example")
	s := &judge.Snapshot{Anchors: chain.NewPool(a.Certificate), Authorities: chain.NewPool()}
	for ahead, want := range map[int]string{0: "", 299: "", 301: "its clock is 5 minutes ahead",
		-3601: "its clock is 60 minutes behind", -7200: "its clock is 2 hours behind",
		180 * 86400: "its clock is 180 days ahead"} {
		got := s.Judge(certificatesOf(leaf), judge.Slot{ServerName: "gate.tidewrack.example",
			Closer: &judge.Closer{Clock: true, Ahead: ahead}}, testkit.Now)
		i := slices.IndexFunc(got.Findings, func(f finding.Finding) bool { return f.Code == finding.ClockWrong })
		if i < 0 != (want == "") || i >= 0 && got.Findings[i].What != want {
			t.Errorf("%d: %v", ahead, got.Findings)
		}
	}
}
