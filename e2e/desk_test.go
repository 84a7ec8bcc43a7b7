package e2e

import (
	"archive/zip"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// harbour is somebody's authority, run with openssl: a root and an intermediate.
type harbour struct {
	t   *testing.T
	dir string
}

func newHarbour(t *testing.T) harbour {
	t.Helper()
	h := harbour{t, t.TempDir()}
	key := []string{"-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"}
	must(t, "", "openssl",
		append([]string{"req", "-x509", "-keyout", h.at("root.key"), "-out", h.at("root.pem"), "-days", "3000",
			"-subj", "/O=Tidewrack Ferries/CN=Harbour Root", "-addext", "keyUsage=critical,keyCertSign"}, key...)...)
	must(t, "", "openssl",
		append([]string{"req", "-keyout", h.at("sub.key"), "-out", h.at("sub.csr"), "-subj",
			"/O=Tidewrack Ferries/CN=Harbour Issuing"}, key...)...)
	write(t, h.at("sub.ext"),
		"basicConstraints=critical,CA:TRUE,pathlen:0\nkeyUsage=critical,keyCertSign\n"+
			"subjectKeyIdentifier=hash\nauthorityKeyIdentifier=keyid\n")
	must(t, "", "openssl", "x509", "-req", "-in", h.at("sub.csr"), "-CA", h.at("root.pem"), "-CAkey",
		h.at("root.key"), "-days", "1000", "-extfile", h.at("sub.ext"), "-out", h.at("sub.pem"))
	return h
}

func (h harbour) at(name string) string { return filepath.Join(h.dir, name) }

// sign signs a request as it asks and returns the leaf's file.
func (h harbour) sign(request string) string {
	h.t.Helper()
	out := request + ".signed.pem"
	must(h.t, "", "openssl", "x509", "-req", "-in", request, "-CA", h.at("sub.pem"), "-CAkey", h.at("sub.key"),
		"-days", "90", "-copy_extensions", "copy", "-out", out)
	return out
}

// chain is the file with everything but the leaf, the root first.
func (h harbour) chain() string {
	return write(h.t, h.at("chain.pem"), h.read("root.pem")+h.read("sub.pem"))
}

func (h harbour) read(name string) string {
	h.t.Helper()
	text, err := os.ReadFile(h.at(name))
	if err != nil {
		h.t.Fatal(err)
	}
	return string(text)
}

// unpack opens a parcel and returns its requests' files.
func unpack(t *testing.T, archive string) []string {
	t.Helper()
	z, err := zip.OpenReader(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	dir := t.TempDir()
	if err := os.CopyFS(dir, z); err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(dir, "*.csr.pem"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no request in the parcel, %v", err)
	}
	return files
}

// pin is the fingerprint of the service's certificate, as seen from outside.
func (s *server) pin() string {
	s.t.Helper()
	conn, err := tls.Dial("tcp", strings.TrimPrefix(s.url, "https://"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		s.t.Fatal(err)
	}
	defer conn.Close()
	sum := sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw)
	return hex.EncodeToString(sum[:])
}
