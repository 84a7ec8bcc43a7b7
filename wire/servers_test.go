package wire_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/core/protocol"
	"freshseal/core/testkit"
	"freshseal/standin/daemon"
	"freshseal/wire"
)

// papers are the files that a server is given: a chain of two and the key.
type papers struct {
	dir, chain, key, root string
	leaf                  testkit.Signer
}

func lay(t *testing.T) papers {
	t.Helper()
	p := papers{dir: t.TempDir()}
	root := testkit.Root(t, "Quay Root")
	middle := root.Below(t, "Quay Middle")
	p.leaf = middle.Leaf(t, "gate.tidewrack.example")
	p.chain = pemFile(t, filepath.Join(p.dir, "chain.pem"), p.leaf.Raw, middle.Raw)
	p.root = pemFile(t, filepath.Join(p.dir, "root.pem"), root.Raw)
	p.key = keyFile(t, filepath.Join(p.dir, "key.pem"), p.leaf.Key)
	return p
}

func (p papers) write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(p.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path,
		[]byte(strings.NewReplacer("CHAIN", p.chain, "KEY", p.key, "ROOT", p.root, "DIR", p.dir).Replace(text)),
		0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// reads checks that the chain of the papers is read.
func (p papers) reads(t *testing.T, target wire.Target) wire.Reading {
	t.Helper()
	r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 5 * time.Second}.Read(t.Context(), target)
	if r.Why != nil || len(r.Chain) < 2 || r.Leaf().SHA256 != p.leaf.SHA256 || r.Version == "" {
		t.Errorf("%s: %+v, %d certificates", target.Protocol, r.Why, len(r.Chain))
	}
	return r
}

func at(t *testing.T, address, port string, protocol wire.Protocol) wire.Target {
	t.Helper()
	n, err := strconv.Atoi(port)
	if err != nil {
		t.Fatal(err)
	}
	return wire.Target{Address: address, Port: n, Protocol: protocol, ServerName: "gate.tidewrack.example"}
}

const here = "127.20.91.1"

func TestARealMailServerWithSTARTTLS(t *testing.T) {
	t.Parallel()
	p := lay(t)
	imap, pop := daemon.FreePort(t, here), daemon.FreePort(t, here)
	who, group, login := strings.TrimSpace(run(t, "id", "-un")), strings.TrimSpace(run(t, "id", "-gn")),
		strings.TrimSpace(run(t, "id", "-un"))
	if os.Geteuid() == 0 { // the users that its package made
		who, group, login = "dovecot", "dovecot", "dovenull"
		open(t, p.dir)
	}
	conf := p.write(t, "dovecot.conf", "protocols = imap pop3\nbase_dir = DIR/run\nstate_dir = DIR/state\nlog_path "+
		"= /dev/stderr\nssl = yes\nssl_cert = <CHAIN\nssl_key = <KEY\nlisten = "+here+"\n"+
		"default_login_user = "+login+"\ndefault_internal_user = "+who+"\ndefault_internal_group = "+group+"\n"+
		"service anvil {\n chroot =\n}\nservice imap-login {\n chroot =\n inet_listener imap {\n  port = "+imap+
		"\n }\n inet_listener imaps {\n  port = 0\n }\n}\n"+
		"service pop3-login {\n chroot =\n inet_listener pop3 {\n  port = "+pop+"\n }\n inet_listener pop3s {\n  "+
		"port = 0\n }\n}\npassdb {\n driver = static\n args = nopassword=y\n}\n")
	daemon.Start(t, net.JoinHostPort(here, imap), "/usr/sbin/dovecot", "-F", "-c", conf)
	p.reads(t, at(t, here, imap, protocol.IMAP))
	p.reads(t, at(t, here, pop, protocol.POP3))
}

func TestARealPostfix(t *testing.T) {
	t.Parallel()
	p := lay(t)
	port := daemon.FreePort(t, here)
	open(t, p.dir)
	daemon.Postfix(t, p.dir, here, port, "smtpd_tls_chain_files = "+p.key+", "+p.chain+"\nsmtpd_tls_security_level "+
		"= may\nmyhostname = gate.tidewrack.example\n")
	p.reads(t, at(t, here, port, protocol.SMTP))
}

func TestARealDirectory(t *testing.T) {
	t.Parallel()
	p := lay(t)
	plain, ldaps := daemon.FreePort(t, here), daemon.FreePort(t, here)
	os.MkdirAll(filepath.Join(p.dir, "db"), 0o700)
	conf := p.write(t, "slapd.conf", "include /etc/ldap/schema/core.schema\nmodulepath /usr/lib/ldap\nmoduleload "+
		"back_mdb\nTLSCertificateFile CHAIN\nTLSCertificateKeyFile KEY\nTLSCACertificateFile ROOT\npidfile "+
		"DIR/pid\ndatabase mdb\nsuffix dc=tidewrack\ndirectory DIR/db\n")
	daemon.Start(t, net.JoinHostPort(here, plain), "/usr/sbin/slapd", "-d", "0", "-f", conf, "-h", "ldap://"+
		net.JoinHostPort(here, plain)+" ldaps://"+net.JoinHostPort(here, ldaps))
	p.reads(t, at(t, here, plain, protocol.LDAP))
	p.reads(t, at(t, here, ldaps, protocol.TLS))
}

func TestARealDatabase(t *testing.T) {
	t.Parallel()
	p := lay(t)
	port, data := daemon.FreePort(t, here), filepath.Join(p.dir, "data")
	bins, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	if len(bins) == 0 {
		t.Fatal("no PostgreSQL is installed")
	}
	as := func(name string, args ...string) []string { return append([]string{name}, args...) }
	if os.Geteuid() == 0 { // it refuses to run as root
		open(t, p.dir)
		run(t, "chown", "-R", "nobody", p.dir)
		as = func(name string, args ...string) []string {
			return append([]string{"setpriv", "--reuid=nobody", "--clear-groups", "--regid=nogroup", name}, args...)
		}
	}
	init := as(filepath.Join(bins[0], "initdb"), "-D", data, "-A", "trust", "--no-sync", "-E", "UTF8", "--locale=C")
	run(t, init[0], init[1:]...)
	serve := as(filepath.Join(bins[0], "postgres"), "-D", data, "-h", here, "-p", port, "-k", "", "-c", "ssl=on",
		"-c", "ssl_cert_file="+p.chain, "-c", "ssl_key_file="+p.key, "-c", "fsync=off")
	daemon.Start(t, net.JoinHostPort(here, port), serve[0], serve[1:]...)
	p.reads(t, at(t, here, port, protocol.PostgreSQL))
}

func TestARealFTPServer(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("vsftpd must be started by root")
	}
	p := lay(t)
	port := daemon.FreePort(t, here)
	os.MkdirAll("/var/run/vsftpd/empty", 0o755)
	conf := p.write(t, "vsftpd.conf", "listen=YES\nlisten_address="+here+"\nlisten_port="+port+
		"\nbackground=NO\nanonymous_enable=NO\nlocal_enable=YES\n"+
		"ssl_enable=YES\nrsa_cert_file=CHAIN\nrsa_private_key_file=KEY\nssl_ciphers=HIGH\n"+
		"secure_chroot_dir=/var/run/vsftpd/empty\nseccomp_sandbox=NO\n")
	daemon.Start(t, net.JoinHostPort(here, port), "/usr/sbin/vsftpd", conf)
	p.reads(t, at(t, here, port, protocol.FTP))
}

func TestARealChatServer(t *testing.T) {
	t.Parallel()
	p := lay(t)
	client, server := daemon.FreePort(t, here), daemon.FreePort(t, here)
	conf := p.write(t, "prosody.cfg.lua", `daemonize = false
run_as_root = true
pidfile = "DIR/pid"
data_path = "DIR/data"
interfaces = { "`+here+`" }
c2s_ports = { `+client+` }
s2s_ports = { `+server+` }
modules_enabled = { "tls", "saslauth", "dialback" }
modules_disabled = { "http", "posix" }
ssl = { certificate = "CHAIN"; key = "KEY" }
log = { info = "*console" }
VirtualHost "gate.tidewrack.example"
`)
	daemon.Start(t, net.JoinHostPort(here, client), "/usr/bin/prosody", "--config", conf)
	p.reads(t, at(t, here, client, protocol.XMPP))
	p.reads(t, at(t, here, server, protocol.XMPPServer))
}

func TestARealMariaDB(t *testing.T) {
	t.Parallel()
	p := lay(t)
	port := daemon.FreePort(t, here)
	as, data := []string{"--no-defaults"}, filepath.Join(p.dir, "data")
	os.MkdirAll(data, 0o700)
	if os.Geteuid() == 0 {
		open(t, p.dir)
		run(t, "chown", "-R", "nobody", p.dir)
		as = append(as, "--user=nobody")
	}
	// --skip-grant-tables needs no tables of users, and so no installation; the port is opened
	// all the same.
	daemon.Start(t, net.JoinHostPort(here, port), "/usr/sbin/mariadbd",
		append(as, "--datadir="+data, "--bind-address="+here, "--port="+port, "--socket="+filepath.Join(p.dir, "sock"),
			"--ssl-cert="+p.chain, "--ssl-key="+p.key, "--skip-grant-tables", "--skip-networking=0",
			"--innodb-buffer-pool-size=8M", "--innodb-log-file-size=4M", "--pid-file="+filepath.Join(p.dir, "pid"))...)
	p.reads(t, at(t, here, port, protocol.MySQL))
}

func TestARealRemoteDesktop(t *testing.T) {
	t.Parallel()
	p := lay(t)
	port := daemon.FreePort(t, here)
	conf := p.write(t, "xrdp.ini", "[Globals]\nini_version=1\nfork=true\nport=tcp://"+here+":"+port+
		"\nsecurity_layer=tls\ncertificate=CHAIN\nkey_file=KEY\nssl_protocols=TLSv1.2, "+
		"TLSv1.3\n[Logging]\nLogFile=DIR/log\nLogLevel=INFO\nEnableSyslog=false\nEnableConsole=true\n"+
		"ConsoleLevel=INFO\n[Xvnc]\nname=Xvnc\nlib=libvnc.so\n")
	daemon.Start(t, net.JoinHostPort(here, port), "/usr/sbin/xrdp", "--nodaemon", "--config", conf)
	p.reads(t, at(t, here, port, protocol.Desktop))
}

// A RADIUS server shows its certificate to who has the shared secret of a network device,
// whatever method of EAP it is asked for.
func TestARealAccessControlServer(t *testing.T) {
	t.Parallel()
	for _, version := range []string{"1.2", "1.3"} {
		t.Run("TLS "+version, func(t *testing.T) {
			t.Parallel()
			p := lay(t)
			port, _ := daemon.RADIUS(t, p.radius(version, "peap", "ttls", "tls"))
			for _, spoken := range []wire.Protocol{protocol.PEAP, protocol.TTLS, protocol.EAPTLS} {
				target := at(t, here, port, spoken)
				target.Secret = []byte("salt of the harbour")
				if r := p.reads(t, target); r.Version != "TLS "+version && spoken != protocol.EAPTLS {
					t.Errorf("%s with %s", spoken, r.Version)
				}
			}
			target := at(t, here, port, protocol.PEAP)
			target.Secret = []byte("another word")
			if r := (wire.Reader{Dial: reader().Dial, Now: time.Now, Limit: 2 * time.Second}).Read(t.Context(),
				target); r.Why == nil || !strings.Contains(r.Why.Remedy, "shared secret") {
				t.Errorf("with a wrong secret: %+v", r)
			}
			if target.Secret = nil; reader().Read(t.Context(), target).Why.Code != "no-secret" {
				t.Error("without a secret it was asked")
			}
		})
	}
	p := lay(t)
	port, _ := daemon.RADIUS(t, p.radius("1.2", "tls"))
	target := at(t, here, port, protocol.PEAP)
	target.Secret = []byte("salt of the harbour")
	if r := reader().Read(t.Context(), target); r.Why == nil || r.Why.Code != "no-eap" {
		t.Errorf("a method that is switched off: %+v", r)
	}
	target.Port++
	if r := reader().Read(t.Context(), target); r.Why == nil || r.Why.Code != "refused" {
		t.Errorf("nobody listens: %+v", r.Why)
	}
}

// radius is a RADIUS server with some methods of EAP, and TLS up to a version.
func (p papers) radius(version string, methods ...string) daemon.AccessControl {
	return daemon.AccessControl{Address: here, Chain: p.chain, Key: p.key, Root: p.root,
		Secret: "salt of the harbour", TLS: version, Methods: methods}
}

// run runs a command and returns what it says.
func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// open lets another user into a folder of the test and those above it.
func open(t *testing.T, dir string) {
	t.Helper()
	for ; strings.HasPrefix(dir, os.TempDir()+"/"); dir = filepath.Dir(dir) {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
}
