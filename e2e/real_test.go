package e2e

import (
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/device/ssh"
	"freshseal/standin/daemon"
)

// box is a machine with a real sshd and a real nginx that serves its factory
// certificate.
type box struct {
	dir, address, sshPort, webPort string
	hostKey, keyFile               string
	endSSH                         func()
	without                        string // a line that its sshd does not have
}

const passphrase = "salt and tar"

const boxAddress = "127.20.77.1"

func startBox(t testing.TB) box { return startBoxWithout(t, "") }

// startBoxWithout leaves a line out of the SSH server's configuration.
func startBoxWithout(t testing.TB, line string) box {
	t.Helper()
	dir := t.TempDir()
	b := box{without: line, dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
		webPort: daemon.FreePort(t, boxAddress), keyFile: filepath.Join(dir, "ssh", "id")}
	b.startSSH(t)
	b.startWeb(t)
	return b
}

func (b *box) startSSH(t testing.TB) {
	t.Helper()
	if os.Geteuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			t.Fatal(err)
		}
	}
	at := func(name string) string { return filepath.Join(b.dir, "ssh", name) }
	os.MkdirAll(at(""), 0o700)
	must(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", at("host"))
	must(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-a", "1", "-N", passphrase, "-f", at("id")) // it is opened often
	public, err := os.ReadFile(at("id.pub"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, at("authorized_keys"), string(public))
	write(t, at("sshd_config"), strings.ReplaceAll(fmt.Sprintf("Port %s\nListenAddress %s\nHostKey %s\nPidFile "+
		"none\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPasswordAuthentication "+
		"no\nSubsystem sftp internal-sftp\nSetEnv HOME=%s\n", // with no .bashrc of whoever runs the tests
		b.sshPort, b.address, at("host"), at("authorized_keys"), at("")), unless(b.without), ""))
	b.endSSH = daemon.Start(t, net.JoinHostPort(b.address, b.sshPort), "/usr/sbin/sshd", "-D", "-e", "-f",
		at("sshd_config"))
	b.hostKey = "ssh-ed25519 " + strings.Fields(must(t, "", "ssh-keygen", "-l", "-f", at("host.pub")))[1]
}

// target is how the box is signed in to.
func (b *box) target(t testing.TB) ssh.Target {
	t.Helper()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	return ssh.Target{Address: net.JoinHostPort(b.address, b.sshPort), User: who.Username,
		Key: []byte(read(t, b.keyFile)), Passphrase: []byte(passphrase), HostKey: b.hostKey}
}

func (b *box) at(name string) string { return filepath.Join(b.dir, "web", name) }

// layFactory makes the certificate that the box was delivered with.
func (b *box) layFactory(t testing.TB) {
	t.Helper()
	os.MkdirAll(b.at("tls"), 0o700)
	must(t, "", "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", b.at("tls/key.pem"), "-out",
		b.at("tls/cert.pem"),
		"-days", "3650", "-subj", "/O=Brinewell/CN=localhost.localdomain")
	if err := os.Chmod(b.at("tls/key.pem"), 0o640); err != nil {
		t.Fatal(err)
	}
}

func (b *box) startWeb(t testing.TB) {
	t.Helper()
	b.layFactory(t)
	write(t, b.at("nginx.conf"), fmt.Sprintf("worker_processes 1;\npid nginx.pid;\nevents {}\nhttp {\n access_log "+
		"off;\n client_body_temp_path t1;\n proxy_temp_path t2;\n fastcgi_temp_path t3;\n uwsgi_temp_path t4;\n "+
		"scgi_temp_path t5;\n"+
		" server {\n  listen %s:%s ssl;\n  ssl_certificate tls/cert.pem;\n  ssl_certificate_key tls/key.pem;\n  "+
		"return 200 ok;\n }\n}\n", b.address, b.webPort))
	daemon.Start(t, net.JoinHostPort(b.address, b.webPort), "/usr/sbin/nginx", "-p", b.at(""), "-c", "nginx.conf",
		"-e", "stderr", "-g", "daemon off;")
}

// nginx is how its web server is called.
func (b *box) nginx() string { return "/usr/sbin/nginx -p " + b.at("") + " -c nginx.conf -e stderr " }

// add takes the box into a fleet, with the settings that its nginx needs.
func (b *box) add(t testing.TB, s *server, more ...string) {
	t.Helper()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	nginx := b.nginx()
	s.ok(append([]string{"device", "add", realBox, "--address", b.address, "--family", "web-files-ssh", "--user",
		who.Username, "--port", b.sshPort,
		"--key-file", b.keyFile, "--passphrase-file", write(t, filepath.Join(b.dir, "passphrase"), passphrase),
		"--pin", b.hostKey, "--slot", "web=" + b.webPort,
		"--setting", "certificate_file=" + b.at("tls/cert.pem"), "--setting", "key_file=" + b.at("tls/key.pem"),
		"--setting", "work_folder=" + b.at("work"),
		"--setting", "test=" + nginx + "-t", "--setting", "reload=" + nginx + "-s reload"}, more...)...)
}

const realBox = "web-7.saltmere.tidewrack.example"

func TestARealServerIsReplacedAndOpenSSLAgrees(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	s := start(t, "serve", t.TempDir())
	s.login()
	b.add(t, s)
	before := s.show(realBox + "/web")
	if before.Condition != "factory" {
		t.Fatalf("before: %+v", before)
	}
	watched := s.ok("replace", realBox+"/web", "--signer", "bench", "--name", realBox, "--name", b.address, "--watch")
	if !strings.HasSuffix(watched, "r1: sealed\n") {
		t.Fatal(watched)
	}

	// The judge is openssl: what is on the wire, and whether it verifies.
	shown := must(t, "Q\n", "openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort), "-servername",
		realBox, "-showcerts")
	if n := strings.Count(shown, "-----BEGIN CERTIFICATE-----"); n != 3 {
		t.Errorf("%d certificates are served instead of leaf and two intermediates", n)
	}
	root := write(t, filepath.Join(t.TempDir(), "root.pem"), rootOf(t, s))
	leaf, rest, _ := strings.Cut(shown[strings.Index(shown, "-----BEGIN CERTIFICATE"):], "-----END CERTIFICATE-----")
	leafFile := write(t, filepath.Join(t.TempDir(), "leaf.pem"), leaf+"-----END CERTIFICATE-----\n")
	restFile := write(t, filepath.Join(t.TempDir(), "rest.pem"), rest)
	must(t, "", "openssl", "verify", "-CAfile", root, "-untrusted", restFile, "-purpose", "sslserver",
		"-verify_hostname", realBox, leafFile)
	must(t, "", "openssl", "verify", "-CAfile", root, "-untrusted", restFile, "-verify_ip", b.address, leafFile)

	if info, err := os.Stat(b.at("tls/key.pem")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the key's mode is not the old one's: %v %v", info.Mode(), err)
	}
	if text := s.log.String() + watched; strings.Contains(text, "PRIVATE KEY") {
		t.Error("a private key is shown")
	}

	// And back again, on a person's wish.
	s.ok("replacement", "revert", "r1", "--yes")
	if after := s.show(realBox + "/web"); after.Certificate.SHA256 != before.Certificate.SHA256 ||
		after.Condition != "factory" {
		t.Errorf("reverted: %+v", after)
	}
	if left, _ := os.ReadDir(b.at("work")); len(left) > 0 {
		t.Errorf("left on the box after the revert: %v", left)
	}
}

// rootOf is the root that the service's own signer stands on, as PEM.
func rootOf(t *testing.T, s *server) string {
	t.Helper()
	var r struct {
		Chain []struct{ PEM string }
	}
	s.json(&r, "replacement", "show", "r1")
	return r.Chain[len(r.Chain)-1].PEM
}

// The server's own test finds fault with the new files: the box is as before.
func TestAFailingConfigTestPutsTheOldCertificateBack(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	s := start(t, "serve", t.TempDir())
	s.login()
	// A test that likes the factory's RSA key and no other kind.
	b.add(t, s, "--setting", "test=/usr/bin/openssl rsa -noout -in "+b.at("tls/key.pem"))
	before := s.show(realBox + "/web")
	s.fails(1, "r1 of "+realBox+"/web is reverted", "replace", realBox+"/web", "--signer", "bench", "--key",
		"ecdsa-p256", "--watch")
	if after := s.show(realBox + "/web"); after.Certificate.SHA256 != before.Certificate.SHA256 {
		t.Errorf("the old certificate is not back: %+v", after)
	}
	must(t, "", "openssl", "rsa", "-noout", "-in", b.at("tls/key.pem"))
	if left, _ := filepath.Glob(b.at("tls/*.new")); len(left) > 0 {
		t.Errorf("left on the box: %v", left)
	}
}

// A ship's devices are reached through its jump host alone; when that is gone,
// they are unreachable.
func TestABoxBehindAJumpHost(t *testing.T) {
	t.Parallel()
	b, jump := startBox(t), box{dir: t.TempDir(), address: "127.20.77.2", sshPort: daemon.FreePort(t, "127.20.77.2")}
	jump.startSSH(t)
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", t.TempDir(), listen)
	s.login()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	s.ok("site", "add", "Petrel", "--jump", jump.address, "--port", jump.sshPort, "--user", who.Username,
		"--key-file", filepath.Join(jump.dir, "ssh", "id"), "--passphrase-file",
		write(t, filepath.Join(jump.dir, "passphrase"), passphrase), "--pin", jump.hostKey)
	b.add(t, s, "--site", "Petrel")
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	jump.endSSH() // sessions that are open outlive it, so the service is started again
	s.stop()
	config := s.config
	s = startAt(t, "serve", s.dir, listen)
	s.config = config
	s.fails(3, "jump host of Petrel", "read", realBox+"/web")
	if now := s.show(realBox + "/web"); now.Condition != "unreachable" {
		t.Errorf("without the jump host: %+v", now)
	}
	s.ok("site", "remove", "Petrel")
	s.ok("read", realBox+"/web")
}

// Apache with a file of its own for the intermediates. Its configuration test
// says yes to a leaf for another key; Fresh Seal does not let it come to that.
func TestARealApacheWithAChainFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := box{dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
		webPort: daemon.FreePort(t, boxAddress), keyFile: filepath.Join(dir, "ssh", "id")}
	b.startSSH(t)
	b.layFactory(t)
	must(t, "", "cp", b.at("tls/cert.pem"), b.at("tls/chain.pem"))
	config := "ServerName " + realBox + "\nServerRoot " + b.at("") + "\nPidFile httpd.pid\nErrorLog " +
		"/dev/stderr\nListen " + b.address + ":" + b.webPort + "\n"
	for _, module := range []string{"mpm_event", "authz_core", "socache_shmcb", "ssl"} {
		config += "LoadModule " + module + "_module /usr/lib/apache2/modules/mod_" + module + ".so\n"
	}
	config += "DocumentRoot " + b.at("") + "\nSSLEngine on\nSSLCertificateFile tls/cert.pem\nSSLCertificateKeyFile " +
		"tls/key.pem\nSSLCertificateChainFile tls/chain.pem\n"
	write(t, b.at("httpd.conf"), config)
	daemon.Start(t, net.JoinHostPort(b.address, b.webPort), "/usr/sbin/apache2", "-d", b.at(""), "-f", "httpd.conf",
		"-D", "FOREGROUND")
	s := start(t, "serve", t.TempDir())
	s.login()
	apache := "/usr/sbin/apache2 -d " + b.at("") + " -f httpd.conf "
	b.add(t, s, "--setting", "chain_file="+b.at("tls/chain.pem"), "--setting", "test="+apache+"-t", "--setting",
		"reload="+apache+"-k graceful")
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--key", "rsa-2048",
		"--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	if text := read(t, b.at("tls/cert.pem")); strings.Count(text, "BEGIN CERTIFICATE") != 1 {
		t.Errorf("the leaf's file holds more than the leaf:\n%s", text)
	}
	shown := must(t, "Q\n", "openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort), "-servername",
		realBox, "-showcerts")
	if n := strings.Count(shown, "-----BEGIN CERTIFICATE-----"); n != 3 {
		t.Errorf("%d certificates are served instead of leaf and two intermediates", n)
	}
}

// unless is a line to leave out, or one that stands nowhere.
func unless(line string) string {
	if line == "" {
		return "no such line"
	}
	return line
}

// Two real jump hosts in a row behind a proxy: the host keys of both are pinned, and
// nothing of it is reached otherwise.
func TestABoxBehindTwoJumpHostsAndAProxy(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	s := start(t, "serve", t.TempDir())
	s.login()
	port, opened := socks(t)
	s.ok("site", "add", "Quay", "--socks", "127.20.80.1", "--port", port)
	before := "Quay"
	for i, name := range []string{"Petrel", "Hold"} {
		jump := box{dir: t.TempDir(), address: fmt.Sprintf("127.20.77.%d", 3+i), keyFile: ""}
		jump.sshPort = daemon.FreePort(t, jump.address)
		jump.startSSH(t)
		s.ok("site", "add", name, "--behind", before, "--jump", jump.address, "--port", jump.sshPort, "--user",
			who.Username,
			"--key-file", filepath.Join(jump.dir, "ssh", "id"), "--passphrase-file",
			write(t, filepath.Join(jump.dir, "passphrase"), passphrase), "--pin", jump.hostKey)
		before = name
	}
	b.add(t, s, "--site", "Hold")
	if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	if n := opened.Load(); n != 1 {
		t.Errorf("%d connections went through the proxy instead of that of the first jump host", n)
	}
	s.fails(1, "reached through itself", "site", "edit", "Quay", "--behind", "Hold")
	s.fails(1, "Hold is reached through it", "site", "remove", "Petrel")
	s.fails(1, "no site is called", "site", "edit", "Petrel", "--behind", "Nowhere")
	if out := s.ok("site", "list"); !strings.Contains(out, "Petrel") {
		t.Error(out)
	}
}
