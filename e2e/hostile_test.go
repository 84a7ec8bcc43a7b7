package e2e

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509/pkix"
	"net"
	"os/exec"
	"strings"
	"testing"
	"time"

	"freshseal/core/terminal/visible"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

// evil is a name that would forge the client's own words on a terminal.
const evil = "gate\r\n\x1b[2J\x1b[HSHA-256 is right\u202e\u009b31m"

// evilServer serves a certificate with that name.
func evilServer(t *testing.T) string {
	t.Helper()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: evil},
		Names: []string{"gate.invalid"}, Ends: 1000 * time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		t.Fatal(err)
	}
	l, err := tls.Listen("tcp", "127.20.78.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	daemon.Serve(t, l, func(conn net.Conn) { conn.(*tls.Conn).Handshake() })
	return l.Addr().String()
}

// acts finds what acts on a terminal in a client's output, its own line ends apart.
func acts(text string) bool {
	return strings.ContainsFunc(strings.NewReplacer("\r\n", "", "\n", "").Replace(text), visible.Acts)
}

// A certificate whose name is made of escape sequences cannot forge what the client
// says: not in a table, in CSV or JSON, nor in the question of login.
func TestWhatForeignersWriteIsNeverTerminalText(t *testing.T) {
	t.Parallel()
	at := evilServer(t)
	host, port, _ := net.SplitHostPort(at)
	s := start(t, "serve", t.TempDir())
	s.login()
	s.ok("device", "add", name, "--address", host, "--slot", "web="+port, "--notes", evil, "--owner", "=HYPERLINK(1)")
	s.okWith("", "device", "edit", name, "--tag", "+cmd")
	for _, command := range [][]string{
		{"slot", "show", name + "/web"}, {"slot", "list"}, {"device", "show", name},
		{"read", "--address", at, "--server-name", "gate.invalid"}, {"device", "list"}, {"due"}, {"audit", "list"},
	} {
		for _, as := range []string{"table", "csv", "json"} {
			r := s.run("", append(command, "--as", as)...)
			if r.code != 0 && r.code != 3 || acts(r.stdout) || acts(r.stderr) {
				t.Errorf("%v --as %s: exit code %d\n%q", command, as, r.code, r.stdout)
			}
		}
	}
	var shown struct {
		Certificate struct{ Subject string }
	}
	s.json(&shown, "slot", "show", name+"/web")
	if !strings.Contains(shown.Certificate.Subject, "\u202e") {
		t.Errorf("JSON does not carry the name as it is: %q", shown.Certificate.Subject)
	}
	if r := s.run("", "replace", evil+"/web", "--signer", "bench"); r.code == 0 || acts(r.stderr) ||
		strings.Count(r.stderr, "\n") > 3 {
		t.Errorf("an error about a foreign name: %q", r.stderr)
	}

	// The question of login has the SHA-256 first and alone, on a real terminal.
	ask := exec.Command("script", "-qec", program+" --config "+t.TempDir()+"/c.yaml login https://"+at, "/dev/null")
	ask.Stdin = strings.NewReader("n\n")
	out, _ := ask.CombinedOutput()
	text := string(out)
	if !strings.Contains(text, "not confirmed") || acts(text) {
		t.Fatalf("the question: %q", text)
	}
	first := strings.Index(text, "SHA-256 of the certificate")
	if name := strings.Index(text, "It calls itself"); first < 0 || name < first ||
		strings.Count(text[:name], "SHA-256") != 1 {
		t.Errorf("the question does not begin with the SHA-256 alone: %q", text)
	}
}

// Who may not connect somewhere does not: not to read, and not through a device.
func TestForbiddenNetworksAreNotConnectedTo(t *testing.T) {
	t.Parallel()
	at := evilServer(t)
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--never-connect", "127.20.78.0/24")
	s.login()
	s.fails(1, "the administrator forbids 127.20.78.0/24", "read", "--address", at, "--server-name", "gate.invalid")
	host, port, _ := net.SplitHostPort(at)
	s.ok("device", "add", name, "--address", host, "--slot", "web="+port)
	if out := s.run("", "slot", "show", name+"/web"); !strings.Contains(out.stdout, "unreachable") ||
		!strings.Contains(out.stdout, "forbids") {
		t.Errorf("a device in a forbidden network: %+v", out)
	}
	if out := s.ok("audit", "list", "--as", "csv"); !strings.Contains(out, "127.20.78.1 port "+port) {
		t.Errorf("the audit log does not have the reading of an address outside the fleet:\n%s", out)
	}
}
