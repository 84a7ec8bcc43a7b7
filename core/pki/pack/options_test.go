package pack_test

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/testkit"
)

// openssl reads everything that is written, in each of the forms that boxes
// want; where GnuTLS is installed, it must agree.
func TestOpensslReadsWhatIsWritten(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	lower := root.Below(t, "Quay Lower")
	leaf := lower.Leaf(t, "gate.tidewrack.example")
	path := chain.Complete(leaf.Certificate, chain.NewPool(lower.Certificate), chain.NewPool(root.Certificate),
		testkit.Now)
	const pass = "anchor chain"
	openssl := func(stdin []byte, args ...string) string {
		t.Helper()
		cmd := exec.Command("openssl", args...)
		cmd.Stdin = bytes.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("openssl %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	for _, each := range []struct {
		name  string
		form  pack.Form
		dress pack.Options
		read  []string // how openssl reads it
		want  int      // how many certificates it then prints
	}{
		{"plain", pack.LeafFirst, pack.Options{}, []string{"crl2pkcs7", "-nocrl", "-certfile", "/dev/stdin"}, 0},
		{"der", pack.Leaf, pack.Options{Encoding: pack.DER}, []string{"x509", "-inform", "DER"}, 1},
		{"p7", pack.LeafFirstWithRoot, pack.Options{Encoding: pack.PKCS7},
			[]string{"pkcs7", "-inform", "DER", "-print_certs"}, 3},
		{"p7 in armour", pack.LeafFirst, pack.Options{Encoding: pack.PKCS7PEM}, []string{"pkcs7", "-print_certs"}, 2},
		{"store", pack.LeafFirstWithRoot, pack.Options{Encoding: pack.PKCS12, Place: pack.KeyBefore,
			Passphrase: pass}, []string{"pkcs12", "-nodes", "-passin", "pass:" + pass}, 3},
		{"old store", pack.LeafFirst, pack.Options{Encoding: pack.PKCS12Old, Place: pack.KeyBefore, Passphrase: pass},
			[]string{"pkcs12", "-nodes", "-passin", "pass:" + pass}, 2},
		{"key before", pack.LeafFirst, pack.Options{Place: pack.KeyBefore, KeyForm: pack.SEC1},
			[]string{"pkey", "-noout", "-check"}, 0},
		{"key after, long lines", pack.Leaf, pack.Options{Place: pack.KeyAfter, LineLength: 76, Text: true},
			[]string{"x509"}, 1},
		{"windows, one line", pack.Leaf, pack.Options{CRLF: true, LineLength: -1}, []string{"x509"}, 1},
		{"locked key", pack.Leaf, pack.Options{Place: pack.KeyAlone, KeyForm: pack.PKCS8Locked, Passphrase: pass},
			[]string{"pkey", "-noout", "-check", "-passin", "pass:" + pass}, 0},
		{"older locked key", pack.Leaf, pack.Options{Place: pack.KeyAlone, KeyForm: pack.OlderLocked,
			Passphrase: pass}, []string{"ec", "-noout", "-check", "-passin", "pass:" + pass}, 0},
		{"key in der", pack.Leaf, pack.Options{Place: pack.KeyAlone, Encoding: pack.DER},
			[]string{"pkey", "-inform", "DER", "-noout", "-check"}, 0},
	} {
		written, err := pack.Write(each.form, each.dress, path, leaf.Key)
		if err != nil {
			t.Errorf("%s: %v", each.name, err)
			continue
		}
		if each.dress.CRLF != bytes.Contains(written, []byte("\r\n")) && each.dress.Encoding == "" {
			t.Errorf("%s: the line ends are not those wanted", each.name)
		}
		if out := openssl(written, each.read...); strings.Count(out, "BEGIN CERTIFICATE") != each.want {
			t.Errorf("%s: openssl prints\n%s", each.name, out)
		}
		// which GnuTLS does not read of elliptic curves
		if certtool, err := exec.LookPath("certtool"); err == nil && each.dress.KeyForm != pack.OlderLocked {
			file := filepath.Join(t.TempDir(), "written")
			if err := os.WriteFile(file, written, 0o600); err != nil {
				t.Fatal(err)
			}
			args := map[string][]string{"pkcs12": {"--p12-info"}, "pkcs12-old": {"--p12-info"},
				"pkcs7": {"--p7-info"}, "pkcs7-pem": {"--p7-info"}, "der": {"--certificate-info"},
				"": {"--certificate-info"}}[string(each.dress.Encoding)]
			if each.dress.Place == pack.KeyAlone {
				args = []string{"--key-info"}
			}
			if each.dress.Encoding != "" && each.dress.Encoding != pack.PKCS7PEM {
				args = append(args, "--inder")
			}
			if out, err := exec.CommandContext(t.Context(), certtool,
				append(args, "--infile", file, "--password", pass)...).CombinedOutput(); err != nil {
				t.Errorf("%s: GnuTLS says\n%s", each.name, out)
			}
		}
	}
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	for name, wrong := range map[string]func() error{
		"another key": func() error {
			_, err := pack.Write(pack.Leaf, pack.Options{Place: pack.KeyBefore}, path, rsaKey)
			return err
		},
		"no passphrase": func() error {
			_, err := pack.Write(pack.Leaf, pack.Options{Place: pack.KeyAlone, KeyForm: pack.PKCS8Locked}, path,
				leaf.Key)
			return ifNot(err, pack.ErrNoPassphrase)
		},
		"two in DER": func() error {
			_, err := pack.Write(pack.LeafFirst, pack.Options{Encoding: pack.DER}, path, nil)
			return err
		},
		"PKCS #1 of EC": func() error {
			_, err := pack.Write(pack.Leaf, pack.Options{Place: pack.KeyAlone, KeyForm: pack.PKCS1}, path, leaf.Key)
			return err
		},
	} {
		if wrong() == nil {
			t.Errorf("%s is written all the same", name)
		}
	}
}

func ifNot(err, want error) error {
	if !errors.Is(err, want) {
		return nil
	}
	return err
}
