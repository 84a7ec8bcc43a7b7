package e2e

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
)

// tiered is an authority of some tiers: the root, and below it what signs, each by the one before.
type tiered struct {
	certificates []*x509.Certificate
	keys         []*ecdsa.PrivateKey
}

func newTiered(t *testing.T, tiers int) *tiered {
	t.Helper()
	a := &tiered{}
	for i := range tiers {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(int64(10*tiers + i + 1)),
			Subject: pkix.Name{Organization: []string{"Tidewrack Ferries"},
				CommonName: fmt.Sprintf("Authority of %d tiers, tier %d", tiers, i+1)},
			NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(5, 0, 0), IsCA: true,
			BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
		above, by := template, key
		if i > 0 {
			above, by = a.certificates[i-1], a.keys[i-1]
		}
		a.certificates, a.keys = append(a.certificates, a.issue(t, template, above, key.Public(), by)),
			append(a.keys, key)
	}
	return a
}

// root writes the root into a file of its own.
func (a *tiered) root(t *testing.T) string {
	t.Helper()
	return write(t, filepath.Join(t.TempDir(), "root.pem"),
		string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.certificates[0].Raw})))
}

func (a *tiered) issue(t *testing.T, template, above *x509.Certificate, public any,
	by *ecdsa.PrivateKey) *x509.Certificate {
	t.Helper()
	der, err := x509.CreateCertificate(rand.Reader, template, above, public, by)
	if err != nil {
		t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// answer signs a request (PEM), and returns what comes back in one file: the leaf, the intermediates in the wrong
// order, and the root where it is given. changes alter the leaf.
func (a *tiered) answer(t *testing.T, request string, root bool, changes ...func(*x509.Certificate)) string {
	t.Helper()
	block, _ := pem.Decode([]byte(request))
	if block == nil {
		t.Fatalf("no request: %s", request)
	}
	csr, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		t.Fatal(err)
	}
	last := len(a.keys) - 1
	template := &x509.Certificate{SerialNumber: serial, Subject: csr.Subject, DNSNames: csr.DNSNames,
		IPAddresses: csr.IPAddresses, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 0, 90),
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	for _, change := range changes {
		change(template)
	}
	leaf := a.issue(t, template, a.certificates[last], csr.PublicKey, a.keys[last])
	from := 1
	if root {
		from = 0
	}
	var text []byte
	for _, c := range append(append([]*x509.Certificate{}, a.certificates[from:]...), leaf) {
		text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	return write(t, filepath.Join(t.TempDir(), "answer.pem"), string(text))
}

// Every family is sealed with an authority of one, two and three tiers, whether the answer holds the root or not, and
// whether it comes whole, in parts or with the leaf last: the roots are on file. An authority
// that signs straight from its root has no intermediates, and no box is given an empty one. Without
// FRESHSEAL_KINDS=all each family meets one of the six.
func TestChainsOfEveryLength(t *testing.T) {
	t.Parallel()
	names := []string{}
	all := append(renewals(), oneWays()[2]) // the board; hosts are given what their manager signs
	for _, r := range all {
		names = append(names, r.family)
	}
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, names...))
	s.login()
	authorities := map[int]*tiered{}
	for tiers := 1; tiers <= 3; tiers++ {
		authorities[tiers] = newTiered(t, tiers)
		s.ok("trust-group", "add", "fleet", authorities[tiers].root(t))
	}
	for i, r := range all {
		for cell := range 6 {
			if !everything && (i%2 > 0 || cell != i/2%6) {
				continue
			}
			tiers, root := cell%3+1, cell >= 3
			t.Run(fmt.Sprintf("%s, %d tiers, root %v", r.family, tiers, root), func(t *testing.T) {
				t.Parallel()
				s := *s
				s.t = t
				name := fmt.Sprintf("%s-%d.saltmere.tidewrack.example", r.family, cell)
				box, add := r.start(t, standin.Box{Kind: r.kind, Restart: 150 * time.Millisecond, System: name})
				add(&s, name, "quick-"+r.family)
				slot := name + "/" + slotOfKind(r.kind)
				s.ok(append([]string{"replace", slot, "--signer", "desk"}, r.agree...)...)
				id := s.newest(name)
				s.rests(id, "waiting")
				var asked struct{ Request struct{ PEM string } }
				s.json(&asked, "replacement", "show", id)
				for _, part := range arrivals(t, authorities[tiers].answer(t, asked.Request.PEM, root), i%3) {
					for range 100 { // two piles at a time are taken in
						out := s.run("", "intake", part)
						if out.code == 0 || out.code == 3 {
							break
						} else if !strings.Contains(out.stderr, "being taken in") {
							t.Fatal(out.stderr)
						}
						time.Sleep(100 * time.Millisecond)
					}
				}
				s.rests(id, "sealed")
				now := r.serves(t, box)
				if leaf, err := x509.ParseCertificate(now); err != nil ||
					leaf.Issuer.CommonName != authorities[tiers].certificates[tiers-1].Subject.CommonName {
					t.Errorf("it serves %v, %v", leaf.Issuer, err)
				}
			})
		}
	}
}

// arrivals are the files in which an answer comes: whole; the leaf alone, and the rest when somebody asks for it; or
// the rest before the leaf.
func arrivals(t *testing.T, whole string, how int) []string {
	t.Helper()
	text := read(t, whole)
	at := strings.LastIndex(text, "-----BEGIN CERTIFICATE-----")
	leaf, rest := write(t, filepath.Join(t.TempDir(), "leaf.pem"), text[at:]),
		write(t, filepath.Join(t.TempDir(), "rest.pem"), text[:at])
	switch {
	case how == 0 || at == 0:
		return []string{whole}
	case how == 1:
		return []string{leaf, rest}
	}
	return []string{rest, leaf}
}

// Roots can be had: each that is known, in the forms that clients take, and the chain of a slot. A group of clients
// takes one that is known already, and no leaf.
func TestRootsCanBeHad(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0")
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	a := newTiered(t, 2)
	root := a.certificates[0]
	encoded := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.Raw})
	s.ok("trust-group", "add", "fleet", write(t, filepath.Join(t.TempDir(), "root.pem"), string(encoded)))
	s.ok("replace", name+"/web", "--signer", "desk")
	s.rests("r1", "waiting")
	var asked struct{ Request struct{ PEM string } }
	s.json(&asked, "replacement", "show", "r1")
	s.ok("intake", a.answer(t, asked.Request.PEM, true))
	s.rests("r1", "sealed")

	sum := sha256.Sum256(root.Raw)
	id, der := hex.EncodeToString(sum[:]), filepath.Join(t.TempDir(), "root.cer")
	for range 2 { // the second time the file is there already
		out := s.run("", "authority", "export", id, "--form", "der", "--out", der)
		if content, err := os.ReadFile(der); err != nil || !bytes.Equal(content, root.Raw) {
			t.Fatalf("%v: %s", err, out.stderr)
		}
	}
	if s.ok("slot", "chain", name+"/web", "--form", "root", "--out", "-") != string(encoded) {
		t.Error("the root of the chain is another one")
	}
	whole := filepath.Join(t.TempDir(), "chain.pem")
	s.ok("slot", "chain", name+"/web", "--out", whole)
	if n := strings.Count(read(t, whole), "BEGIN CERTIFICATE"); n != 3 {
		t.Errorf("the chain has %d certificates", n)
	}
	s.fails(1, "DER holds one thing", "slot", "chain", name+"/web", "--encoding", "der", "--out",
		filepath.Join(t.TempDir(), "x"))
	s.ok("trust-group", "add", "workstations", "--from-authority", id)
	if shown := s.ok("trust-group", "show", "workstations"); !strings.Contains(shown, "tier 1") {
		t.Error(shown)
	}
	leaf := s.show(name + "/web").Certificate.SHA256
	s.fails(1, "is neither a root nor an intermediate", "trust-group", "add", "workstations", "--from-authority", leaf)
	s.fails(1, "is known", "authority", "export", strings.Repeat("0", 64), "--out", filepath.Join(t.TempDir(), "y"))
	s.fails(2, "stands beside", "trust-group", "add", "workstations", der, "--from-authority", id)
}

// A slot is judged by the clients that use it: with the command that the finding names, they trust it.
func TestASlotIsJudgedByTheClientsThatUseIt(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0")
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch") // which the fleet trusts
	s.ok("trust-group", "add", "tills", newTiered(t, 1).root(t))
	s.fails(1, `no trust group is called "till"`, "slot", "edit", name+"/web", "--trust-group", "till")
	for range 2 {
		s.ok("slot", "edit", name+"/web", "--trust-group", "tills")
		shown := s.ok("slot", "show", name+"/web")
		_, command, found := strings.Cut(shown, "freshseal trust-group add tills --from-authority ")
		if s.show(name+"/web").Condition != "flawed" || !found {
			t.Fatalf("it is not judged by the tills:\n%s", shown)
		}
		root, _, _ := strings.Cut(command, "\n")
		s.ok("trust-group", "add", "tills", "--from-authority", strings.TrimSpace(root))
		if now := s.show(name + "/web").Condition; now != "fresh" {
			t.Errorf("it is %s once they trust it", now)
		}
		s.ok("trust-group", "remove", "tills", strings.TrimSpace(root))
		s.ok("slot", "edit", name+"/web", "--trust-group", "fleet")
		if now := s.show(name + "/web").Condition; now != "fresh" {
			t.Errorf("it is %s for the fleet", now)
		}
	}
}
