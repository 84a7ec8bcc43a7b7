package e2e

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/device/https"
	"freshseal/standin/daemon"
)

// A real apache asks for user and password by RFC 7617 and by RFC 7616; a wrong one is
// refused by both, and none is sent before its certificate is the pinned one.
func TestSigningInWithEachCallToARealServer(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := box{dir: dir, address: boxAddress, webPort: daemon.FreePort(t, boxAddress)}
	b.layFactory(t)
	const user, password = "webkeeper", "salt and tar"
	sum := md5.Sum([]byte(user + ":wireless:" + password))
	write(t, b.at("digest"), user+":wireless:"+hex.EncodeToString(sum[:])+"\n")
	write(t, b.at("basic"), user+":"+strings.TrimSpace(must(t, password, "openssl", "passwd", "-apr1", "-stdin"))+"\n")
	for _, folder := range []string{"digest-in", "basic-in"} {
		os.MkdirAll(b.at("www/"+folder), 0o755)
		write(t, b.at("www/"+folder+"/page"), "let in")
	}
	modules := ""
	for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic",
		"auth_digest", "ssl"} {
		modules += "LoadModule " + m + "_module /usr/lib/apache2/modules/mod_" + m + ".so\n"
	}
	for _, path := range []string{filepath.Dir(dir), dir, b.at(""), b.at("www")} { // apache's workers are nobody
		os.Chmod(path, 0o755)
	}
	for _, path := range []string{b.at("digest"), b.at("basic"), b.at("www/digest-in/page"),
		b.at("www/basic-in/page")} {
		os.Chmod(path, 0o644)
	}
	write(t, b.at("httpd.conf"), "ServerRoot "+b.at("")+"\nServerName localhost\nPidFile "+b.at("pid")+
		"\nErrorLog /dev/stderr\nDefaultRuntimeDir "+b.at("")+"\nUser nobody\nGroup nogroup\n"+modules+"Listen "+
		b.address+":"+b.webPort+"\nSSLSessionCache none\nMutex file:"+b.at("")+" default\nDocumentRoot "+b.at("www")+
		"\n<VirtualHost *:"+b.webPort+">\nSSLEngine on\nSSLCertificateFile "+b.at("tls/cert.pem")+
		"\nSSLCertificateKeyFile "+b.at("tls/key.pem")+"\n"+
		"<Location /digest-in>\nAuthType Digest\nAuthName wireless\nAuthUserFile "+b.at("digest")+
		"\nRequire valid-user\n</Location>\n<Location /basic-in>\nAuthType Basic\nAuthName wireless\nAuthUserFile "+
		b.at("basic")+"\nRequire valid-user\n</Location>\n</VirtualHost>\n")
	at := net.JoinHostPort(b.address, b.webPort)
	daemon.Start(t, at, "/usr/sbin/apache2", "-d", b.at(""), "-f", b.at("httpd.conf"), "-D", "FOREGROUND")
	block, _ := pem.Decode([]byte(read(t, b.at("tls/cert.pem"))))
	pin := sha256.Sum256(block.Bytes)
	for _, way := range []string{"digest", "basic"} {
		for word, status := range map[string]int{password: 200, "pepper": 401} {
			link, err := https.New((&net.Dialer{}).DialContext,
				https.Target{Address: at, Pins: []string{hex.EncodeToString(pin[:])}, User: user, Password: word,
					Digest: way == "digest", Basic: way == "basic"})
			if err != nil {
				t.Fatal(err)
			}
			for range 2 { // the second call uses the server's nonce again
				got, err := link.Do(t.Context(), https.Call{Method: "GET", Path: "/" + way + "-in/page"})
				if err != nil || got.Status != status || status == 200 && string(got.Body) != "let in" {
					t.Errorf("%s with %q: %d %s %v", way, word, got.Status, got.Body, err)
				}
			}
		}
	}
}
