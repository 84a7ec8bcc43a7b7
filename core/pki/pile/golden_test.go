package pile_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"flag"
	"fmt"
	"html"
	"mime/quotedprintable"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"freshseal/core/pki/pile"
)

var (
	update = flag.Bool("update", false, "write the accounts in testdata/golden anew")
	remake = flag.Bool("make", false, "make the files that testdata/golden lacks, with openssl")
)

const golden = "testdata/golden"

// told writes an account as people read it.
func told(accounts []pile.Account) string {
	var b strings.Builder
	for _, a := range accounts {
		fmt.Fprintf(&b, "%s\n", a.Name)
		for _, item := range a.Holds {
			line := strings.Join(slices.DeleteFunc([]string{string(item.Kind), item.Subject, item.Note},
				func(s string) bool {
					return s == ""
				}), ": ")
			fmt.Fprintf(&b, "  %s\n", line)
		}
	}
	return b.String()
}

// What comes back from signers, as it came: each file of testdata/golden is
// named after what is odd about it, and has beside it the account that is given.
func TestTheGoldenPile(t *testing.T) {
	if *remake {
		makeGolden(t)
	}
	files, err := filepath.Glob(golden + "/*")
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, file := range files {
		if strings.HasSuffix(file, ".account") {
			continue
		}
		seen++
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		accounts, err := pile.Sort([]pile.File{{Name: filepath.Base(file), Content: content}},
			pile.Options{Passphrases: []string{"anchor chain"}})
		if err != nil {
			t.Fatalf("%s: %v", file, err)
		}
		got := told(accounts)
		if *update || *remake {
			if err := os.WriteFile(file+".account", []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(file + ".account")
		if err != nil || got != string(want) {
			t.Errorf("%s: %v\n%s\nwant\n%s", file, err, got, want)
		}
	}
	if seen < 60 {
		t.Errorf("only %d files are there", seen)
	}
}

// makeGolden makes the files; who wants another one adds a line here.
func makeGolden(t *testing.T) {
	_, root, request, _ := material(t)
	middle := root.Below(t, "Quay Issuing")
	leaf := middle.Leaf(t, "gate.tidewrack.example")
	low := middle.Leaf(t, "gate_1.tidewrack.example")
	dir := t.TempDir()
	in := func(name string, content []byte) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, content, 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	openssl := func(args ...string) []byte {
		out, err := exec.Command("openssl", args...).Output()
		if err != nil {
			t.Fatalf("openssl %v: %v", args, err)
		}
		return out
	}
	key, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
	if err != nil {
		t.Fatal(err)
	}
	l, m, r := leaf.PEM(), middle.PEM(), root.PEM()
	chain := slices.Concat(l, m, r)
	text := string(chain)
	keyPEM := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})
	leafFile, chainFile, keyFile := in("leaf.pem", l), in("chain.pem", slices.Concat(m, r)), in("key.pem", keyPEM)
	sec1 := openssl("ec", "-in", keyFile)
	rsa := in("rsa.pem", openssl("genrsa", "2048"))
	p7 := openssl("crl2pkcs7", "-nocrl", "-certfile", leafFile, "-certfile", chainFile, "-outform", "DER")
	signed := in("note.txt", []byte("signed"))
	p12 := func(more ...string) []byte {
		return openssl(append([]string{"pkcs12", "-export", "-in", leafFile, "-certfile", chainFile, "-inkey",
			keyFile, "-name", "gate"}, more...)...)
	}
	b64 := func(der []byte) string { return base64.StdEncoding.EncodeToString(der) }
	utf16le := func(s string) []byte {
		out := []byte{0xff, 0xfe}
		for _, u := range utf16.Encode([]rune(s)) {
			out = append(out, byte(u), byte(u>>8))
		}
		return out
	}
	lines := func(prefix string) string {
		return prefix + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n"+prefix) + "\n"
	}
	oneLine := func(p []byte) string { return strings.ReplaceAll(string(p), "\n", "") }
	zipped := func(files ...pile.File) []byte {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		for _, f := range files {
			part, err := w.Create(f.Name)
			if err != nil {
				t.Fatal(err)
			}
			part.Write(f.Content)
		}
		w.Close()
		return b.Bytes()
	}
	gzipped := func(content []byte) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Write(content)
		w.Close()
		return b.Bytes()
	}
	tarred := func(files ...pile.File) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, f := range files {
			if err := w.WriteHeader(&tar.Header{Name: f.Name, Size: int64(len(f.Content)), Mode: 0o644}); err != nil {
				t.Fatal(err)
			}
			w.Write(f.Content)
		}
		w.Close()
		return b.Bytes()
	}
	nested := zipped(pile.File{Name: "leaf.cer", Content: leaf.Raw})
	for range 9 {
		nested = zipped(pile.File{Name: "inner.zip", Content: nested})
	}
	mail := func(kind, encoding, body string) string {
		return "From: Harbour CA <desk@harbour.example>\r\nTo: keeper@tidewrack.example\r\nSubject: your " +
			"certificate\r\nMIME-Version: 1.0\r\nContent-Type: " + kind +
			"\r\nContent-Transfer-Encoding: " + encoding + "\r\n\r\n" + body
	}
	var qp bytes.Buffer
	w := quotedprintable.NewWriter(&qp)
	w.Write([]byte("Your certificate:\r\n" + string(l)))
	w.Close()
	attached := "--tide\r\nContent-Type: text/plain\r\n\r\nDear keeper, here it is. – " +
		"Harbour\r\n--tide\r\nContent-Type: application/octet-stream; " +
		"name=\"=?utf-8?q?zertifikat=2Ecer?=\"\r\nContent-Transfer-Encoding: base64\r\nContent-Disposition: " +
		"attachment\r\n\r\n" + b64(leaf.Raw) +
		"\r\n--tide\r\nContent-Type: application/x-pkcs7-certificates\r\nContent-Transfer-Encoding: " +
		"base64\r\nContent-Disposition: attachment; filename=chain.p7b\r\n\r\n" + b64(p7) + "\r\n--tide--\r\n"
	for name, content := range map[string][]byte{
		"pem-as-it-should-be":     chain,
		"pem-crlf":                []byte(strings.ReplaceAll(text, "\n", "\r\n")),
		"pem-cr-only":             []byte(strings.ReplaceAll(text, "\n", "\r")),
		"pem-bom":                 append([]byte("\xef\xbb\xbf"), chain...),
		"pem-utf16-with-bom":      utf16le(text),
		"pem-utf16-without-bom":   utf16le(text)[2:],
		"pem-no-line-end-between": []byte(strings.TrimSpace(string(l)) + string(m)),
		"pem-all-on-one-line":     []byte(oneLine(chain)),
		"pem-marks-and-one-line-of-base64": []byte("-----BEGIN CERTIFICATE-----\n" + b64(leaf.Raw) +
			"\n-----END CERTIFICATE-----\n"),
		"pem-blanks-at-line-ends": []byte(strings.ReplaceAll(text, "\n", "  \t\n")),
		"pem-indented":            []byte(lines("    ")),
		"pem-quoted-in-a-mail":    []byte("You wrote:\n" + lines("> ")),
		"pem-quoted-twice":        []byte(lines(">> ")),
		"pem-with-empty-lines":    []byte(strings.ReplaceAll(text, "\n", "\n\n")),
		"pem-with-text-around": []byte("Dear keeper,\nhere is your certificate:\n" + string(l) +
			"and the chain:\n" + string(m) + "Regards, the desk\n"),
		"pem-with-long-dashes": []byte(strings.ReplaceAll(text, "-----", "—–—")),
		"pem-json-escaped": []byte(`{"certificate":"` + strings.ReplaceAll(string(l), "\n", `\n`) +
			`"}`),
		"pem-html-line-breaks": []byte("<html><body><p>Your certificate</p><pre>" +
			strings.ReplaceAll(html.EscapeString(string(l)), "\n", "<br/>") + "</pre></body></html>"),
		"pem-html-entities": []byte("<p>" + strings.NewReplacer("+", "&#43;", "=", "&#61;", "/",
			"&#x2F;").Replace(string(l)) + "</p>"),
		"pem-no-break-spaces":        []byte(strings.ReplaceAll(string(l), "\n", "\u00a0\n")),
		"pem-zero-width-spaces":      []byte(strings.ReplaceAll(string(l), "\n", "\u200b\n")),
		"pem-x509-certificate-label": []byte(strings.ReplaceAll(string(l), "CERTIFICATE", "X509 CERTIFICATE")),
		"pem-trusted-certificate":    openssl("x509", "-in", leafFile, "-trustout", "-addtrust", "serverAuth"),
		"pem-openssl-text-before":    openssl("x509", "-in", leafFile, "-text"),
		"pem-bag-attributes": openssl("pkcs12", "-in",
			in("b.p12", p12("-passout", "pass:anchor chain")), "-nokeys", "-passin", "pass:anchor chain"),
		"pem-twice-the-same":    append(slices.Clone(l), l...),
		"pem-root-first":        slices.Concat(r, m, l),
		"pem-cut-at-the-end":    l[:len(l)-40],
		"pem-cut-in-the-middle": append(slices.Clone(l[:200]), m...),
		"pem-a-letter-lost":     []byte(strings.Replace(string(l), "M", "", 1)),
		"pem-padding-lost":      []byte(strings.ReplaceAll(string(root.PEM()), "=", "")),
		"pem-other-block": []byte("-----BEGIN PGP MESSAGE-----\naGVsbG8gd29ybGQ=\n-----END PGP " +
			"MESSAGE-----\n"),
		"pem-pkcs7-called-certificate": []byte("-----BEGIN CERTIFICATE-----\n" + b64(p7) +
			"\n-----END CERTIFICATE-----\n"),
		"pem-public-key":       openssl("pkey", "-in", keyFile, "-pubout"),
		"base64-without-marks": []byte(b64(leaf.Raw)),
		"base64-without-marks-lines-crlf": []byte(
			strings.ReplaceAll(strings.TrimSuffix(strings.TrimPrefix(string(l), "-----BEGIN CERTIFICATE-----\n"),
				"-----END CERTIFICATE-----\n"), "\n", "\r\n")),
		"base64url-without-marks": []byte(base64.RawURLEncoding.EncodeToString(leaf.Raw)),
		"der-leaf.cer":            leaf.Raw,
		"der-leaf-called-pem.pem": leaf.Raw,
		"der-two-after-another":   slices.Concat(leaf.Raw, middle.Raw),
		"der-line-end-behind":     append(slices.Clone(leaf.Raw), '\r', '\n'),
		"der-cut":                 leaf.Raw[:len(leaf.Raw)-10],
		"pkcs7-der.p7b":           p7,
		"pkcs7-pem": openssl("crl2pkcs7", "-nocrl", "-certfile", leafFile, "-certfile",
			chainFile),
		"pkcs7-with-a-signature": openssl("smime", "-sign", "-in", signed, "-signer", leafFile, "-inkey",
			keyFile, "-certfile", chainFile, "-outform", "DER", "-nodetach"),
		"pkcs7-streamed-ber": openssl("cms", "-sign", "-in", signed, "-signer", leafFile, "-inkey",
			keyFile, "-certfile", chainFile, "-outform", "DER", "-nodetach", "-stream"),
		"pkcs7-base64-without-marks":   []byte(b64(p7)),
		"pkcs12-with-passphrase.pfx":   p12("-passout", "pass:anchor chain"),
		"pkcs12-without-passphrase":    p12("-passout", "pass:"),
		"pkcs12-old-rc2-and-3des":      p12("-passout", "pass:anchor chain", "-legacy"),
		"pkcs12-aes-without-integrity": p12("-passout", "pass:anchor chain", "-nomac"),
		"pkcs12-other-passphrase":      p12("-passout", "pass:something else"),
		"pkcs12-only-certificates": openssl("pkcs12", "-export", "-nokeys", "-in", chainFile, "-passout",
			"pass:anchor chain"),
		"pkcs12-certificates-in-clear": openssl("pkcs12", "-export", "-nokeys", "-nomac", "-certpbe", "NONE",
			"-in", chainFile, "-passout", "pass:"),
		"pkcs12-old-rc2-128": p12("-passout", "pass:anchor chain", "-legacy", "-certpbe",
			"PBE-SHA1-RC2-128"),
		"odd-negative-serial.cer": middle.Odd(t, leaf.Raw, leaf.SerialNumber.Bytes(),
			append([]byte{leaf.SerialNumber.Bytes()[0] | 0x80}, leaf.SerialNumber.Bytes()[1:]...)),
		"odd-underscore-in-printable.cer": middle.Odd(t, low.Raw, append([]byte{0x0c, 24}, "gate_1"...),
			append([]byte{0x13, 24}, "gate_1"...)),
		"odd-version-4.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
			Bytes: middle.Odd(t, leaf.Raw, []byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 3})}),
		"key-pkcs8-locked-with-scrypt": openssl("pkcs8", "-topk8", "-in", keyFile, "-passout",
			"pass:anchor chain", "-scrypt"),
		"key-pkcs8-locked-as-in-pkcs12": openssl("pkcs8", "-topk8", "-in", keyFile, "-passout",
			"pass:anchor chain", "-v1", "PBE-SHA1-3DES"),
		"key-pkcs8":                keyPEM,
		"key-sec1-with-parameters": append(openssl("ecparam", "-name", "prime256v1"), sec1...),
		"key-pkcs1":                openssl("rsa", "-in", rsa, "-traditional"),
		"key-pkcs8-locked": openssl("pkcs8", "-topk8", "-in", keyFile, "-passout",
			"pass:anchor chain", "-v2", "aes-256-cbc"),
		"key-pkcs8-locked-other-passphrase": openssl("pkcs8", "-topk8", "-in", keyFile, "-passout",
			"pass:something else"),
		"key-older-locked-pem": openssl("rsa", "-in", rsa, "-traditional", "-aes128", "-passout",
			"pass:anchor chain"),
		"key-der":              key,
		"key-and-certificates": slices.Concat(keyPEM, chain),
		"request-pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST",
			Bytes: request}),
		"request-new-label": pem.EncodeToMemory(&pem.Block{Type: "NEW CERTIFICATE REQUEST",
			Bytes: request}),
		"request-der": request,
		"zip-as-a-portal-packs-it": zipped(pile.File{Name: "certs/gate.crt", Content: l},
			pile.File{Name: "certs/gate.ca-bundle", Content: slices.Concat(m, r)},
			pile.File{Name: "readme.txt", Content: []byte("install both\n")}),
		"zip-with-paths-that-climb": zipped(pile.File{Name: "../../../etc/passwd", Content: l},
			pile.File{Name: "C:\\windows\\x.cer", Content: leaf.Raw}),
		"zip-in-a-tar-in-a-gzip.tgz": gzipped(tarred(pile.File{Name: "inner.zip",
			Content: zipped(pile.File{Name: "a.p7b", Content: p7})})),
		"zip-ten-deep": nested,
		"zip-empty":    zipped(),
		"zip-cut":      zipped(pile.File{Name: "a", Content: l})[:100],
		"tar": tarred(pile.File{Name: "leaf.pem", Content: l},
			pile.File{Name: "chain.pem", Content: m}),
		"gzip":                      gzipped(l),
		"gzip-cut":                  gzipped(l)[:60],
		"mail-with-attachments.eml": []byte(mail("multipart/mixed; boundary=tide", "7bit", attached)),
		"mail-with-the-certificate-in-it.eml": []byte(mail("text/plain; charset=utf-8", "quoted-printable",
			qp.String())),
		"mail-without-anything.eml": []byte(mail("text/plain", "7bit", "It will come tomorrow.\r\n")),
		"picture.cer":               []byte("\x89PNG\r\n\x1a\n\x00\x00"),
		"document.pdf":              []byte("%PDF-1.4\n"),
		"text-without-anything.txt": []byte("The certificate will be sent in a separate mail.\n"),
		"bytes-without-sense":       {0, 1, 2, 3, 0xff, 0xfe, 9, 8},
		"empty":                     {},
	} {
		if err := os.MkdirAll(golden, 0o755); err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(golden, name)
		if _, err := os.Stat(file); err == nil {
			continue
		}
		if err := os.WriteFile(file, content, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
