package netconf_test

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/device/links"
	"freshseal/device/netconf"
	"freshseal/standin/daemon"
)

// webServer is the model of the made-up router's web server, in YANG (RFC 7950).
const webServer = `module tidewrack-web-server {
  namespace "urn:tidewrack:web-server";
  prefix tws;
  revision 2026-01-01;
  container web-server {
    leaf asymmetric-key { type string; }
    leaf certificate { type string; }
  }
}
`

// pipe joins both ends of a process.
type pipe struct {
	io.Reader
	io.WriteCloser
}

// A real netconfd: both sides agree on a framing, and the commit on trial is confirmed, taken back,
// and goes back by itself when the session that made it is gone.
func TestARealNETCONFServer(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "tidewrack-web-server.yang"), []byte(webServer), 0o600); err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(dir, "sock")
	daemon.StartSaying(t, "Running netconfd server", "/usr/sbin/netconfd", "--modpath="+dir+
		":/usr/share/yuma/modules", "--no-startup", "--superuser=root", "--port=830", "--target=candidate",
		"--with-validate=true", "--with-startup=false", "--module=tidewrack-web-server", "--ncxserver-sockname="+
			socket, "--log-level=info")
	try := func() (*netconf.Session, func(), error) {
		t.Helper()
		cmd := exec.Command("/usr/sbin/netconf-subsystem", "--ncxserver-sockname=830@"+socket)
		cmd.Env = append(os.Environ(), "USER=root", "SSH_CONNECTION=127.0.0.1 40000 127.0.0.1 830")
		in, err := cmd.StdinPipe()
		if err != nil {
			t.Fatal(err)
		}
		out, err := cmd.StdoutPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Fatal(err)
		}
		end := func() { in.Close(); cmd.Process.Kill(); cmd.Wait() }
		t.Cleanup(end)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		s, err := netconf.Open(ctx, pipe{out, in})
		if err == nil {
			err = s.Check(ctx)
		}
		return s, end, err
	}
	// This server loses a first call that arrives together with the hello: such a session is opened again, as the
	// runner does.
	open := func() (*netconf.Session, func()) {
		t.Helper()
		for tries := 1; ; tries++ {
			s, end, err := try()
			if err == nil {
				return s, end
			}
			if end(); tries == 3 || !errors.Is(err, links.ErrLost) {
				t.Fatal(err)
			}
		}
	}
	call := func(s *netconf.Session, content string) (string, error) {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		text, err := s.Call(ctx, content)
		return string(text), err
	}
	must := func(s *netconf.Session, contents ...string) {
		t.Helper()
		for _, content := range contents {
			if text, err := call(s, content); err != nil {
				t.Fatalf("%s: %s %v", content, text, err)
			}
		}
	}
	edit := func(key string) string {
		return `<edit-config><target><candidate/></target><config><web-server xmlns="urn:tidewrack:web-server"><asymmetric-key>` + key + `</asymmetric-key></web-server></config></edit-config>`
	}
	running := `<get-config><source><running/></source><filter><web-server xmlns="urn:tidewrack:web-server"/></filter></get-config>`
	uses := func(s *netconf.Session, want string) {
		t.Helper()
		if text, err := call(s, running); err != nil || !strings.Contains(text, ">"+want+"<") {
			t.Errorf("not %s is used: %s %v", want, text, err)
		}
	}
	s, _ := open()
	must(s, "<lock><target><candidate/></target></lock>", edit("factory"), "<commit/>")
	uses(s, "factory")
	// On trial, and confirmed.
	must(s, edit("web-r1"), "<commit><confirmed/><confirm-timeout>60</confirm-timeout><persist>r1</persist></commit>")
	uses(s, "web-r1")
	must(s, "<commit><persist-id>r1</persist-id></commit>")
	// On trial, and taken back.
	must(s, edit("web-r2"), "<commit><confirmed/><confirm-timeout>60</confirm-timeout><persist>r2</persist></commit>")
	uses(s, "web-r2")
	must(s, "<cancel-commit><persist-id>r2</persist-id></cancel-commit>")
	uses(s, "web-r1")
	// Another session cannot change what this one has locked.
	other, endOther := open()
	var refused netconf.Error
	if _, err := call(other, edit("web-x")); !errors.As(err, &refused) {
		t.Errorf("the candidate is locked, and another session changes it: %v", err)
	}
	endOther()
	if _, err := call(s, "<nonsense/>"); !errors.As(err, &refused) {
		t.Errorf("an unknown operation: %v", err)
	}
	// On trial, and the session is gone: without persist the server goes back at once (RFC 6241,
	// 8.4.1). With persist this server, 2.13, never does: its timeout counts for nothing.
	must(s, edit("web-r3"), "<commit><confirmed/><confirm-timeout>2</confirm-timeout></commit>",
		"<unlock><target><candidate/></target></unlock>")
	uses(s, "web-r3")
	s.Close(t.Context())
	last, _ := open()
	for range 60 {
		if text, _ := call(last, running); strings.Contains(text, ">web-r1<") {
			return
		}
		time.Sleep(200 * time.Millisecond)
	}
	t.Error("the commit on trial stays although nobody confirmed it")
}
