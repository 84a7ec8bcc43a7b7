package standin_test

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	_ "freshseal/standin/kinds"
	"freshseal/standin/kinds/gear"
	"freshseal/standin/parts"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// factory starts a box with a certificate of its maker.
func factory(t *testing.T, b standin.Box) *standin.Running {
	t.Helper()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Pelorus factory"},
		Ends: time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	b.Dir, b.User, b.Password, b.Secret, b.Address = t.TempDir(), "keeper", "correct horse", "salt", "127.20.83.1"
	if err := standin.Lay(b.Dir, certificate, key); err != nil {
		t.Fatal(err)
	}
	box, err := standin.Start(b)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	return box
}

// client signs in as an administrator does.
func client(t *testing.T, box *standin.Running) *ssh.Client {
	t.Helper()
	c, err := ssh.Dial("tcp", box.SSHAddr,
		&ssh.ClientConfig{User: box.User, Auth: []ssh.AuthMethod{ssh.Password(box.Password)},
			HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
				if key.Type()+" "+ssh.FingerprintSHA256(key) != box.HostKey() {
					return errors.New("another host key")
				}
				return nil
			}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// does runs a command and gives what it printed, errors after the rest.
func does(t *testing.T, box *standin.Running, command string) (string, error) {
	t.Helper()
	session, err := client(t, box).NewSession()
	if err != nil {
		t.Fatal(err)
	}
	var out, errs bytes.Buffer
	session.Stdout, session.Stderr = &out, &errs
	err = session.Run(command)
	return out.String() + errs.String(), err
}

// put lays a file.
func put(t *testing.T, box *standin.Running, file string, content []byte) {
	t.Helper()
	c, err := sftp.NewClient(client(t, box))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	f, err := c.Create(file)
	if err == nil {
		_, err = f.Write(content)
	}
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
}

var prompt = regexp.MustCompile(`([:>#?] |more --|ends it\.\r\n)$`)

// talks types lines into a program, all at once, and gives what it said until it ended.
func talks(t *testing.T, box *standin.Running, program string, lines ...string) string {
	t.Helper()
	session, err := client(t, box).NewSession()
	if err != nil {
		t.Fatal(err)
	}
	if err := session.RequestPty("xterm", 24, 80, ssh.TerminalModes{}); err != nil {
		t.Fatal(err)
	}
	in, err := session.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := session.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if program == "" {
		err = session.Shell()
	} else {
		err = session.Start(program)
	}
	if err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	buffer := make([]byte, 4096)
	for _, line := range append(lines, "\x04") {
		for before := said.Len(); ; { // whoever types waits for the prompt
			n, err := out.Read(buffer)
			said.Write(buffer[:n])
			if err != nil {
				return said.String()
			}
			if said.Len() > before && prompt.MatchString(said.String()) {
				break
			}
		}
		if line != " " { // the key that turns a page
			line += "\r"
		}
		io.WriteString(in, line)
	}
	rest, _ := io.ReadAll(out)
	said.Write(rest)
	return said.String()
}

// signed is a chain of the made-up operator: leaf with its key, issuing, subordinate, root.
type signed struct{ key, leaf, issuing, subordinate, root []byte }

func newSigned(t *testing.T, name string) signed {
	t.Helper()
	now := time.Now()
	root, err := standin.NewAuthority("Quay Root", nil, rand.Reader, now)
	if err != nil {
		t.Fatal(err)
	}
	subordinate, err := standin.NewAuthority("Quay Subordinate", root, rand.Reader, now)
	if err != nil {
		t.Fatal(err)
	}
	issuing, err := standin.NewAuthority("Quay Issuing", subordinate, rand.Reader, now)
	if err != nil {
		t.Fatal(err)
	}
	leaf, key, err := issuing.Issue(standin.Wanted{Subject: pkix.Name{CommonName: name}, Names: []string{name},
		Ends: time.Hour}, rand.Reader, now)
	if err != nil {
		t.Fatal(err)
	}
	return signed{key, leaf, issuing.PEM(), subordinate.PEM(), root.PEM()}
}

func (s signed) chain(parts ...[]byte) []byte { return bytes.Join(parts, nil) }

// serves is the common name of what a box serves, "" for nothing.
func serves(t *testing.T, box *standin.Running) string {
	t.Helper()
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", box.TLSAddr,
		&tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return ""
	}
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0].Subject.CommonName
}

// A manager takes its chain in one order and one form alone, and rolls back whatever else it is given.
func TestAManagerDislikesAllButOneChain(t *testing.T) {
	s, other := newSigned(t, "manager.tidewrack.example"), newSigned(t, "other.tidewrack.example")
	whole := s.chain(s.leaf, s.issuing, s.subordinate, s.root)
	for _, c := range []struct {
		about            string
		chain, key, root []byte
		says, serves     string
	}{
		{"as it wants it", whole, s.key, s.root, "The new certificate is in use", "manager.tidewrack.example"},
		{"authorities in another order", s.chain(s.leaf, s.subordinate, s.issuing, s.root), s.key, s.root,
			"out of order; rolling back", "Pelorus factory"},
		{"the root first", s.chain(s.root, s.leaf, s.issuing, s.subordinate), s.key, s.root,
			"another one's; rolling back", "Pelorus factory"},
		{"without the root", s.chain(s.leaf, s.issuing, s.subordinate), s.key, s.root, "does not end in the root",
			"Pelorus factory"},
		{"another root", whole, s.key, other.root, "does not end in the root", "Pelorus factory"},
		{"the key of another", whole, other.key, s.root, "another one's", "Pelorus factory"},
		{"Windows line ends", bytes.ReplaceAll(whole, []byte("\n"), []byte("\r\n")), s.key, s.root, "line ends",
			"Pelorus factory"},
		{"blank lines between", s.chain(s.leaf, []byte("\n"), s.issuing, s.subordinate, s.root), s.key, s.root,
			"line ends", "Pelorus factory"},
	} {
		t.Run(c.about, func(t *testing.T) {
			box := factory(t, standin.Box{Kind: standin.MenuManager})
			if _, err := does(t, box, "mkdir -p /work"); err != nil {
				t.Fatal(err)
			}
			for file, content := range map[string][]byte{"/work/chain": c.chain, "/work/key": c.key,
				"/work/root": c.root} {
				put(t, box, file, content)
			}
			said := talks(t, box, "trustdesk", "salt", "1", "2", "/work/chain", "/work/key", "/work/root", "y", "b",
				"q")
			if !strings.Contains(said, c.says) || serves(t, box) != c.serves {
				t.Errorf("it serves %q and says\n%s", serves(t, box), said)
			}
			if c.serves == "Pelorus factory" {
				return
			}
			if said = talks(t, box, "trustdesk", "salt", "1", "3", "3", "b", "q"); !strings.Contains(said,
				"in use again") || !strings.Contains(said, "nothing to go back to") ||
				serves(t, box) != "Pelorus factory" {
				t.Errorf("going back, it serves %q and says\n%s", serves(t, box), said)
			}
		})
	}
}

// A menu asks for its password without an echo, hangs up after three wrong ones, and writes key
// and request where it is told.
func TestAMenuAsksAndWrites(t *testing.T) {
	box := factory(t, standin.Box{Kind: standin.MenuManager})
	if said := talks(t, box, "trustdesk", "pepper", "vinegar", "mustard", "salt"); strings.Count(said,
		"Not recognised") != 3 || strings.Contains(said, "certificates") || strings.Contains(said, "pepper") {
		t.Errorf("it says\n%s", said)
	}
	if _, err := does(t, box, "mkdir -p /work"); err != nil {
		t.Fatal(err)
	}
	said := talks(t, box, "trustdesk", "salt", "7", "1", "1", "", "NO", "Quayshire", "Mainquay", "Tidewrack Ferries",
		"consoles", "manager.tidewrack.example", "manager.tidewrack.example, manager", "192.0.2.21", "ec", "/work",
		"y", "b", "q")
	if !strings.Contains(said, "There is no such choice") || !strings.Contains(said, "Written: /work/machine.csr") {
		t.Errorf("it says\n%s", said)
	}
	held, err := box.Holds("/work")
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode([]byte(held["/work/machine.csr"]))
	if block == nil {
		t.Fatalf("it wrote %v", held)
	}
	r, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil || r.CheckSignature() != nil || len(r.DNSNames) != 2 || len(r.IPAddresses) != 1 ||
		r.Subject.Country[0] != "NO" {
		t.Errorf("%v, %+v", err, r)
	}
	if !strings.Contains(held["/work/machine.key"], "PRIVATE KEY") {
		t.Error("it wrote no key")
	}
}

// Gear tells its faults by a number, wants its raised mode, prints long lists page by page, and forgets at the next
// start what was not kept.
func TestGearForgetsWhatWasNotKept(t *testing.T) {
	box := factory(t, standin.Box{Kind: standin.NetworkGear})
	s := newSigned(t, "berth.tidewrack.example")
	said := talks(t, box, "", "entry make x", "nonsense", "raise", "pepper", "raise", "salt", "nonsense",
		"web use none", "show all", " ", " ", "pages off", "show all", "exit")
	for _, want := range []string{"fault 11", "fault 4: wrong word", "fault 1: not understood", "fault 31",
		"-- space: more --", "port 40 lane"} {
		if !strings.Contains(said, want) {
			t.Errorf("it does not say %q:\n%s", want, said)
		}
	}
	said = talks(t, box, "", "raise", "salt", "entry make web-2", "berth.tidewrack.example", "Tidewrack", "piers",
		"Saltmere", "Quayshire", "XA", "berth.tidewrack.example", "entry make web-2", "a", "b", "c", "d", "e", "f",
		"g", "entry paste web-2", strings.ReplaceAll(strings.TrimSpace(string(s.leaf)), "\n", "\r")+"\r.",
		"web use web-2", "exit")
	for _, want := range []string{"-- request of web-2 begins --", "fault 21: the name is taken", "fault 27",
		"fault 32: web server off"} {
		if !strings.Contains(said, want) {
			t.Errorf("it does not say %q:\n%s", want, said)
		}
	}
	if err := gear.Reboot(box); err != nil || serves(t, box) != "Pelorus factory" {
		t.Errorf("after a restart it serves %q, %v", serves(t, box), err)
	}
	if said = talks(t, box, "", "show web", "exit"); !strings.Contains(said, "web server uses factory") {
		t.Errorf("it says\n%s", said)
	}
	session, err := client(t, box).NewSession()
	if err != nil {
		t.Fatal(err)
	}
	if session.Run("cat /flash/kept") == nil {
		t.Error("it has a shell")
	}
}

// A collector does not start with a key that the wrong user owns or that all may read.
func TestACollectorWantsItsOwnerAndMode(t *testing.T) {
	box := factory(t, standin.Box{Kind: standin.Collector})
	for _, c := range []struct {
		command, says string
		fails         bool
	}{
		{"tallyctl state", "up", false}, {"tallyctl start", "", false},
		{"tallyctl stop && tallyctl state", "down", false},
		{"chown root:root /srv/tally/tls/server.key", "", false}, {"tallyctl start", "belongs to root", true},
		{"chown tally:tally /srv/tally/tls/server.key && chmod 0644 /srv/tally/tls/server.key", "", false},
		{"tallyctl start", "mode 644", true},
		{"chmod 0640 /srv/tally/tls/server.key && tallyctl start && tallyctl state", "up", false},
		{"chown tally /srv/tally/tls/none", "no such file", true}, {"tallyctl restart", "usage", true},
	} {
		said, err := does(t, box, c.command)
		if (err != nil) != c.fails || !strings.Contains(said, c.says) {
			t.Errorf("%s: %v, %q", c.command, err, said)
		}
	}
	if serves(t, box) != "Pelorus factory" || parts.IsOff(box) {
		t.Errorf("it serves %q", serves(t, box))
	}
}

// A dashboard takes four pieces, each of its kind, and loses every connection when it does.
func TestADashboardTakesFourPieces(t *testing.T) {
	s, other := newSigned(t, "board.tidewrack.example"), newSigned(t, "other.tidewrack.example")
	box := factory(t, standin.Box{Kind: standin.Dashboard})
	if _, err := does(t, box, "mkdir -p /w"); err != nil {
		t.Fatal(err)
	}
	between := s.chain(s.issuing, s.subordinate)
	for file, content := range map[string][]byte{"/w/key": s.key, "/w/leaf": s.leaf, "/w/root": s.root,
		"/w/between": between, "/w/two": s.chain(s.leaf, s.issuing), "/w/otherkey": other.key} {
		put(t, box, file, content)
	}
	for command, says := range map[string]string{
		"vistactl take /w/key /w/two /w/root /w/between":    "given as the leaf",
		"vistactl take /w/key /w/leaf /w/key /w/between":    "given as the root",
		"vistactl take /w/key /w/leaf /w/leaf /w/between":   "error 1104",
		"vistactl take /w/otherkey /w/leaf /w/root /w/leaf": "error 1101",
		"vistactl take /w/key /w/leaf /w/root":              "usage",
		"vistactl take /w/key /w/leaf /w/root /w/none":      "no such file",
		"vistactl push 192.0.2.99":                          "usage",
	} {
		if said, err := does(t, box, command); err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %v, %q", command, err, said)
		}
	}
	if said, err := does(t, box, "vistactl back"); err != nil || !strings.Contains(said, "nothing was taken") ||
		serves(t, box) != "Pelorus factory" {
		t.Errorf("%v, %q", err, said)
	}
	take := "vistactl take /w/key /w/leaf /w/root /w/between"
	if said, err := does(t, box, take); err == nil {
		t.Errorf("the connection stands: %q", said)
	}
	if said, err := does(t, box, take); err != nil || !strings.Contains(said, "in use already") {
		t.Errorf("once more: %v, %q", err, said)
	}
	for range 50 {
		if serves(t, box) == "board.tidewrack.example" {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Errorf("it serves %q", serves(t, box))
}

// A proxy opens what it may by name and by address, and says no to the rest.
func TestAProxyOpensWhatItMay(t *testing.T) {
	box := factory(t, standin.Box{})
	proxy, err := standin.StartSocks("127.20.83.1", 0, func(address string) (net.Conn, error) {
		if address == "galley.tidewrack.example:443" || address == "192.0.2.7:443" {
			return net.Dial("tcp", box.TLSAddr)
		}
		return nil, errors.New("nothing there")
	})
	if err != nil {
		t.Fatal(err)
	}
	defer proxy.Close()
	ask := func(address ...byte) []byte {
		conn, err := net.Dial("tcp", proxy.Addr)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(5 * time.Second))
		conn.Write(append([]byte{5, 1, 0, 5, 1, 0}, address...))
		answer := make([]byte, 12)
		n, _ := io.ReadFull(conn, answer)
		return answer[:n]
	}
	named := append([]byte{3, 24}, "galley.tidewrack.example"...)
	for about, c := range map[string]struct {
		address []byte
		answer  byte
	}{
		"a name":             {append(named, 1, 187), 0},
		"an address":         {[]byte{1, 192, 0, 2, 7, 1, 187}, 0},
		"another port":       {append(named[:len(named):len(named)], 0, 22), 5},
		"an address for six": {append(append([]byte{4}, make([]byte, 16)...), 1, 187), 8},
	} {
		if answer := ask(c.address...); len(answer) < 4 || answer[3] != c.answer {
			t.Errorf("%s: %v", about, answer)
		}
	}
	if answer := ask(3, 200, 'x'); len(answer) != 2 {
		t.Errorf("half a name is answered with %v", answer)
	}
}
