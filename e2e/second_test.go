package e2e

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"net"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// A web server with a certificate for each kind of key: the one is replaced, proven as the clients read it
// that get it, and the other one is left as it is and told of.
func TestABoxWithTwoCertificates(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
		"-keyout", b.at("tls/ec.key"), "-out", b.at("tls/ec.pem"), "-days", "3650", "-subj",
		"/O=Brinewell/CN=localhost.localdomain")
	write(t, b.at("nginx.conf"), strings.Replace(read(t, b.at("nginx.conf")), "  return 200",
		"  ssl_certificate tls/ec.pem;\n  ssl_certificate_key tls/ec.key;\n  return 200", 1))
	if out, err := exec.Command("/bin/sh", "-c", b.nginx()+"-s reload").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	serves := func(kind string) string {
		return must(t, "Q\n", "openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort),
			"-servername", realBox, "-tls1_2", "-cipher", "ECDHE-"+kind+"-AES128-GCM-SHA256")
	}
	for range 50 {
		if exec.Command("openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort), "-tls1_2",
			"-cipher", "ECDHE-ECDSA-AES128-GCM-SHA256").Run() == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	s := start(t, "serve", t.TempDir())
	s.login()
	b.add(t, s)
	if shown := s.run("", "read", realBox+"/web").stdout; !strings.Contains(shown, "RSA 2048 keys get") &&
		!strings.Contains(shown, "ECDSA P-256 keys get") {
		t.Errorf("the second certificate is not told of: %s", shown)
	}
	if watched := s.ok("replace", realBox+"/web", "--signer", "bench", "--key", "rsa-2048", "--name", realBox,
		"--watch"); !strings.HasSuffix(watched, "r1: sealed\n") {
		t.Fatal(watched)
	}
	if shown := serves("RSA"); !strings.Contains(shown, "CN = "+realBox) {
		t.Errorf("clients of RSA get: %s", shown)
	}
	if shown := serves("ECDSA"); !strings.Contains(shown, "CN = localhost.localdomain") {
		t.Errorf("the other certificate was changed: %s", shown)
	}
	if slot := s.show(realBox + "/web"); slot.Condition == "unexpected" || slot.Condition == "fresh" {
		t.Errorf("with one of two certificates replaced it is %s: %+v", slot.Condition, slot.Findings)
	}
}

// A server that is slow to reload answers for a while with the new certificate to those who take nothing else, and
// with the old one to the others: by two old processes and two new ones, say. That is not two certificates: the
// replacement is sealed when the new one is served to all.
func TestASlowReloadIsNoSecondCertificate(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	load := func() *tls.Certificate {
		c, err := tls.LoadX509KeyPair(b.at("tls/cert.pem"), b.at("tls/key.pem"))
		if err != nil {
			return nil // between the two files
		}
		return &c
	}
	var lock sync.Mutex
	old, now, since := load(), load(), time.Time{}
	l, err := tls.Listen("tcp", net.JoinHostPort(b.address, "0"),
		&tls.Config{GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			lock.Lock()
			defer lock.Unlock()
			if c := load(); c != nil && !bytes.Equal(c.Certificate[0], now.Certificate[0]) {
				old, now, since = now, c, time.Now()
			}
			takesRSA := slices.Contains(hello.SignatureSchemes, tls.PSSWithSHA256) &&
				slices.ContainsFunc(hello.CipherSuites, func(id uint16) bool {
					return id>>8 == 0x13 || id == tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256
				})
			if takesRSA && time.Since(since) < 1200*time.Millisecond {
				return old, nil
			}
			return now, nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); conn.(*tls.Conn).Handshake() }()
		}
	}()
	_, b.webPort, _ = net.SplitHostPort(l.Addr().String())
	s := start(t, "serve", t.TempDir())
	s.login()
	b.add(t, s)
	if watched := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(watched,
		"r1: sealed\n") {
		t.Fatal(watched)
	}
	sum := sha256.Sum256(load().Certificate[0])
	if slot := s.show(realBox + "/web"); slot.Certificate.SHA256 != hex.EncodeToString(sum[:]) {
		t.Errorf("it is sealed while another certificate is served: %+v", slot)
	}
}
