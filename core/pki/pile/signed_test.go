package pile_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"freshseal/core/pki/pile"
	"freshseal/core/testkit"
)

// PKCS #7 in BER with lengths that are not told beforehand, as other programs
// write it while they stream.
func TestSignedDataInBER(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not here")
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	run := func(args ...string) {
		t.Helper()
		if out, err := exec.Command("openssl", args...).CombinedOutput(); err != nil {
			t.Fatalf("openssl %v: %v\n%s", args, err, out)
		}
	}
	run("req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", at("key"),
		"-out", at("cert"), "-days", "9", "-subj", "/CN=gate.tidewrack.example")
	root := testkit.Root(t, "Tidewrack Root")
	if err := os.WriteFile(at("more"), root.PEM(), 0o600); err != nil {
		t.Fatal(err)
	}
	run("cms", "-sign", "-stream", "-nodetach", "-binary", "-in", at("key"), "-signer", at("cert"), "-inkey",
		at("key"), "-certfile", at("more"), "-outform", "DER", "-out", at("ber"))
	content, err := os.ReadFile(at("ber"))
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.HasPrefix(content, []byte{0x30, 0x80}) {
		t.Fatalf("openssl wrote no BER: %x", content[:4])
	}
	for about, c := range map[string]struct {
		content []byte
		kinds   int
	}{"whole": {content, 2}, "cut": {content[:len(content)/2], 0}} {
		accounts, err := pile.Sort([]pile.File{{Name: "a.p7m", Content: c.content}}, pile.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if found := pile.Certificates(accounts); len(found) != c.kinds {
			t.Errorf("%s: %d certificates: %s", about, len(found), told(accounts))
		}
	}
}

// Nested without end, it does not overflow the stack, and the test ends.
func TestDeepNestsAreRefused(t *testing.T) {
	for _, unit := range [][]byte{{0x30, 0x80}, {0x24, 0x80}, {0x30, 0x84, 0, 1, 0, 0}} {
		accounts, err := pile.Sort([]pile.File{{Name: "deep", Content: bytes.Repeat(unit, 2<<20/len(unit))}},
			pile.Options{})
		if err != nil || len(pile.Certificates(accounts)) > 0 {
			t.Errorf("%x: %v", unit, err)
		}
	}
}
