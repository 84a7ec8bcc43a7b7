package pkcs12_test

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/core/pki/pkcs12"
	"freshseal/core/testkit"
)

const pass = "anchor chain"

// material writes a key, its leaf and the root into a folder, as openssl wants them.
func material(t *testing.T) (folder string, leaf testkit.Signer, root testkit.Signer, key []byte) {
	t.Helper()
	root = testkit.Root(t, "Quay Root")
	leaf = root.Leaf(t, "gate.tidewrack.example")
	key, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
	if err != nil {
		t.Fatal(err)
	}
	folder = t.TempDir()
	for name, content := range map[string][]byte{"leaf.pem": leaf.PEM(), "root.pem": root.PEM(), "key.der": key} {
		if err := os.WriteFile(filepath.Join(folder, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	openssl(t, folder, "pkey", "-inform", "DER", "-in", "key.der", "-out", "key.pem")
	return folder, leaf, root, key
}

func openssl(t *testing.T, folder string, args ...string) string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), "openssl", args...)
	cmd.Dir = folder
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("openssl %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

func TestWhatOpensslWritesIsRead(t *testing.T) {
	folder, leaf, root, key := material(t)
	for name, args := range map[string]string{
		"new": "-inkey key.pem -in leaf.pem -certfile root.pem -name gate -passout pass:" + pass,
		"old, RC2 with 40 bits": "-legacy -inkey key.pem -in leaf.pem -certfile root.pem -name gate " +
			"-passout pass:" + pass,
		"old, RC2 with 128 bits": "-legacy -certpbe PBE-SHA1-RC2-128 -inkey key.pem -in leaf.pem -certfile " +
			"root.pem -name gate -passout pass:" + pass,
		"old, 3DES": "-certpbe PBE-SHA1-3DES -keypbe PBE-SHA1-3DES -macalg sha1 -inkey key.pem " +
			"-in leaf.pem -certfile root.pem -name gate -passout pass:" + pass,
		"AES-128, SHA-512": "-certpbe AES-128-CBC -keypbe AES-128-CBC -macalg sha512 -inkey key.pem -in " +
			"leaf.pem -certfile root.pem -name gate -passout pass:" + pass,
		"certificates in clear": "-certpbe NONE -inkey key.pem -in leaf.pem -certfile root.pem -name gate " +
			"-passout pass:" + pass,
		"all in clear": "-certpbe NONE -keypbe NONE -nomac -inkey key.pem -in leaf.pem -certfile " +
			"root.pem -name gate -passout pass:",
		"without integrity": "-nomac -inkey key.pem -in leaf.pem -certfile root.pem -name gate " +
			"-passout pass:" + pass,
		"certificates alone":         "-nokeys -in leaf.pem -certfile root.pem -passout pass:" + pass,
		"certificates, no integrity": "-nokeys -nomac -certpbe NONE -in leaf.pem -certfile root.pem -passout pass:",
		"empty passphrase":           "-inkey key.pem -in leaf.pem -certfile root.pem -name gate -passout pass:",
	} {
		var words []string
		for word := range strings.FieldsSeq(strings.ReplaceAll(args, pass, "anchor_chain")) {
			words = append(words, strings.ReplaceAll(word, "anchor_chain", pass))
		}
		openssl(t, folder, append([]string{"pkcs12", "-export", "-out", "store.p12"}, words...)...)
		store, err := os.ReadFile(filepath.Join(folder, "store.p12"))
		if err != nil {
			t.Fatal(err)
		}
		passphrase := pass
		if strings.HasSuffix(args, "pass:") {
			passphrase = ""
		}
		for _, form := range [][]byte{store, berOf(store)} {
			bags, err := pkcs12.Read(form, passphrase, pkcs12.NewEffort())
			if err != nil {
				t.Errorf("%s: %v", name, err)
				continue
			}
			var certificates, keys int
			alias := ""
			for _, b := range bags {
				switch {
				case bytes.Equal(b.Certificate, leaf.Raw), bytes.Equal(b.Certificate, root.Raw):
					certificates++
				case bytes.Equal(b.Key, key):
					keys++
				default:
					t.Errorf("%s holds what was never put in", name)
				}
				alias += b.Alias
			}
			withKey := strings.Contains(args, "-inkey")
			if certificates != 2 || (keys == 1) != withKey || withKey && !strings.Contains(alias, "gate") {
				t.Errorf("%s gives %d certificates and %d keys, called %q", name, certificates, keys, alias)
			}
		}
		if strings.Contains(args, "nomac") && strings.Contains(args, "NONE") {
			continue // nothing is locked
		}
		if _, err := pkcs12.Read(store, "another", pkcs12.NewEffort()); !errors.Is(err, pkcs12.ErrPassphrase) {
			t.Errorf("%s, opened with another passphrase: %v", name, err)
		}
	}
}

func TestOpensslReadsWhatIsWrittenWithItsAlias(t *testing.T) {
	folder, leaf, root, key := material(t)
	for _, old := range []bool{false, true} {
		store, err := pkcs12.Write(rand.Reader, pkcs12.Store{Alias: "Gate, größer", Key: key,
			Certificates: [][]byte{leaf.Raw, root.Raw}, Old: old}, pass)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, "ours.p12"), store, 0o600); err != nil {
			t.Fatal(err)
		}
		out := openssl(t, folder, "pkcs12", "-in", "ours.p12", "-passin", "pass:"+pass, "-nodes", "-info")
		if strings.Count(out, "BEGIN CERTIFICATE") != 2 || strings.Count(out, "BEGIN PRIVATE KEY") != 1 ||
			strings.Count(out, "friendlyName: Gate, gr") != 2 ||
			strings.Contains(out, "PBES2") == old {
			t.Errorf("openssl says\n%s", out)
		}
		if certtool, err := exec.LookPath("certtool"); err == nil {
			cmd := exec.CommandContext(t.Context(), certtool, "--p12-info", "--inder", "--infile", "ours.p12",
				"--password", pass)
			cmd.Dir = folder
			if out, err := cmd.CombinedOutput(); err != nil || strings.Count(string(out), "BEGIN CERTIFICATE") != 2 {
				t.Errorf("GnuTLS says %v\n%s", err, out)
			}
		}
		bags, err := pkcs12.Read(store, pass, pkcs12.NewEffort())
		if err != nil || len(bags) != 3 || bags[0].Alias != "Gate, größer" || bags[1].Alias != "" ||
			!bytes.Equal(bags[2].Key, key) {
			t.Errorf("read back: %v, %d bags", err, len(bags))
		}
	}
}

// A lock within a lock that asks for endless rounds is seen through as well: the
// outer one is opened with the passphrase first.
func TestALockThatAsksForTooManyRoundsIsRefusedHoweverDeep(t *testing.T) {
	_, leaf, _, key := material(t)
	store, err := pkcs12.Write(rand.Reader, pkcs12.Store{Key: key, Certificates: [][]byte{leaf.Raw}}, pass)
	if err != nil {
		t.Fatal(err)
	}
	few := pkcs12.Effort(5000) // enough for two of its three derivations
	if _, err := pkcs12.Read(store, pass, &few); !errors.As(err, new(pkcs12.ErrRounds)) {
		t.Errorf("with an effort of 5000: %v", err)
	}
	many := bytes.Replace(store, []byte{2, 2, 8, 0}, []byte{2, 2, 127, 255}, 1) // 2048 becomes 32767
	for range 200 {
		if _, err = pkcs12.Read(many, pass, &few); errors.As(err, new(pkcs12.ErrRounds)) {
			return
		}
	}
	t.Errorf("effort is never used up: %v", err)
}

// berOf writes DER as browsers write it: no length told, strings in pieces.
func berOf(der []byte) []byte {
	var out []byte
	for len(der) > 0 {
		header, length := 2, int(der[1])
		if length > 0x80 {
			header, length = 2+length-0x80, 0
			for _, b := range der[2:header] {
				length = length<<8 | int(b)
			}
		}
		content := der[header : header+length]
		switch {
		case der[0]&0x20 != 0:
			out = append(append(append(out, der[0], 0x80), berOf(content)...), 0, 0)
		case (der[0] == 0x04 || der[0] == 0x80) && length > 100:
			out = append(out, der[0]&0xa4|0x20, 0x80)
			for len(content) > 0 {
				n := min(100, len(content))
				out = append(append(out, 0x04, byte(n)), content[:n]...)
				content = content[n:]
			}
			out = append(out, 0, 0)
		default:
			out = append(out, der[:header+length]...)
		}
		der = der[header+length:]
	}
	return out
}

func FuzzRead(f *testing.F) {
	f.Add([]byte{0x30, 0x80, 2, 1, 3, 0, 0})
	f.Fuzz(func(_ *testing.T, der []byte) {
		little := pkcs12.Effort(10_000)
		pkcs12.Read(der, pass, &little)
		pkcs12.OpenKey(der, pass, &little)
	})
}
