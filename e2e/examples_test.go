package e2e

import (
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/standin/daemon"
)

// The examples of the documents, on the real servers that they are for: from the
// certificate that a box was delivered with to sealed, by its real reload, and back.
func TestTheExamplesWorkOnRealServers(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, family string
		prepare      func(t *testing.T, b *box) (settings []string, command []string)
	}{
		{"lighttpd", "web-site-ssh", func(t *testing.T, b *box) ([]string, []string) {
			// The factory's lines, one of them commented out: the edit sets them.
			write(t, b.at("lighttpd.conf"), "server.modules = (\"mod_openssl\")\nserver.document-root = \""+b.at("")+
				"\"\nserver.bind = \""+b.address+"\"\nserver.port = "+b.webPort+"\nserver.pid-file = \""+b.at("pid")+
				"\"\nssl.engine = \"enable\"\nssl.pemfile = \""+b.at("tls/both.pem")+"\" # delivered\n#ssl.privkey "+
				"= \"none\"\n")
			write(t, b.at("tls/both.pem"), read(t, b.at("tls/cert.pem"))+read(t, b.at("tls/key.pem")))
			script(t, b.at("reload"), "kill -USR1 $(cat "+b.at("pid")+")")
			return []string{"server=lighttpd", "site=" + b.at("lighttpd.conf"), "certificate=" +
					b.at("tls/new/chain.pem"), "key_file=" + b.at("tls/new/key.pem"),
					"test=/usr/sbin/lighttpd -tt -f " + b.at("lighttpd.conf"), "reload=" + b.at("reload")},
				[]string{"/usr/sbin/lighttpd", "-D", "-f", b.at("lighttpd.conf")}
		}},
		{"nginx", "web-site-ssh", func(t *testing.T, b *box) ([]string, []string) {
			// The key's directive is commented out: the delivered file holds both.
			write(t, b.at("tls/both.pem"), read(t, b.at("tls/cert.pem"))+read(t, b.at("tls/key.pem")))
			write(t, b.at("nginx.conf"), "worker_processes 1;\npid nginx.pid;\nevents {}\nhttp {\n access_log "+
				"off;\n client_body_temp_path t1;\n proxy_temp_path t2;\n fastcgi_temp_path t3;\n uwsgi_temp_path "+
				"t4;\n scgi_temp_path t5;\n include site.conf;\n}\n")
			write(t, b.at("site.conf"), "# delivered\nserver {\n  listen "+b.address+":"+b.webPort+
				" ssl;\n  ssl_certificate "+b.at("tls/both.pem")+"; # both\n  #ssl_certificate_key none;\n  "+
				"ssl_certificate_key "+b.at("tls/both.pem")+";\n  return 200 ok;\n}\n")
			return []string{"server=nginx", "site=" + b.at("site.conf"), "certificate=" + b.at("tls/new/site.pem"),
					"key_file=" + b.at("tls/new/site.key"), "test=" + b.nginx() + "-t", "reload=" + b.nginx() +
						"-s reload"},
				[]string{"/usr/sbin/nginx", "-p", b.at(""), "-c", "nginx.conf", "-e", "stderr", "-g", "daemon off;"}
		}},
		{"apache", "web-site-ssh", func(t *testing.T, b *box) ([]string, []string) {
			// Three directives, one of them commented out, and one of an older time; the site is enabled by a link.
			write(t, b.at("httpd.conf"), "ServerRoot "+b.at("")+"\nServerName "+realBox+"\nPidFile "+b.at("pid")+
				"\nErrorLog /dev/stderr\nDefaultRuntimeDir "+b.at("")+"\nUser nobody\nLoadModule mpm_event_module "+
				"/usr/lib/apache2/modules/mod_mpm_event.so\nLoadModule authz_core_module "+
				"/usr/lib/apache2/modules/mod_authz_core.so\nLoadModule ssl_module "+
				"/usr/lib/apache2/modules/mod_ssl.so\nListen "+b.address+":"+b.webPort+"\nSSLSessionCache "+
				"none\nMutex file:"+b.at("")+" default\nIncludeOptional "+b.at("enabled")+"/*.conf\n")
			write(t, b.at("site.conf"), "# delivered\n<VirtualHost *:"+b.webPort+">\n\tDocumentRoot "+b.at("tls")+
				"\n\tSSLEngine on\n\tSSLCertificateFile\t"+b.at("tls/cert.pem")+"\n\tSSLCertificateKeyFile "+
				b.at("tls/key.pem")+"\n\t#SSLCertificateChainFile /none\n</VirtualHost>\n# the end")
			os.MkdirAll(b.at("enabled"), 0o755)
			os.Symlink(b.at("site.conf"), b.at("enabled/site.conf"))
			script(t, b.at("enable"), "ln -sf "+b.at("site.conf")+" "+b.at("enabled/site.conf"))
			apache := "/usr/sbin/apache2 -d " + b.at("") + " -f " + b.at("httpd.conf")
			script(t, b.at("reload"), "kill -USR1 $(cat "+b.at("pid")+")")
			return []string{"site=" + b.at("site.conf"), "certificate=" + b.at("tls/new/site.pem"), "key_file=" +
					b.at("tls/new/site.key"), "enable=" + b.at("enable"), "test=" + apache + " -t", "reload=" +
					b.at("reload")},
				append(strings.Fields(apache), "-D", "FOREGROUND")
		}},
		{"short", "jetty-web", func(t *testing.T, b *box) ([]string, []string) {
			write(t, b.at("nginx.conf"), "worker_processes 1;\npid nginx.pid;\nevents {}\nhttp {\n access_log "+
				"off;\n client_body_temp_path t1;\n proxy_temp_path t2;\n fastcgi_temp_path t3;\n uwsgi_temp_path "+
				"t4;\n scgi_temp_path t5;\n server { listen "+b.address+":"+b.webPort+" ssl; ssl_certificate "+
				b.at("tls/cert.pem")+"; ssl_certificate_key "+b.at("tls/key.pem")+"; return 200 ok; }\n}\n")
			return []string{"certificate_file=" + b.at("tls/cert.pem"), "key_file=" + b.at("tls/key.pem"),
					"owner=root", "test=" + b.nginx() + "-t", "reload=" + b.nginx() + "-s reload"},
				[]string{"/usr/sbin/nginx", "-p", b.at(""), "-c", "nginx.conf", "-e", "stderr", "-g", "daemon off;"}
		}},
		{"one file", "pier-web", func(t *testing.T, b *box) ([]string, []string) {
			write(t, b.at("lighttpd.conf"), "server.modules = (\"mod_openssl\")\nserver.document-root = \""+b.at("")+
				"\"\nserver.bind = \""+b.address+"\"\nserver.port = "+b.webPort+"\nserver.pid-file = \""+b.at("pid")+
				"\"\nssl.engine = \"enable\"\nssl.pemfile = \""+b.at("tls/both.pem")+"\"\n")
			write(t, b.at("tls/both.pem"), read(t, b.at("tls/cert.pem"))+read(t, b.at("tls/key.pem")))
			script(t, b.at("reload"), "kill -USR1 $(cat "+b.at("pid")+")")
			return []string{"bundle=" + b.at("tls/both.pem"), "key_file=" + b.at("tls/both.pem"), "reload=" +
					b.at("reload")},
				[]string{"/usr/sbin/lighttpd", "-D", "-f", b.at("lighttpd.conf")}
		}},
		{"mosquitto", "mosquitto", func(t *testing.T, b *box) ([]string, []string) {
			write(t, b.at("mosquitto.conf"), "user root\npid_file "+b.at("pid")+"\nlistener "+b.webPort+" "+b.address+
				"\nallow_anonymous true\ncertfile "+b.at("tls/cert.pem")+"\nkeyfile "+b.at("tls/key.pem")+"\n")
			return []string{"certificate=" + b.at("tls/cert.pem"), "key_file=" + b.at("tls/key.pem"), "pid_file=" +
					b.at("pid")},
				[]string{"/usr/sbin/mosquitto", "-c", b.at("mosquitto.conf")}
		}},
		{"dovecot", "dovecot", func(t *testing.T, b *box) ([]string, []string) {
			write(t, b.at("ssl.conf"), "ssl = required\nssl_cert = <"+b.at("tls/cert.pem")+"\nssl_key = <"+
				b.at("tls/key.pem")+"\n")
			write(t, b.at("dovecot.conf"), "base_dir = "+b.at("run")+"\nstate_dir = "+b.at("run")+
				"\nlog_path = /dev/stderr\nprotocols = imap\nlisten = "+b.address+"\nservice anvil {\n  chroot "+
				"=\n}\nservice imap-login {\n  chroot =\n  inet_listener imap {\n    port = 0\n  }\n  "+
				"inet_listener imaps {\n    port = "+b.webPort+"\n    ssl = yes\n  }\n}\npassdb {\n  driver = "+
				"static\n  args = nopassword\n}\nuserdb {\n  driver = static\n  args = uid=1000 gid=1000 home="+
				b.at("")+"\n}\n!include ssl.conf\n")
			return []string{"config=" + b.at("ssl.conf"), "main=" + b.at("dovecot.conf"), "certificate=" +
					b.at("tls/chain.pem"), "key_file=" + b.at("tls/new.pem")},
				[]string{"/usr/sbin/dovecot", "-F", "-c", b.at("dovecot.conf")}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			if os.Geteuid() != 0 && c.family == "dovecot" {
				t.Skip("dovecot wants to be started as root")
			}
			dir := t.TempDir()
			b := box{dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
				webPort: daemon.FreePort(t, boxAddress), keyFile: filepath.Join(dir, "ssh", "id")}
			b.startSSH(t)
			b.layFactory(t)
			settings, command := c.prepare(t, &b)
			os.MkdirAll(b.at("tls/new"), 0o700)
			before := map[string]string{}
			for _, file := range []string{"lighttpd.conf", "ssl.conf", "site.conf", "tls/cert.pem", "tls/key.pem",
				"tls/both.pem"} {
				if text, err := os.ReadFile(b.at(file)); err == nil {
					before[file] = string(text)
				}
			}
			daemon.Start(t, net.JoinHostPort(b.address, b.webPort), command[0], command[1:]...)

			s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", "../docs/examples")
			s.login()
			who, err := user.Current()
			if err != nil {
				t.Fatal(err)
			}
			args := []string{"device", "add", realBox, "--address", b.address, "--family", c.family, "--user",
				who.Username, "--port", b.sshPort, "--key-file", b.keyFile,
				"--passphrase-file", write(t, filepath.Join(b.dir, "passphrase"), passphrase), "--pin", b.hostKey,
				"--slot", "web=" + b.webPort, "--setting", "work_folder=" + b.at("work")}
			for _, setting := range settings {
				args = append(args, "--setting", setting)
			}
			s.ok(args...)
			factory := s.show(realBox + "/web").Certificate.SHA256
			if c.name == "lighttpd" { // its configuration is edited: what would change can be seen before
				out := s.ok("replace", realBox+"/web", "--signer", "bench", "--rehearse", "--differences")
				if !strings.Contains(out, "+ssl.pemfile") && !strings.Contains(out, "+  ssl.pemfile") &&
					!strings.Contains(out, "+    ssl.pemfile") {
					t.Errorf("the rehearsal shows no difference:\n%s", out)
				}
				s.fails(2, "--rehearse", "replace", realBox+"/web", "--signer", "bench", "--differences")
			}
			if out := s.ok("replace", realBox+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out,
				"r1: sealed\n") {
				t.Fatal(out)
			}
			shown := must(t, "Q\n", "openssl", "s_client", "-connect", net.JoinHostPort(b.address, b.webPort),
				"-servername", realBox, "-showcerts")
			if n := strings.Count(shown, "-----BEGIN CERTIFICATE-----"); n != 3 {
				t.Errorf("%d certificates are served instead of leaf and two intermediates", n)
			}
			s.ok("replacement", "revert", "r1", "--yes")
			if now := s.show(realBox + "/web").Certificate.SHA256; now != factory {
				t.Error("the factory certificate is not back")
			}
			for file, text := range before {
				if now := read(t, b.at(file)); now != text {
					t.Errorf("%s is not as before:\n%s", file, now)
				}
			}
			if left, _ := os.ReadDir(b.at("tls/new")); len(left) > 0 {
				t.Errorf("files that were not there before are left: %v", left)
			}
		})
	}
}
