package notify_test

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/core/auditfile"
	"freshseal/core/judgement/notice"
	"freshseal/core/testkit"
	"freshseal/notify"
	"freshseal/standin/daemon"
)

const here = "127.20.92.1"

// papers are a key and a self-signed certificate in files of a folder that others may enter, and the certificate's
// fingerprint.
func papers(t *testing.T) (dir, chain, key, pin string) {
	t.Helper()
	dir = t.TempDir()
	for d := dir; strings.HasPrefix(d, os.TempDir()+"/"); d = filepath.Dir(d) {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "post.quay.tidewrack.example")
	der, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
	if err != nil {
		t.Fatal(err)
	}
	chain, key = filepath.Join(dir, "chain.pem"), filepath.Join(dir, "key.pem")
	for file, block := range map[string]*pem.Block{chain: {Type: "CERTIFICATE", Bytes: leaf.Raw},
		key: {Type: "PRIVATE KEY", Bytes: der}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	sum := sha256.Sum256(leaf.Raw)
	return dir, chain, key, hex.EncodeToString(sum[:])
}

// reads waits until a file has a text.
func reads(t *testing.T, file, text string) string {
	t.Helper()
	for range 200 {
		if got, err := os.ReadFile(file); err == nil && strings.Contains(string(got), text) {
			return string(got)
		}
		time.Sleep(50 * time.Millisecond)
	}
	got, err := os.ReadFile(file)
	t.Fatalf("%s has no %q: %v\n%s", filepath.Base(file), text, err, got)
	return ""
}

// nasty is a message that tries what texts of devices might: lines that end a message, headers, and 8 bits.
func nasty() notice.Message {
	item := notice.Item{ID: "n1", Rule: "expired\r\nBcc: everybody@quay.tidewrack.example", Slot: `box "7"]/web`,
		Site: "Gannet Point", Kind: "notice", Condition: "expired", Subject: "CN=Möwe", Why: "expired\r\n.\r\nQUIT",
		Next: "replace it"}
	return notice.Message{ID: "m1", At: time.Now(), Service: "the quay", URL: "https://seal.quay.tidewrack.example",
		Items: []notice.Item{item}}
}

// postfix takes mail by STARTTLS from those who sign in, whose passwords dovecot knows. What arrives is one message
// that says everything.
func TestARealPostfixTakesMail(t *testing.T) {
	t.Parallel()
	dir, chain, key, pin := papers(t)
	const password = "sand & shingle \"42\""
	sasl, port := daemon.FreePort(t, here), daemon.FreePort(t, here)
	if os.Geteuid() == 0 {
		for name, text := range map[string]string{
			"users": "seal:{PLAIN}" + password + "\n",
			"dovecot.conf": "protocols =\nbase_dir = " + dir + "/run\nstate_dir = " + dir + "/state\nlog_path = " +
				"/dev/stderr\nssl = no\nlisten = " + here + "\nauth_mechanisms = plain login\npassdb {\n driver = " +
				"passwd-file\n args = " + dir + "/users\n}\nuserdb {\n driver = static\n args = uid=nobody " +
				"gid=nogroup home=/nonexistent\n}\nservice anvil {\n chroot =\n}\nservice auth {\n inet_listener " +
				"{\n  port = " + sasl + "\n }\n}\n",
		} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		daemon.Start(t, net.JoinHostPort(here, sasl), "/usr/sbin/dovecot", "-F", "-c",
			filepath.Join(dir, "dovecot.conf"))
	}
	daemon.Postfix(t, dir, here, port, "myhostname = post.quay.tidewrack.example\nmynetworks "+
		"=\nsmtpd_tls_chain_files = "+key+", "+chain+"\nsmtpd_tls_security_level = may\nsmtpd_tls_auth_only = "+
		"yes\nsmtpd_sasl_auth_enable = yes\nsmtpd_sasl_type = dovecot\nsmtpd_sasl_path = inet:"+
		net.JoinHostPort(here, sasl)+
		"\nsmtpd_recipient_restrictions = permit_sasl_authenticated, reject\n")
	c := notify.Channel{Kind: notify.Mail, Address: here, Security: notify.StartTLS, Pin: pin, User: "seal",
		From: "Fresh Seal <seal@quay.tidewrack.example>", To: []string{"noc@quay.tidewrack.example"}}
	c.Port, _ = strconv.Atoi(port)
	sender := notify.Sender{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Name: "the quay"}
	send := func(c notify.Channel, password string) error {
		return sender.Send(t.Context(), c, password, c.Group(""), nasty())
	}
	if err := send(c, password); err != nil {
		t.Fatal(err)
	}
	got := reads(t, filepath.Join(dir, "mail/box"), "Message-ID: <m1@quay.tidewrack.example>")
	if strings.Count(got, "\nFrom ") != 0 || strings.Contains(got, "\nBcc:") ||
		!strings.Contains(got, "https://seal.quay.tidewrack.example") || !strings.Contains(got, "replace it") {
		t.Errorf("postfix delivered\n%s", got)
	}
	// Who does not know the password, or meets another server than the pinned one, sends nothing.
	if err := send(c, "guess"); err == nil || strings.Contains(err.Error(), "guess") {
		t.Errorf("a wrong password: %v", err)
	}
	c.Pin = strings.Repeat("0", 64)
	if err := send(c, password); err == nil || !strings.Contains(err.Error(), "another certificate") {
		t.Errorf("another certificate: %v", err)
	}
	if again, _ := os.ReadFile(filepath.Join(dir, "mail/box")); string(again) != got {
		t.Errorf("more was delivered:\n%s", again)
	}
}

// rsyslogd reads the lines over TLS as they are meant: severity, structured data, message.
func TestARealSyslogServerTakesLines(t *testing.T) {
	t.Parallel()
	dir, chain, key, pin := papers(t)
	port := daemon.FreePort(t, here)
	conf := filepath.Join(dir, "rsyslog.conf")
	out := filepath.Join(dir, "out")
	if err := os.WriteFile(conf, []byte("global(workDirectory=\""+dir+"\" defaultNetstreamDriver=\"ossl\" "+
		"defaultNetstreamDriverCAFile=\""+chain+"\" defaultNetstreamDriverCertFile=\""+chain+
		"\" defaultNetstreamDriverKeyFile=\""+key+"\")\n"+
		"module(load=\"imtcp\" streamDriver.name=\"ossl\" streamDriver.mode=\"1\" "+
		"streamDriver.authMode=\"anon\")\ninput(type=\"imtcp\" address=\""+here+"\" port=\""+port+"\")\n"+
		"template(name=\"seen\" type=\"string\" "+
		"string=\"%syslogseverity%|%app-name%|%msgid%|%structured-data%|%msg%\\n\")\n*.* "+
		"action(type=\"omfile\" file=\""+out+"\" template=\"seen\")\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	daemon.Start(t, net.JoinHostPort(here, port), "/usr/sbin/rsyslogd", "-n", "-f", conf, "-i",
		filepath.Join(dir, "pid"))
	c := notify.Channel{Kind: notify.Syslog, Address: here, Security: notify.TLS, Pin: pin}
	c.Port, _ = strconv.Atoi(port)
	sender := notify.Sender{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Name: "the quay"}
	m := nasty()
	m.Items = append(m.Items, notice.Item{ID: "n2", Kind: notice.Trial, Slot: "box-8/web", Why: "due soon"})
	if err := sender.Send(context.WithoutCancel(t.Context()), c, "", "", m); err != nil {
		t.Fatal(err)
	}
	got := reads(t, out, "due soon")
	// Entries of the audit log: it closes behind the last one, and their numbers and texts are as they are.
	entries := []auditfile.Entry{{ID: 7, At: time.Now(), Who: "ann", What: `did "it"]`, About: "r1\n<13>forged",
		Through: `token 1 "x"`, Address: "192.0.2.1", Hash: "ab"}, {ID: 8, At: time.Now(), Who: "freshseal",
		What: "the last one", Hash: "cd"}}
	if err := sender.Entries(context.WithoutCancel(t.Context()), c, entries); err != nil {
		t.Fatal(err)
	}
	read := reads(t, out, "the last one")
	if !strings.Contains(read, `5|freshseal|audit|[audit@32473 number="7" who="ann" what="did \"it\"\]" about="r1`) ||
		!strings.Contains(read, `number="8"`) || strings.Contains(read, "\n<13>") {
		t.Errorf("rsyslogd read\n%s", read)
	}
	var ours []string
	for lines := bufio.NewScanner(strings.NewReader(got)); lines.Scan(); {
		if strings.Contains(lines.Text(), "|freshseal|") {
			ours = append(ours, lines.Text())
		}
	}
	if len(ours) != 2 || !strings.HasPrefix(ours[0], "3|freshseal|notice|[notice@32473 id=\"n1\" message=\"m1\"") ||
		!strings.Contains(ours[0], `slot="box \"7\"\]/web"`) || !strings.Contains(ours[0], "QUIT") {
		t.Errorf("rsyslogd read\n%s", got)
	}
}
