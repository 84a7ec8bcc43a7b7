package e2e

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509/pkix"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
)

// work is the folder of a replacement on a stand-in; empty: there is none.
func work(t *testing.T, box *standin.Running, id string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(box.Dir, "root/var/lib/freshseal", id+"-*"))
	if err != nil || len(found) > 1 {
		t.Fatal(found, err)
	}
	return strings.Join(found, "")
}

// simulated turns a stand-in on that serves a factory certificate.
func simulated(t testing.TB, b standin.Box) *standin.Running {
	t.Helper()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Brinewell appliance"},
		Names: []string{"appliance.invalid"}, Ends: 1000 * time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if b.Dir == "" {
		b.Dir = t.TempDir()
	}
	if err := standin.Lay(b.Dir, certificate, key); err != nil {
		t.Fatal(err)
	}
	b.User, b.Password, b.Address = "keeper", "correct horse", "127.20.78.1"
	box, err := standin.Start(b)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	return box
}

func (s *server) addSimulated(name string, box *standin.Running, password string) {
	s.t.Helper()
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, tlsPort, _ := net.SplitHostPort(box.TLSAddr)
	s.okWith(password, "device", "add", name, "--address", host, "--family", "web-files-ssh", "--user", "keeper",
		"--port", sshPort,
		"--password-file", "-", "--pin", box.HostKey(), "--slot", "web="+tlsPort)
}

const name = "lamp-3.northholm.tidewrack.example"

// untouched checks that the box serves what it served before and that nothing of
// the replacement is left on it, and that the device can be worked on again.
func (s *server) untouched(box *standin.Running, before slot) {
	s.t.Helper()
	s.run("", "replacement", "cancel", "r1")
	s.run("", "replacement", "clear", "r1") // what was signed is kept for another try
	s.ok("sweep")
	if after := s.show(name + "/web"); after.Certificate.SHA256 != before.Certificate.SHA256 {
		s.t.Errorf("the box serves something else now: %+v", after)
	}
	for _, pattern := range []string{"etc/webui/tls/*.fs-new", "var/lib/freshseal/r1*"} {
		if left, _ := filepath.Glob(filepath.Join(box.Dir, "root", pattern)); len(left) > 0 {
			s.t.Errorf("left on the box: %v", left)
		}
	}
}

// deviceFault is what is wrong with a device, and what is said about it.
type deviceFault struct {
	password string
	faults   standin.Faults
	change   func(*testing.T, *standin.Running) // before the replacement
	want     []string
}

func TestFaultsOfDevicesAreToldAndLeaveNothing(t *testing.T) {
	t.Parallel()
	for about, c := range map[string]deviceFault{
		"a wrong password": {password: "wrong", want: []string{"is held in stage survey", "refuses the " +
			"user's password", "correct the device's user, password or key"}},
		"a device that keeps serving the old certificate": {faults: standin.Faults{KeepServing: true},
			want: []string{"is reverted in stage prove", "the wire still says: it serves “Brinewell appliance”"}},
		"a configuration test that fails": {faults: standin.Faults{FailTest: true},
			want: []string{"is reverted in stage activate", "directive tls on line 4"}},
		"a file that is not where the settings say": {change: func(t *testing.T, box *standin.Running) {
			if err := os.Rename(filepath.Join(box.Dir, "root", standin.KeyFile),
				filepath.Join(box.Dir, "root/etc/webui/tls/moved.pem")); err != nil {
				t.Fatal(err)
			}
		}, want: []string{"is held in stage survey", "correct the settings certificate_file and key_file"}},
	} {
		t.Run(about, func(t *testing.T) {
			t.Parallel()
			c.isTold(t)
		})
	}
}

// It is a test of its own, since its commands wait for their limits for two minutes, and the cases of a test are
// begun last.
func TestADeviceThatHangsIsTold(t *testing.T) {
	t.Parallel()
	deviceFault{faults: standin.Faults{Hang: true}, want: []string{"is held in stage survey", "time limit has passed",
		"see whether the device hangs"}}.isTold(t)
}

// isTold replaces the certificate of a device with the fault, and sees that what is wrong is told and nothing is left.
func (c deviceFault) isTold(t *testing.T) {
	t.Helper()
	box := simulated(t, standin.Box{Faults: c.faults})
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, "web-files-ssh"))
	s.login()
	if c.password == "" {
		c.password = "correct horse"
	}
	s.addSimulated(name, box, c.password)
	s.ok("device", "edit", name, "--family", "quick-web-files-ssh")
	before := s.show(name + "/web")
	if c.change != nil {
		c.change(t, box)
	}
	r := s.fails(1, "r1 of "+name+"/web", "replace", name+"/web", "--signer", "bench", "--watch")
	for _, want := range c.want {
		if !strings.Contains(r.stderr, want) {
			t.Errorf("it does not say %q:\n%s", want, r.stderr)
		}
	}
	s.untouched(box, before)
}

func TestAChangedHostKeyStopsTheWork(t *testing.T) {
	t.Parallel()
	box := simulated(t, standin.Box{SSHPort: 22022})
	s := start(t, "serve", t.TempDir())
	s.login()
	s.addSimulated(name, box, "correct horse")
	before := s.show(name + "/web")
	// Somebody is in between: the same address, another key.
	impostor := box.Box
	_, port, _ := net.SplitHostPort(box.SSHAddr)
	box.Close()
	if err := os.Remove(filepath.Join(box.Dir, "host_key")); err != nil {
		t.Fatal(err)
	}
	impostor.SSHPort, impostor.TLSPort = atoi(t, port), atoi(t, box.TLSAddr[strings.LastIndex(box.TLSAddr, ":")+1:])
	other, err := standin.Start(impostor)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.Close() })
	r := s.fails(1, "the host key has changed", "replace", name+"/web", "--signer", "bench", "--watch")
	for _, want := range []string{box.HostKey(), other.HostKey(), "somebody in between"} {
		if !strings.Contains(r.stderr, want) {
			t.Errorf("it does not say %q:\n%s", want, r.stderr)
		}
	}
	s.untouched(other, before)
}

func TestWrongUseIsExplained(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	dir := t.TempDir()
	write(t, filepath.Join(dir, "photo.cer"), "\x89PNG\r\n\x1a\n")
	write(t, filepath.Join(dir, "bad.procedure.yaml"), "procedure: x\ntitle: y\nlinks: [ssh]\ntraits: {key_types: "+
		"[rsa-2048]}\nsteps:\n  request:\n    - step: a\n      run: echo \"{{replacement}}\"\n      undo: "+
		"nothing\n      capture: request\n  activate:\n    - {file: /x, holds: leaf}\n")
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "unknown command", []string{"slots"}},
		{2, "needs a subcommand: add, chain, edit, history, list, remove, show", []string{"slot"}},
		{2, "is no slot", []string{"slot", "show", gate}},
		{1, "there is no slot", []string{"slot", "show", gate + "/eap"}},
		{1, "no device is called", []string{"device", "show", "nobody"}},
		{1, "it has no family", []string{"replace", "vault.mainquay.tidewrack.example/web", "--signer", "bench"}},
		{1, "no signer is called", []string{"replace", gate + "/web", "--signer", "nobody"}},
		{1, "neither a DNS name nor an IP address", []string{"replace", gate + "/web", "--signer", "bench", "--name",
			"gate; reboot"}},
		{1, "four numbers from 0 to 255", []string{"replace", gate + "/web", "--signer", "bench", "--name",
			"10.0.0.300"}},
		{1, "it begins or ends with a dot", []string{"replace", gate + "/web", "--signer", "bench", "--name", ".."}},
		{1, "four numbers from 0 to 255", []string{"device", "add", "a.tidewrack.example", "--address", "10.0.0.300"}},
		{1, "no replacement is called", []string{"replacement", "show", "r99"}},
		{1, "is not a host key", []string{"device", "add", "a.tidewrack.example", "--address", "192.0.2.99",
			"--family", "web-files-ssh", "--user", "x", "--pin", "x", "--password-file",
			filepath.Join(dir, "photo.cer")}},
		{1, "the host key could not be read", []string{"device", "add", "a.tidewrack.example", "--address",
			"192.0.2.99", "--family", "web-files-ssh", "--user", "x", "--password-file",
			filepath.Join(dir, "photo.cer")}},
		{1, "refuses connections", []string{"read", "--address", "127.0.0.1:1"}},
		{3, "a picture", []string{"inspect", filepath.Join(dir, "photo.cer")}},
		{3, "bad.procedure.yaml:8:18: a value inside quotes",
			[]string{"procedure", "check", filepath.Join(dir, "bad.procedure.yaml")}},
	} {
		s.fails(c.code, c.want, c.args...)
	}
	cmd := exec.Command(program, "serve", "--dir", t.TempDir(), "--listen", strings.TrimPrefix(s.url, "https://"))
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	if err := cmd.Run(); err == nil || !strings.Contains(stderr.String(), "another program does") ||
		!strings.Contains(stderr.String(), "--listen") {
		t.Errorf("a port in use: %v\n%s", err, stderr.String())
	}
}

func TestNobodyIsLetInWithoutSigningIn(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	open := map[string]bool{"GET /healthz": true, "GET /readyz": true, "GET /api/v1/openapi.json": true,
		"GET /api/v1/succession": true}
	http := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	call := func(method, path, cookie, origin string) (int, string) {
		r, err := newRequest(method, s.url+path, cookie, origin)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := http.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(body)
	}
	for _, route := range routes(t, s, http) {
		method, path, _ := strings.Cut(route, " ")
		status, body := call(method, strings.NewReplacer("{", "", "}", "").Replace(path), "", "")
		if route == "GET /calendar/{secret}" { // whose secret is its address
			if status != 404 {
				t.Errorf("a calendar that nobody made answers %d: %s", status, body)
			}
			continue
		}
		if signIn := route == "POST /api/v1/session"; open[route] != (status == 200) || !open[route] && !signIn &&
			status != 401 {
			t.Errorf("%s answers %d: %s", route, status, body)
		}
	}
	// A session cookie is not enough for a change that another site asks for.
	s.login()
	cookie := signInCookie(t, s, http)
	if status, body := call("POST", "/api/v1/sweeps", cookie, "https://elsewhere.example"); status != 401 {
		t.Errorf("a change from elsewhere answers %d: %s", status, body)
	}
	if status, body := call("POST", "/api/v1/sweeps", cookie, s.url); status != 202 {
		t.Errorf("a change from our own pages answers %d: %s", status, body)
	}
	// What is kept gives nothing away.
	password := strings.TrimSpace(strings.SplitN(read(t, filepath.Join(s.dir, "first-sign-in.txt")), "password: ",
		2)[1])
	for _, file := range []string{"freshseal.db", "freshseal.db-wal"} {
		if text := read(t, filepath.Join(s.dir, file)); strings.Contains(text, password) ||
			strings.Contains(text, "PRIVATE KEY") {
			t.Errorf("%s holds a secret in clear", file)
		}
	}
	s.ok("logout")
	s.fails(1, "you are not signed in", "slot", "list")
}
