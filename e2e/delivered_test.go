package e2e

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/standin"
)

// The certificate team made key and certificate elsewhere. With --key they are matched, the key is sealed, a box that
// is given its key gets both, and the key is forgotten; a box that makes its own key gets neither. Without the flag
// nothing is kept. Twice, as a PKCS #12 store and as files.
func TestAKeyThatWasMadeElsewhereIsDelivered(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0")
	s.login()
	h := newHarbour(t)
	s.ok("trust-group", "add", "fleet", h.at("root.pem"))
	given, own := kind(t, standin.Box{}), kind(t, standin.Box{})
	s.addKind("given.tidewrack.example", "web-files-given-ssh", given)
	s.addKind("own.tidewrack.example", "web-files-ssh", own)
	deliver := func(device string) (key, leaf string) {
		t.Helper()
		dir := t.TempDir()
		key = filepath.Join(dir, "delivered.key")
		must(t, "", "openssl", "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
			"-keyout", key, "-out", filepath.Join(dir, "csr"), "-subj", "/CN="+device, "-addext",
			"subjectAltName=DNS:"+device)
		return key, h.sign(filepath.Join(dir, "csr"))
	}
	for round := range 2 {
		s.ok("replace", "given.tidewrack.example/web", "--signer", "desk")
		id := s.newest("given.tidewrack.example")
		s.rests(id, "waiting")
		before := leafAt(t, given.TLSAddr)
		key, leaf := deliver("given.tidewrack.example")
		files := []string{key, leaf, h.at("sub.pem")}
		pass := write(t, filepath.Join(t.TempDir(), "pass"), "salt of the store\n")
		if round == 1 {
			store := filepath.Join(t.TempDir(), "delivered.p12")
			must(t, "", "openssl", "pkcs12", "-export", "-inkey", key, "-in", leaf, "-certfile", h.at("sub.pem"),
				"-out", store, "-passout", "pass:salt of the store")
			files = []string{store}
		}
		out := s.run("", append([]string{"intake", "--passphrase-file", pass}, files...)...)
		if out.code != 3 || !strings.Contains(out.stdout, "not kept") ||
			!bytes.Equal(leafAt(t, given.TLSAddr), before) {
			t.Fatalf("without --key:\n%s%s", out.stdout, out.stderr)
		}
		told := s.ok(append([]string{"intake", "--key", "--passphrase-file", pass}, files...)...)
		if !strings.Contains(told, "the private key for "+id+": it is sealed here") {
			t.Errorf("it does not say what became of the key:\n%s", told)
		}
		s.rests(id, "sealed")
		block, _ := pem.Decode([]byte(read(t, leaf)))
		if now := leafAt(t, given.TLSAddr); !bytes.Equal(now, block.Bytes) {
			t.Error("the box serves another certificate")
		}
		held, err := given.Holds("/etc/webui/tls")
		if err != nil {
			t.Fatal(err)
		}
		if !samePrivateKey(t, held["/etc/webui/tls/key.pem"], read(t, key)) {
			t.Error("the box has another key")
		}
		s.fails(1, "no key of "+id+" is kept here", "replacement", "key", id, "--reason",
			"to see whether it was forgotten", "--passphrase-file", pass, "--out", filepath.Join(t.TempDir(), "x.p12"))
		if shown := s.ok("replacement", "show", id); !strings.Contains(shown, "made elsewhere") {
			t.Errorf("the first request is not told as obsolete:\n%s", shown)
		}
		for _, file := range []string{"freshseal.db", "freshseal.db-wal"} {
			if content, err := os.ReadFile(filepath.Join(s.dir, file)); err == nil &&
				bytes.Contains(content, keyBytes(t, read(t, key))) {
				t.Errorf("the key is in clear in %s", file)
			}
		}
	}
	// A box that makes its own key takes none, and goes on waiting for an answer to its request.
	s.ok("replace", "own.tidewrack.example/web", "--signer", "desk")
	id := s.newest("own.tidewrack.example")
	s.rests(id, "waiting")
	key, leaf := deliver("own.tidewrack.example")
	s.fails(3, "make their key themselves", "intake", "--key", key, leaf, h.at("sub.pem"))
	s.rests(id, "waiting")
	// A key that fits no certificate, and one for names that nobody waits for, are not kept.
	key, _ = deliver("given.tidewrack.example")
	_, leaf = deliver("nobody.tidewrack.example")
	if out := s.run("", "intake", "--key", key, leaf); out.code != 3 || strings.Contains(out.stdout, "sealed here") {
		t.Errorf("a key that fits nothing:\n%s", out.stdout)
	}
}

// keyBytes are the secret part of a P-256 key in PEM.
func keyBytes(t *testing.T, text string) []byte {
	t.Helper()
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		t.Fatal("no key")
	}
	return block.Bytes[len(block.Bytes)-100 : len(block.Bytes)-70]
}

func samePrivateKey(t *testing.T, x, y string) bool {
	t.Helper()
	parse := func(text string) *ecdsa.PrivateKey {
		block, _ := pem.Decode([]byte(text))
		if block == nil {
			return nil
		}
		if key, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
			return key.(*ecdsa.PrivateKey)
		}
		key, _ := x509.ParseECPrivateKey(block.Bytes)
		return key
	}
	a, b := parse(x), parse(y)
	return a != nil && b != nil && a.Equal(b)
}

// A box that can take nothing else gets a self-signed certificate with the right names. It is reported as what it is,
// and not as the delivered default; where clients trusted what is served, a person has to accept it.
func TestASelfSignedCertificateIsReportedAsSuch(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0")
	s.login()
	given, own := kind(t, standin.Box{}), kind(t, standin.Box{})
	s.addKind("given.tidewrack.example", "web-files-given-ssh", given)
	s.addKind("own.tidewrack.example", "web-files-ssh", own)
	s.fails(1, "make it themselves and keep it", "replace", "own.tidewrack.example/web", "--signer", "own-key")
	s.ok("policy", "set", "device/given.tidewrack.example", "--max-lifetime", "200")
	for range 2 {
		s.ok("replace", "given.tidewrack.example/web", "--signer", "own-key", "--watch")
		leaf, err := x509.ParseCertificate(leafAt(t, given.TLSAddr))
		// it signs itself, and nothing else
		if err != nil || leaf.CheckSignatureFrom(leaf) == nil ||
			leaf.VerifyHostname("given.tidewrack.example") != nil || leaf.IsCA {
			t.Errorf("it serves %v, %v", leaf.Subject, err)
		}
		if days := int(leaf.NotAfter.Sub(leaf.NotBefore).Hours() / 24); days != 200 {
			t.Errorf("it is valid for %d days", days)
		}
		if shown := s.show("given.tidewrack.example/web"); shown.Condition != "flawed" ||
			shown.Findings[0].Code != "self-signed" {
			t.Errorf("%+v", shown)
		}
	}
	s.ok("replace", "given.tidewrack.example/web", "--signer", "bench", "--watch")
	s.ok("replace", "given.tidewrack.example/web", "--signer", "own-key")
	id := s.newest("given.tidewrack.example")
	s.atGate(id, "signer")
	s.ok("replacement", "accept", id, "--yes")
	s.rests(id, "sealed")
}
