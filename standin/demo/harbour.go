package demo

import (
	"archive/zip"
	"bytes"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/standin"
)

// Harbour is the Harbour Authority, a public signer of the made-up world: a root that all clients trust, an
// intermediate for certificates that were ordered, and one for those on trial, which last a month.
type Harbour struct{ root, issuing, trial *standin.Authority }

// OpenHarbour opens the Harbour Authority of a demo, or makes it. dir is the folder of the demo's boxes.
func OpenHarbour(dir string, random io.Reader, now time.Time) (*Harbour, error) {
	file := filepath.Join(dir, "harbour.pem")
	text, err := os.ReadFile(file)
	if err == nil {
		return parseHarbour(text)
	}
	if !errors.Is(err, fs.ErrNotExist) || random == nil {
		return nil, err
	}
	h := &Harbour{}
	for _, each := range []struct {
		to    **standin.Authority
		name  string
		above **standin.Authority
	}{{&h.root, "Harbour Root", nil}, {&h.issuing, "Harbour Server Authority", &h.root},
		{&h.trial, "Harbour Trial Authority", &h.root}} {
		var above *standin.Authority
		if each.above != nil {
			above = *each.above
		}
		key, err := standin.NewKey(random)
		if err != nil {
			return nil, err
		}
		c, err := standin.Issue(standin.Wanted{Subject: pkix.Name{Organization: []string{"Harbour Authority"},
			CommonName: each.name},
			Begins: -3 * 365 * standin.Day, Ends: 6 * 365 * standin.Day, IsAuthority: true}, above, key, random, now)
		if err != nil {
			return nil, err
		}
		*each.to = &standin.Authority{Certificate: c, Key: key}
	}
	content := append(append(h.root.WithKey(), h.issuing.WithKey()...), h.trial.WithKey()...)
	if err := os.WriteFile(file+".part", content, 0o600); err != nil {
		return nil, err
	}
	return h, os.Rename(file+".part", file)
}

func parseHarbour(text []byte) (*Harbour, error) {
	var found []*standin.Authority
	for range 3 {
		certificate, rest := pem.Decode(text)
		key, rest := pem.Decode(rest)
		if certificate == nil || key == nil {
			return nil, errors.New("the file of the Harbour Authority is damaged")
		}
		c, err := cert.Parse(certificate.Bytes)
		if err != nil {
			return nil, err
		}
		k, err := x509.ParsePKCS8PrivateKey(key.Bytes)
		if err != nil {
			return nil, err
		}
		found, text = append(found, &standin.Authority{Certificate: c, Key: k.(*ecdsa.PrivateKey)}), rest
	}
	return &Harbour{found[0], found[1], found[2]}, nil
}

// Root returns its root, PEM.
func (h *Harbour) Root() []byte { return h.root.PEM() }

// The lifetimes of what it issues.
const (
	harbourDays = 199 * standin.Day
	trialDays   = 30 * standin.Day
)

// Answer signs requests and returns the files that come back, by name. Of an orderly answer each leaf is a file, and
// the intermediate another one. With worst they come as they come at the worst: in every encoding, under names that
// say nothing, with the root and the chain in pieces, with certificates that nobody asked for, and in an archive
// within an archive.
func (h *Harbour) Answer(requests []*x509.CertificateRequest, trial, worst bool,
	now time.Time) (map[string][]byte, error) {
	by, ends := h.issuing, harbourDays
	if trial {
		by, ends = h.trial, trialDays
	}
	out := map[string][]byte{}
	var leaves []*cert.Certificate
	for _, r := range requests {
		names := append([]string{}, r.DNSNames...)
		for _, ip := range r.IPAddresses {
			names = append(names, ip.String())
		}
		leaf, err := standin.Signed(standin.Wanted{Subject: r.Subject, Names: names, Begins: -time.Hour, Ends: ends},
			by, r.PublicKey,
			rand.Reader, now)
		if err != nil {
			return nil, err
		}
		leaves = append(leaves, leaf)
	}
	if !worst {
		for i, leaf := range leaves {
			out[fmt.Sprintf("%02d-%s.cer", i+1, strings.ReplaceAll(leaf.ShortName(), "*", "_"))] = leaf.PEM()
		}
		out["intermediate.cer"] = by.PEM()
		return out, nil
	}
	stranger, _, err := by.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "portal.harbour.example"},
		Names: []string{"portal.harbour.example"}, Begins: -time.Hour, Ends: ends}, rand.Reader, now)
	if err != nil {
		return nil, err
	}
	forms := []func(*cert.Certificate) []byte{
		func(c *cert.Certificate) []byte { return c.Raw },
		func(c *cert.Certificate) []byte { return bytes.ReplaceAll(c.PEM(), []byte("\n"), []byte("\r\n")) },
		func(c *cert.Certificate) []byte {
			return []byte("Dear customer,\r\nyour certificate:\r\n\r\n" + string(c.PEM()) + "\r\nHarbour Authority\r\n")
		},
		func(c *cert.Certificate) []byte { return certsOnly(c, h.root.Certificate) },
		func(c *cert.Certificate) []byte { return append(append(h.root.PEM(), by.PEM()...), c.PEM()...) },
		func(c *cert.Certificate) []byte { return append([]byte("\xef\xbb\xbf"), c.PEM()...) },
		func(c *cert.Certificate) []byte {
			return zipped(map[string][]byte{"inner.zip": zipped(map[string][]byte{"c.cer": c.Raw})})
		},
		func(c *cert.Certificate) []byte { return append(c.PEM(), c.PEM()...) },
	}
	for i, leaf := range leaves {
		name := "answer.cer"
		if n := len(leaves) - 1 - i; n > 0 { // the last one first
			name = fmt.Sprintf("answer (%d).cer", n)
		}
		out[name] = forms[i%len(forms)](leaf)
	}
	out["portal.crt"] = stranger
	out["zz.der"] = by.Certificate.Raw
	out["readme.txt"] = []byte("Install all of these.\r\n")
	return out, nil
}

func zipped(files map[string][]byte) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, content := range files {
		if w, err := z.Create(name); err == nil { // into memory
			w.Write(content)
		}
	}
	z.Close()
	return out.Bytes()
}

// certsOnly returns a PKCS #7 of certificates alone, DER (RFC 5652, 5).
func certsOnly(certificates ...*cert.Certificate) []byte {
	type contentInfo struct {
		Type asn1.ObjectIdentifier
		Data asn1.RawValue `asn1:"optional,explicit,tag:0"`
	}
	var all []byte
	for _, c := range certificates {
		all = append(all, c.Raw...)
	}
	data, err := asn1.Marshal(struct {
		Version      int
		Digests      asn1.RawValue
		Content      contentInfo
		Certificates asn1.RawValue
		Signers      asn1.RawValue
	}{1, asn1.RawValue{Tag: asn1.TagSet, IsCompound: true},
		contentInfo{Type: asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}},
		asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: all},
		asn1.RawValue{Tag: asn1.TagSet, IsCompound: true}})
	if err != nil {
		panic(err) // of our own bytes
	}
	out, err := asn1.Marshal(contentInfo{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2},
		asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: data}})
	if err != nil {
		panic(err)
	}
	return out
}
