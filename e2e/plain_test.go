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

// A real apache serves its pages over plain HTTP alone, and gets its first certificate: the site that serves HTTPS is
// switched on with it. Plain HTTP then leads to HTTPS, stays, or is closed, as is set; where it does otherwise the
// work goes back until nothing listens there, twice. A later replacement goes back to the certificate before, and
// reverting the first one switches HTTPS off again.
func TestTheFirstHTTPSAndWhatPlainHTTPDoes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := box{dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
		webPort: daemon.FreePort(t, boxAddress), keyFile: filepath.Join(dir, "ssh", "id")}
	b.startSSH(t)
	b.layFactory(t)
	plain := daemon.FreePort(t, boxAddress)
	apache := "/usr/sbin/apache2 -d " + b.at("") + " -f " + b.at("httpd.conf")
	for _, folder := range []string{"enabled", "tls/new", "pages"} {
		os.MkdirAll(b.at(folder), 0o755)
	}
	write(t, b.at("httpd.conf"), "ServerRoot "+b.at("")+"\nServerName "+realBox+"\nPidFile "+b.at("pid")+
		"\nErrorLog /dev/stderr\nDefaultRuntimeDir "+b.at("")+"\nUser nobody\nLoadModule mpm_event_module "+
		"/usr/lib/apache2/modules/mod_mpm_event.so\nLoadModule authz_core_module "+
		"/usr/lib/apache2/modules/mod_authz_core.so\nLoadModule alias_module "+
		"/usr/lib/apache2/modules/mod_alias.so\nLoadModule ssl_module "+
		"/usr/lib/apache2/modules/mod_ssl.so\nSSLSessionCache none\nMutex file:"+b.at("")+" default\nInclude "+
		b.at("plain.conf")+"\nIncludeOptional "+b.at("enabled")+"/*.conf\n")
	write(t, b.at("plain.conf"), "Listen "+b.address+":"+plain+"\n<VirtualHost *:"+plain+">\n\tIncludeOptional "+
		b.at("enabled")+"/*.lead\n\tRedirect 204 /\n</VirtualHost>\n")
	write(t, b.at("site.conf"), "Listen "+b.address+":"+b.webPort+"\n<VirtualHost *:"+b.webPort+
		">\n\tSSLEngine on\n\tSSLCertificateFile /none\n\tSSLCertificateKeyFile /none\n</VirtualHost>\n")
	write(t, b.at("lead"), "Redirect permanent / https://"+realBox+"/\n")
	script(t, b.at("enable"), "ln -sf "+b.at("site.conf")+" "+b.at("enabled/site.conf")+"; test ! -f "+b.at("leads")+
		" || cp "+b.at("lead")+" "+b.at("enabled/plain.lead"))
	script(t, b.at("disable"), "rm -f "+b.at("enabled/site.conf")+" "+b.at("enabled/plain.lead"))
	script(t, b.at("state"), "test -e "+b.at("enabled/site.conf")+" || echo off")
	script(t, b.at("reload"), "kill -USR1 $(cat "+b.at("pid")+")")
	daemon.Start(t, net.JoinHostPort(b.address, plain), "/usr/sbin/apache2",
		append(strings.Fields(apache)[1:], "-D", "FOREGROUND")...)

	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-site-ssh"))
	s.login()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	slot := realBox + "/web"
	args := []string{"device", "add", realBox, "--address", b.address, "--family", "quick-web-site-ssh", "--user",
		who.Username, "--port", b.sshPort, "--key-file", b.keyFile,
		"--passphrase-file", write(t, filepath.Join(b.dir, "passphrase"), passphrase), "--pin", b.hostKey, "--slot",
		"web=" + b.webPort}
	for _, setting := range []string{"work_folder=" + b.at("work"), "site=" + b.at("site.conf"), "certificate=" +
		b.at("tls/new/site.pem"), "key_file=" + b.at("tls/new/site.key"), "enable=" + b.at("enable"), "disable=" +
		b.at("disable"),
		"enabled=" + b.at("state"), "test=" + apache + " -t", "reload=" + b.at("reload"), "plain=http://" +
			b.address + ":" + plain + "/"} {
		args = append(args, "--setting", setting)
	}
	s.ok(args...)
	listens := func() bool {
		conn, err := net.Dial("tcp", net.JoinHostPort(b.address, b.webPort))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}
	set := func(what string, leads bool) {
		t.Helper()
		s.ok("device", "edit", realBox, "--setting", "plain_does="+what)
		if os.Remove(b.at("leads")); leads {
			write(t, b.at("leads"), "")
		}
	}
	s.fails(1, "If this is its first certificate", "replace", slot, "--signer", "bench")
	s.ok("replacement", "cancel", s.newest(realBox))
	site := read(t, b.at("site.conf"))
	for _, c := range []struct {
		does  string
		leads bool
	}{{"leads", false}, {"closed", false}, {"stays", true}} { // what is set is not what the server does
		set(c.does, c.leads)
		s.run("", "replace", slot, "--signer", "bench", "--unseen")
		id := s.newest(realBox)
		if s.rests(id, "reverted", "held") != "reverted" || listens() || read(t, b.at("site.conf")) != site ||
			!strings.Contains(s.progress(id).Why, "plain HTTP") {
			t.Fatalf("plain HTTP should be what is set (%s), and listening is %v:\n%s", c.does, listens(),
				s.ok("replacement", "show", id))
		}
	}
	set("leads", true)
	s.ok("replace", slot, "--signer", "bench", "--unseen", "--watch")
	first := s.newest(realBox)
	s.rests(first, "sealed")
	if got := s.show(slot); got.Condition != "fresh" {
		t.Errorf("it is %s: %v", got.Condition, got.Findings)
	}
	stood := leafAt(t, net.JoinHostPort(b.address, b.webPort))
	set("closed", true)
	s.run("", "replace", slot, "--signer", "bench")
	if id := s.newest(realBox); s.rests(id, "reverted", "held") != "reverted" ||
		string(leafAt(t, net.JoinHostPort(b.address, b.webPort))) != string(stood) {
		t.Errorf("the second one does not go back to the first:\n%s", s.ok("replacement", "show", id))
	}
	s.ok("replacement", "revert", first, "--yes")
	if s.rests(first, "reverted", "held") != "reverted" || listens() {
		t.Errorf("reverting the first one leaves HTTPS on: %v\n%s", listens(), s.ok("replacement", "show", first))
	}
	set("stays", false)
	s.ok("replace", slot, "--signer", "bench", "--unseen")
	s.rests(s.newest(realBox), "sealed")
}
