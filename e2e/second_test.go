package e2e

import (
	"net"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// A web server with a certificate for each kind of key: the one is replaced, proven as the clients read it
// that get it, and the other one is left as it is and told of.
func TestABoxWithTwoCertificates(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", b.at("tls/ec.key"), "-out", b.at("tls/ec.pem"), "-days", "3650", "-subj", "/O=Brinewell/CN=localhost.localdomain")
	write(t, b.at("nginx.conf"), strings.Replace(read(t, b.at("nginx.conf")), "  return 200", "  ssl_certificate tls/ec.pem;\n  ssl_certificate_key tls/ec.key;\n  return 200", 1))
	if out, err := exec.Command("/bin/sh", "-c", b.nginx()+"-s reload").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	serves := func(kind string) string {
		return must(t, "Q\n", "openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort), "-servername", realBox, "-tls1_2", "-cipher", "ECDHE-"+kind+"-AES128-GCM-SHA256")
	}
	for range 50 {
		if exec.Command("openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort), "-tls1_2", "-cipher", "ECDHE-ECDSA-AES128-GCM-SHA256").Run() == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	s := start(t, "serve", t.TempDir())
	s.login()
	b.add(t, s)
	if shown := s.run("", "read", realBox+"/web").stdout; !strings.Contains(shown, "RSA 2048 keys get") && !strings.Contains(shown, "ECDSA P-256 keys get") {
		t.Errorf("the second certificate is not told of: %s", shown)
	}
	if watched := s.ok("replace", realBox+"/web", "--signer", "bench", "--key", "rsa-2048", "--name", realBox, "--watch"); !strings.HasSuffix(watched, "r1: sealed\n") {
		t.Fatal(watched)
	}
	if shown := serves("RSA"); !strings.Contains(shown, "CN = "+realBox) {
		t.Errorf("clients of RSA get: %s", shown)
	}
	if shown := serves("ECDSA"); !strings.Contains(shown, "CN = localhost.localdomain") {
		t.Errorf("the other certificate was changed: %s", shown)
	}
	if slot := s.show(realBox + "/web"); slot.Condition == "stray" || slot.Condition == "fresh" {
		t.Errorf("with one of two certificates replaced it is %s: %+v", slot.Condition, slot.Findings)
	}
}
