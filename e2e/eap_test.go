package e2e

import (
	"bufio"
	"crypto/tls"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/standin/daemon"
)

// A real freeradius gets its certificate over SSH. It serves the new one only after a restart,
// and what it serves is read by EAP alone: a replacement whose restart is forgotten is seen, and
// goes back.
func TestARealAccessControlServerIsReplaced(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	again := b.dir + "/again"
	server := daemon.AccessControl{Address: b.address, Chain: b.at("tls/cert.pem"), Key: b.at("tls/key.pem"),
		Root: b.at("tls/cert.pem"), Secret: radiusSecret, TLS: "1.2", Methods: []string{"peap"}}
	port, end := daemon.RADIUS(t, server)
	server.Port = port
	// What restarts services on the box: it looks for a file.
	over := make(chan struct{})
	var init sync.WaitGroup
	init.Go(func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(20 * time.Millisecond):
			}
			if os.Remove(again) == nil {
				end()
				_, end = daemon.RADIUS(t, server)
			}
		}
	})
	t.Cleanup(func() { close(over); init.Wait() })
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-files-ssh"))
	s.login()
	b.add(t, s, "--slot", "eap="+port+"/peap", "--radius-secret-file", write(t, b.dir+"/shared", radiusSecret),
		"--setting", "reload=touch "+again)
	if eap := s.show(realBox + "/eap"); eap.Condition != "factory" ||
		eap.Certificate.SHA256 != s.show(realBox+"/web").Certificate.SHA256 {
		t.Fatalf("before: %+v", eap)
	}
	s.ok("replace", realBox+"/eap", "--signer", "bench", "--watch")
	eap := s.show(realBox + "/eap")
	if eap.Condition != "fresh" || len(eap.Chain) < 3 {
		t.Errorf("after: %s, %d certificates", eap.Condition, len(eap.Chain))
	}
	if out := s.ok("slot", "show", realBox+"/eap"); !strings.Contains(out, ", by peap") ||
		strings.Contains(out, radiusSecret) {
		t.Error(out)
	}
	// The same server, asked without an inventory; and with a wrong secret.
	at := net.JoinHostPort(b.address, port)
	if out := s.okWith(radiusSecret, "read", "--address", at, "--protocol", "peap", "--secret-file", "-",
		"--server-name", realBox); !strings.Contains(out, eap.Certificate.SHA256) {
		t.Error(out)
	}
	s.ok("replacement", "revert", s.newest(realBox), "--yes")
	if back := s.show(realBox + "/eap"); back.Condition != "factory" {
		t.Errorf("after the revert: %+v", back.Condition)
	}
	// The secret was given for this address: it goes nowhere else by an edit alone.
	s.fails(1, "given for another address", "slot", "edit", realBox+"/eap", "--at", "127.20.77.99:"+port)
	s.okWith(radiusSecret, "slot", "edit", realBox+"/eap", "--at", port, "--secret-file", "-")
	// Nobody restarts it: the files are new, and the wire is not.
	s.ok("device", "edit", realBox, "--setting", "reload=touch "+b.dir+"/nobody", "--family", "quick-web-files-ssh")
	s.comesTo(realBox+"/eap", "reverted", "instead of the new leaf", "--signer", "bench")
}

// A slot is added, changed and removed: by STARTTLS it is read and proven as by TLS, a wrong
// protocol is said so, and what a slot needs for EAP alone is refused elsewhere.
func TestASlotReadBySTARTTLS(t *testing.T) {
	t.Parallel()
	b := startBox(t)
	smtp := startSMTP(t, b)
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-files-ssh"))
	s.login()
	b.add(t, s)
	slot := realBox + "/mail"
	if out := s.ok("slot", "add", slot, "--at", smtp); !strings.Contains(out, "unreachable") {
		t.Errorf("SMTP read as TLS:\n%s", out)
	}
	if out := s.ok("slot", "edit", slot, "--protocol", "imap", "--at", smtp); !strings.Contains(out,
		"does not speak imap") {
		t.Errorf("SMTP read as IMAP:\n%s", out)
	}
	if out := s.ok("slot", "edit", slot, "--protocol", "smtp", "--at", smtp); !strings.Contains(out, "factory") ||
		!strings.Contains(out, ", by smtp") {
		t.Errorf("SMTP read as SMTP:\n%s", out)
	}
	s.fails(1, "is not a protocol", "slot", "edit", slot, "--protocol", "gopher")
	s.fails(1, "already exists", "slot", "add", slot, "--protocol", "smtp")
	if r := s.run("word", "slot", "edit", slot, "--secret-file", "-"); r.code != 1 ||
		!strings.Contains(r.stderr, "not read by EAP") {
		t.Errorf("a shared secret for SMTP: %+v", r)
	}
	s.ok("replace", slot, "--signer", "bench", "--watch")
	if s.show(slot).Condition != "fresh" {
		t.Errorf("after: %+v", s.show(slot))
	}
	// An export brings the protocol along, and an import takes it.
	if out := s.ok("device", "export"); !strings.Contains(out, ",smtp,") {
		t.Error(out)
	}
	file := write(t, b.dir+"/import.csv", "name,address,slot,port,protocol\nmail-2.tidewrack.example,"+b.address+
		",smtp,"+smtp+",SMTP\nmail-3.tidewrack.example,"+b.address+",ldap,,ldap\n")
	s.ok("device", "import", file)
	if out := s.ok("device", "show", "mail-3.tidewrack.example"); !strings.Contains(out, ":389 as") ||
		!strings.Contains(out, "by ldap") {
		t.Error(out)
	}
	s.fails(1, "the only slot", "slot", "remove", "mail-3.tidewrack.example/ldap", "--yes")
	s.ok("slot", "remove", slot, "--yes")
	s.fails(1, "there is no slot", "slot", "show", slot)
}

// startSMTP starts a small mail server on the box that says what is needed to come to STARTTLS,
// with the certificate that lies in the box's files at each connection.
func startSMTP(t *testing.T, b box) (port string) {
	t.Helper()
	l, err := net.Listen("tcp", b.address+":0")
	if err != nil {
		t.Fatal(err)
	}
	var open sync.WaitGroup
	t.Cleanup(func() { l.Close(); open.Wait() })
	open.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(5 * time.Second))
				lines := bufio.NewReader(conn)
				for _, say := range []string{"220 ready\r\n", "250-hello\r\n250 STARTTLS\r\n", "220 go\r\n"} {
					io.WriteString(conn, say)
					if say[:4] == "220 " && say != "220 ready\r\n" {
						break
					}
					if _, err := lines.ReadString('\n'); err != nil {
						return
					}
				}
				pair, err := tls.LoadX509KeyPair(b.at("tls/cert.pem"), b.at("tls/key.pem"))
				if err == nil {
					tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{pair}}).Handshake()
				}
			})
		}
	})
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return port
}
