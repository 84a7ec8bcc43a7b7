// Package standin holds simulated devices, as careful as the real thing: a box
// has an SSH server with a shell and files, and a TLS listener that serves what
// lies in its files. It runs no command of the machine it stands on.
//
//	box, err := standin.Start(standin.Box{Dir: dir, …})
//	defer box.Close()
//
// Boxes are used by the demo and by tests, never by the service itself.
package standin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// Where a box keeps what its web server reads.
const (
	CertificateFile = "/etc/webui/tls/certificate.pem"
	KeyFile         = "/etc/webui/tls/key.pem"
)

// Box says what a simulated device is like.
type Box struct {
	Dir         string           // its state; made when missing
	User        string           // who may sign in over SSH; empty: no SSH at all
	Password    string           // of that user
	Address     string           // to listen on, such as 127.20.2.11
	SSHPort     int              // wanted; another one where it is taken
	TLSPort     int              // likewise
	MorePort    int              // of a second listener that serves the same certificate; 0: none
	Faults      Faults           // what goes wrong on purpose, from the start; see SetFaults
	Restart     time.Duration    // how long the web server is away on a reload
	OnlyReboots bool             // a bare host: its agents take a new certificate only when the host is rebooted
	ShellOff    bool             // SSH is off until somebody switches it on
	Old         bool             // knows no SSH key exchange and cipher but broken ones
	Asks        bool             // asks for the password (keyboard-interactive) instead of taking it unasked
	Kind        Kind             // what it is like on a terminal; empty: a shell alone
	Secret      string           // the word that its menu or its raised mode asks for
	Pages       bool             // has a web page on which certificates are exchanged by hand
	KeyGone     bool             // its page gives the key away with the request, and wants it back
	Forward     Forward          // makes it a jump host; may be nil
	Hosts       Hosts            // those under it, or its further nodes; may be nil
	System      string           // the name that it has been given, of a traversal peer
	WebUser     string           // who may sign in to its web interface, where it has one
	WebPassword string           // of that user
	Shared      string           // what it shares with network devices; empty: it speaks no EAP
	RADIUSPort  int              // wanted for that; another one where it is taken
	Random      io.Reader        // of its host key; nil: the system's
	Now         func() time.Time // its clock; nil: the system's
	Watch       Watch            // is reported everything that is asked of the box; may be nil
}

// Forward opens a connection onwards, to what an SSH client wants to reach
// through the box.
type Forward func(address string) (net.Conn, error)

// Hosts finds a box that stands under another one by its name or address, or nil.
type Hosts func(name string) *Running

// Watch is reported a command, a file operation or a handshake before the box
// does it and once it is done, in words. Where it answers false before, the box
// does not do it, as if it had never been asked.
type Watch func(what string, done bool) (carryOut bool)

// Watched does something under the eyes of Watch.
func (r *Running) Watched(what string, do func()) {
	r.counted(what)
	if r.Watch == nil {
		do()
		return
	}
	if r.Watch(what, false) {
		do()
		r.Watch(what, true)
	}
}

// Faults are what a box can do wrong on purpose.
type Faults struct {
	KeepServing        bool // reload says yes and the old certificate stays
	FailTest           bool // the configuration test fails once new files are there
	Hang               bool // commands never end
	Silent             bool // a prompt never comes
	OtherPrompt        bool // prompts are worded otherwise
	RollBack           bool // takes a new certificate back by itself, late
	DiskFull           bool // no room in /etc, outside the work folder
	ReadOnly           bool // nothing can be written in /etc
	StaysInMaintenance bool // does not leave maintenance
	NeverBack          bool // a reboot never ends
	StuckStop          bool // its server never stops unless it is stopped hard
	PlainStays         bool // its page over plain HTTP never leads to HTTPS
	LeafAlone          bool // serves the leaf without the intermediates
	SessionLost        bool // the third call finds no session
	StaleToken         bool // the first change is refused because its token is too old
	ServerError        bool // the first question is answered with an error of the server
	Gateway            bool // something in front answers with 502 while it restarts
	LoopAround         bool // every page leads to itself
	OneNode            bool // what is done does not reach the other nodes
	NeverDone          bool // a task never ends
	Forgets            bool // it restarts before a task is done, and knows nothing of it then
	ThirdCertificate   bool // it serves a certificate that nobody asked for
	DropUpload         bool // the connection is lost in the middle of the first upload
}

// Running is a box that is on.
type Running struct {
	Box
	SSHAddr  string // 127.20.2.11:2222, empty without SSH
	TLSAddr  string
	MoreAddr string // of the second listener, if there is one
	Plain    string // address of the page over plain HTTP, of a server that must be stopped

	RADIUSAddr string // where it speaks EAP, over UDP

	Root    *os.Root
	hostKey ssh.Signer
	Serving atomic.Pointer[tls.Certificate]
	Eap     atomic.Pointer[tls.Certificate] // over EAP
	radius  *radiusServer
	Tested  atomic.Pointer[tls.Certificate] // by the second listener, where it is one for tests
	ssh     net.Listener
	web     net.Listener
	more    net.Listener
	plain   net.Listener
	Work    sync.WaitGroup
	lock    sync.Mutex
	conns   map[net.Conn]struct{}
	closed  bool
	dropped atomic.Bool // DropUpload has happened
	faults  atomic.Pointer[Faults]

	soon      *Faults // that begin once it was asked soonAfter more things
	soonAfter int

	usual   atomic.Pointer[tls.Certificate] // what was served when its faults were set: they meet what comes after it
	shellOn atomic.Bool
	Owners  sync.Map // of files, where they were changed
	Webs    WebState
	away    atomic.Bool // something in front answers in its place
	mux     *http.ServeMux
	states  sync.Map // of its kind, by their type; see StateOf
}

// SetFaults has other things go wrong from now on. What happens once may happen once more.
func (r *Running) SetFaults(f Faults) {
	r.faults.Store(&f)
	if pair := r.Serving.Load(); pair != nil {
		r.usual.Store(pair)
	}
	r.dropped.Store(false)
	r.Webs.Lock.Lock()
	defer r.Webs.Lock.Unlock()
	r.Webs.fails, r.Webs.calls = nil, 0
}

// Now returns the time by the box's clock.
func (r *Running) Now() time.Time {
	if r.Box.Now == nil {
		return time.Now()
	}
	return r.Box.Now()
}

// Faulty returns what goes wrong now.
func (r *Running) Faulty() Faults { return *r.faults.Load() }

// Start turns a box on. Its folder must hold the certificate and key that the
// web server is to serve; see Lay.
func Start(b Box) (*Running, error) {
	folder := filepath.Join(b.Dir, "root")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	r := &Running{Box: b, Root: root, conns: map[net.Conn]struct{}{}}
	r.SetFaults(b.Faults)
	if err := r.start(); err != nil {
		r.Close()
		return nil, fmt.Errorf("starting the stand-in in %s: %w", b.Dir, err)
	}
	return r, nil
}

func (r *Running) start() error {
	if err := (server{r}).startWeb(); err != nil || r.User == "" {
		return err
	}
	var err error
	if r.hostKey, err = openHostKey(filepath.Join(r.Dir, "host_key"), OrSystem(r.Random)); err != nil {
		return err
	}
	if r.ssh, err = listen(r.Address, r.SSHPort); err != nil {
		return err
	}
	r.SSHAddr = r.ssh.Addr().String()
	r.SwitchShell(!r.ShellOff)
	server{r}.accept(r.ssh, func(conn net.Conn) {
		if r.ShellOn() {
			server{r}.serveSSH(conn)
		}
	})
	return nil
}

// startWeb turns the web server on; a box that only forwards has none.
func (r server) startWeb() error {
	if r.Forward != nil {
		return nil
	}
	if err := r.Load(); err != nil {
		return err
	}
	made, known := makes[r.Kind]
	if !known {
		return fmt.Errorf("no kind %q is registered: import freshseal/standin/kinds", r.Kind)
	}
	if made.Start != nil {
		if err := made.Start(r.Running); err != nil {
			return err
		}
	}
	if made.Web != nil {
		r.mux = made.Web(r.Running)
	}
	if err := r.startEAP(); err != nil {
		return err
	}
	var err error
	if r.web, err = listen(r.Address, r.TLSPort); err != nil {
		return err
	}
	r.TLSAddr = r.web.Addr().String()
	if made.Plain != nil {
		if r.plain, err = listen(r.Address, 0); err != nil {
			return err
		}
		r.Plain = r.plain.Addr().String()
		r.accept(r.plain, func(conn net.Conn) { made.Plain(r.Running, conn) })
	}
	r.accept(r.web, func(conn net.Conn) { r.Watched("handshake", func() { r.serveTLS(conn, r.Serving.Load()) }) })
	if r.MorePort != 0 {
		if r.more, err = listen(r.Address, r.MorePort); err != nil {
			return err
		}
		r.MoreAddr = r.more.Addr().String()
		r.accept(r.more, func(conn net.Conn) {
			pair := r.Tested.Load()
			if pair == nil {
				pair = r.Serving.Load()
			}
			r.serveTLS(conn, pair)
		})
	}
	return nil
}

// Close turns the box off and waits until nothing of it is left.
func (r *Running) Close() error {
	r.lock.Lock()
	r.closed = true
	for conn := range r.conns {
		conn.Close()
	}
	r.lock.Unlock()
	var errs []error
	for _, l := range []net.Listener{r.ssh, r.web, r.more, r.plain} {
		if l != nil {
			errs = append(errs, l.Close())
		}
	}
	if r.radius != nil {
		errs = append(errs, r.radius.conn.Close())
	}
	r.Work.Wait()
	return errors.Join(append(errs, r.Root.Close())...)
}

// HostKey returns the box's SSH host key as it is pinned: "TYPE SHA256:…".
func (r *Running) HostKey() string {
	key := r.hostKey.PublicKey()
	return key.Type() + " " + ssh.FingerprintSHA256(key)
}

// Meddle puts another certificate and key onto the box behind everybody's back,
// and has the web server serve them.
func (r *Running) Meddle(certificate, key []byte) error {
	if err := r.Root.WriteFile(Inside(KeyFile), key, 0o600); err != nil {
		return err
	}
	if err := r.Root.WriteFile(Inside(CertificateFile), certificate, 0o644); err != nil {
		return err
	}
	return r.Load()
}

// Load reads certificate and key as the web server does when it starts.
func (r *Running) Load() error {
	certificate, err := r.Root.ReadFile(Inside(CertificateFile))
	if err != nil {
		return err
	}
	key, err := r.Root.ReadFile(Inside(KeyFile))
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return err
	}
	if r.usual.Load() == nil {
		r.usual.Store(&pair)
	}
	r.Serve(pair, key)
	return nil
}

// Serve serves a pair, as far as faults let it: a restart with another key than the delivered
// one may never end, and the intermediates may be left out.
func (r *Running) Serve(pair tls.Certificate, key []byte) {
	switch {
	case r.Faulty().NeverBack && r.ChangedKey(key):
		r.Serving.Store(nil)
		return
	case r.Faulty().LeafAlone && !makes[r.Kind].LeavesOut && r.ChangedKey(key): // which leaves out its nodes instead
		pair.Certificate = pair.Certificate[:1]
	}
	r.Serving.Store(&pair)
}

// Lay puts the certificate and key of a web server into a box's folder, unless
// some lie there already.
func Lay(dir string, certificate, key []byte) error {
	folder := filepath.Join(dir, "root", filepath.Dir(CertificateFile))
	if _, err := os.Stat(filepath.Join(dir, "root", CertificateFile)); err == nil {
		return nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "root", KeyFile), key, 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "root", CertificateFile), certificate, 0o644)
}
