package pile_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"html"
	mathrand "math/rand/v2"
	"slices"
	"strings"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/pkcs12"
	"freshseal/core/testkit"

	"github.com/digitorus/pkcs7"
)

// Whatever certificates are wrapped in, one thing in another and that in a third,
// just they come out again, each once and in no other number.
func TestWhateverTheyAreWrappedInTheSameCertificatesComeOut(t *testing.T) {
	const seed, pass = 20261123, "anchor chain"
	random := mathrand.New(mathrand.NewPCG(seed, 2))
	root := testkit.Root(t, "Quay Root")
	middle := root.Below(t, "Quay Issuing")
	all := []testkit.Signer{root, middle}
	for i := range 6 {
		all = append(all, middle.Leaf(t, fmt.Sprintf("box-%d.tidewrack.example", i)))
	}
	text := func(some []testkit.Signer) string {
		var b strings.Builder
		for _, s := range some {
			b.Write(s.PEM())
		}
		return b.String()
	}
	// How certificates become bytes.
	encodings := []func([]testkit.Signer) []byte{
		func(some []testkit.Signer) []byte { return []byte(text(some)) },
		func(some []testkit.Signer) []byte { return []byte(strings.ReplaceAll(text(some), "\n", "\r\n")) },
		func(some []testkit.Signer) []byte {
			return []byte("Dear keeper,\n> " + strings.ReplaceAll(text(some), "\n", "\n> ") + "\n")
		},
		func(some []testkit.Signer) []byte {
			return []byte("<html><pre>" + strings.ReplaceAll(html.EscapeString(text(some)), "\n", "<br>") +
				"</pre></html>")
		},
		func(some []testkit.Signer) []byte {
			var out []byte
			for _, s := range some {
				out = append(out, s.Raw...)
			}
			return out
		},
		func(some []testkit.Signer) []byte {
			var raw []byte
			for _, s := range some {
				raw = append(raw, s.Raw...)
			}
			der, err := pkcs7.DegenerateCertificate(raw)
			if err != nil {
				t.Fatal(err)
			}
			switch random.IntN(3) {
			case 0:
				return pem.EncodeToMemory(&pem.Block{Type: "PKCS7", Bytes: der})
			case 1:
				return []byte(base64.StdEncoding.EncodeToString(der))
			}
			return der
		},
		func(some []testkit.Signer) []byte {
			key, err := x509.MarshalPKCS8PrivateKey(some[0].Key)
			if err != nil {
				t.Fatal(err)
			}
			store := pkcs12.Store{Key: key, Old: random.IntN(2) == 0}
			for _, s := range some {
				store.Certificates = append(store.Certificates, s.Raw)
			}
			der, err := pkcs12.Write(rand.Reader, store, pass)
			if err != nil {
				t.Fatal(err)
			}
			return der
		},
	}
	// What such bytes are then put into.
	wrappings := []func(...[]byte) []byte{
		func(files ...[]byte) []byte {
			var b bytes.Buffer
			w := zip.NewWriter(&b)
			for i, content := range files {
				f, _ := w.Create(fmt.Sprintf("../answer(%d).cer", i))
				f.Write(content)
			}
			w.Close()
			return b.Bytes()
		},
		func(files ...[]byte) []byte {
			var b bytes.Buffer
			w := tar.NewWriter(&b)
			for i, content := range files {
				w.WriteHeader(&tar.Header{Name: fmt.Sprintf("%d", i), Size: int64(len(content)), Mode: 0o600})
				w.Write(content)
			}
			w.Close()
			return b.Bytes()
		},
		func(files ...[]byte) []byte {
			var b strings.Builder
			b.WriteString("From: desk@harbour.example\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; " +
				"boundary=tide\r\n\r\n")
			for i, content := range files {
				fmt.Fprintf(&b, "--tide\r\nContent-Type: application/octet-stream; "+
					"name=%d.bin\r\nContent-Transfer-Encoding: base64\r\n\r\n%s\r\n", i,
					base64.StdEncoding.EncodeToString(content))
			}
			return []byte(b.String() + "--tide--\r\n")
		},
	}
	packed := func(content []byte) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Write(content)
		w.Close()
		return b.Bytes()
	}
	for round := range 300 {
		var files [][]byte
		want := map[string]bool{}
		for range 1 + random.IntN(4) {
			some := slices.Clone(all)
			random.Shuffle(len(some), func(i, j int) { some[i], some[j] = some[j], some[i] })
			some = some[:1+random.IntN(len(some))]
			for _, s := range some {
				want[s.SHA256] = true
			}
			files = append(files, encodings[random.IntN(len(encodings))](some))
		}
		for range random.IntN(3) {
			files = [][]byte{wrappings[random.IntN(len(wrappings))](files...), []byte("as discussed\n")}
			if random.IntN(3) == 0 {
				files[0] = packed(files[0])
			}
		}
		var in []pile.File
		for _, content := range files {
			in = append(in, pile.File{Name: "file", Content: content})
		}
		accounts, err := pile.Sort(in, pile.Options{Passphrases: []string{pass}})
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		got := pile.Certificates(accounts)
		if missing := len(want) - len(got); missing != 0 ||
			slices.ContainsFunc(got, func(c *cert.Certificate) bool { return !want[c.SHA256] }) {
			t.Errorf("seed %d, round %d: %d went in and %d came out:\n%s", seed, round, len(want), len(got),
				told(accounts))
		}
	}
}
