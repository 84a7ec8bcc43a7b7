package e2e

import (
	"errors"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/device/links"
	"freshseal/device/ssh"
	"freshseal/standin"
	"freshseal/standin/daemon"
)

// realLink is a link to a real sshd, with the folder of its box.
func realLink(t *testing.T) (*ssh.Link, string) {
	t.Helper()
	dir := t.TempDir()
	b := box{dir: dir, address: boxAddress, sshPort: daemon.FreePort(t, boxAddress),
		keyFile: filepath.Join(dir, "ssh", "id")}
	b.startSSH(t)
	link, err := ssh.Open(t.Context(), (&net.Dialer{}).DialContext, b.target(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { link.Close() })
	return link, dir
}

// A box that never stops printing is cut off, on both streams, before it has filled
// the memory.
func TestEndlessOutputIsCutOff(t *testing.T) {
	t.Parallel()
	for _, command := range []string{"yes tide", "yes tide >&2", "cat /dev/zero"} {
		link, _ := realLink(t)
		out, err := link.Exec(t.Context(), command, nil)
		if !errors.Is(err, links.ErrFlood) || len(out.Stdout)+len(out.Stderr) > 2<<20 {
			t.Errorf("%s: %v, %d bytes", command, err, len(out.Stdout)+len(out.Stderr))
		}
	}
}

// What a command leaves behind is ended with it, whatever it does against that: it
// ignores signals, forks without end, closes its streams or goes into the background.
func TestNothingOfACommandSurvives(t *testing.T) {
	t.Parallel()
	link, dir := realLink(t)
	if err := os.MkdirAll(filepath.Join(dir, "run"), 0o700); err != nil {
		t.Fatal(err)
	}
	for name, command := range map[string]string{
		"ignores":    "trap '' TERM HUP INT; while :; do sleep 0.3; date >> MARK; done",
		"background": "(while :; do sleep 0.3; date >> MARK; done) & sleep 30",
		"closed":     "exec >&- 2>&- <&-; while :; do sleep 0.3; date >> MARK; done",
		"child": "sh -c 'trap \"\" TERM; " +
			"while :; do sleep 0.3; date >> MARK; done'; true",
		"forks": "f() { sleep 0.3; date >> MARK; f & }; f; sleep 30",
	} {
		mark := filepath.Join(dir, "mark-"+name)
		folder := filepath.Join(dir, "run", name)
		_, err := link.Run(t.Context(), folder, strings.ReplaceAll(command, "MARK", mark), nil, 2*time.Second)
		if !errors.Is(err, links.ErrTimeLimit) {
			t.Errorf("%s: %v", name, err)
		}
		if err := link.End(t.Context(), folder, nil); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		was := read(t, mark)
		time.Sleep(1200 * time.Millisecond)
		if now := read(t, mark); now != was {
			t.Errorf("%s: it goes on", name)
		}
		if stands, _, err := link.State(t.Context(), folder); err != nil || stands != ssh.Stopped {
			t.Errorf("%s: it is %s, %v", name, stands, err)
		}
	}
	// What came to its end is known afterwards, with all that it said.
	folder := filepath.Join(dir, "run/ended")
	if _, err := link.Run(t.Context(), folder, "cat; echo oops >&2; exit 7", []byte("tide\n"),
		5*time.Second); err != nil {
		t.Fatal(err)
	}
	if stands, out, err := link.State(t.Context(), folder); err != nil || stands != ssh.Ended || out.Exit != 7 ||
		string(out.Stdout) != "tide\n" || string(out.Stderr) != "oops\n" {
		t.Errorf("%s %+v %v", stands, out, err)
	}
	// Asked after before it began, it never begins.
	late := filepath.Join(dir, "run/late")
	if stands, _, err := link.State(t.Context(), late); err != nil || stands != ssh.Never {
		t.Errorf("%s %v", stands, err)
	}
	if out, err := link.Run(t.Context(), late, "touch "+filepath.Join(dir, "begun"), nil, time.Second); err == nil {
		t.Errorf("it ran all the same: %+v", out)
	}
	if _, err := os.Stat(filepath.Join(dir, "begun")); err == nil {
		t.Error("a command that never was to begin did")
	}
}

// Secrets of a procedure go where they must and are seen nowhere else: not in the
// journal, an answer of the API, the log, a rehearsal, or the database.
func TestSecretsOfAProcedureAreSealed(t *testing.T) {
	t.Parallel()
	const secret, token = "salt-and-tar-7", "token-of-the-box-9"
	folder := t.TempDir()
	write(t, filepath.Join(folder, "secretive.procedure.yaml"), `procedure: secretive
title: A box with a password of its own
links: [ssh]
settings:
  pin: {kind: secret, about: the box's password}
  key_file: {kind: path, about: x, default: /etc/webui/tls/key.pem}
traits: {key_types: [ecdsa-p256], restart_limit: 5s}
steps:
  request:
    - use: key-and-request-by-openssl
  install:
    - {step: write the password, file: "{{before}}/pin", holds: "pin={{pin}}\n"}
    - {step: show it, run: "cat {{before}}/pin", undo: nothing}
    - {step: sign in, run: cat /etc/token, undo: nothing, capture: {token: {match: "[a-z0-9-]+", secret: true}}}
    - {step: use the token, run: cat, stdin: "pin {{pin}}, token {{token}}", undo: nothing}
  activate:
    - {step: key, file: key_file, holds: new_key}
    - {step: certificate, file: /etc/webui/tls/certificate.pem, holds: leaf_first}
    - {step: reload, run: webui reload, undo: again}
`)
	box := simulated(t, standin.Box{})
	write(t, filepath.Join(box.Dir, "root/etc/token"), token+"\n")
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder)
	s.login()
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "secretive", "--setting", "pin="+secret)
	rehearsal := s.ok("replace", name+"/web", "--signer", "bench", "--rehearse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	if pin := read(t, filepath.Join(work(t, box, "r1"), "before/pin")); pin != "pin="+secret+"\n" {
		t.Errorf("the box got %q", pin)
	}
	shown := rehearsal + s.ok("replacement", "show", "r1", "--as", "json") + s.ok("device", "show", name, "--as",
		"json") + s.ok("device", "export") + s.ok("audit", "list") + s.log.String()
	for _, file := range []string{"freshseal.db", "freshseal.db-wal"} {
		shown += read(t, filepath.Join(s.dir, file))
	}
	for _, word := range []string{secret, token} {
		if strings.Contains(shown, word) {
			t.Errorf("%q is seen somewhere", word)
		}
	}
	if !strings.Contains(shown, "pin ••••••, token ••••••") {
		t.Error("what a step printed of them is not masked")
	}
}

// A site whose jump host is silent delays no other site.
func TestASilentJumpHostDelaysNoOtherSite(t *testing.T) {
	t.Parallel()
	silent, err := net.Listen("tcp", "127.20.79.9:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close() // it takes connections and never says a word
	jump := box{dir: t.TempDir(), address: "127.20.77.3", sshPort: daemon.FreePort(t, "127.20.77.3")}
	jump.startSSH(t)
	target := simulated(t, standin.Box{})
	s := start(t, "serve", t.TempDir())
	s.login()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(silent.Addr().String())
	key := []string{"--user", who.Username, "--key-file", filepath.Join(jump.dir, "ssh", "id"), "--passphrase-file",
		write(t, filepath.Join(jump.dir, "passphrase"), passphrase)}
	s.ok(append([]string{"site", "add", "Petrel", "--jump", "127.20.79.9", "--port", port, "--pin", jump.hostKey},
		key...)...)
	s.ok(append([]string{"site", "add", "Turnstone", "--jump", jump.address, "--port", jump.sshPort, "--pin",
		jump.hostKey}, key...)...)
	host, tlsPort, _ := net.SplitHostPort(target.TLSAddr)
	for _, site := range []string{"petrel", "turnstone"} {
		s.run("", "device", "add", "bridge."+site+".tidewrack.example", "--address", host, "--site",
			map[string]string{"petrel": "Petrel", "turnstone": "Turnstone"}[site], "--slot", "web="+tlsPort)
	}
	done := make(chan struct{})
	go func() { s.run("", "read", "bridge.petrel.tidewrack.example/web"); close(done) }()
	time.Sleep(300 * time.Millisecond)
	s.fails(3, "factory", "read", "bridge.turnstone.tidewrack.example/web")
	select {
	case <-done:
		t.Error("the other site was read only after the silent one")
	default:
	}
	<-done
}
