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
	"crypto/rand"
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
	Watch       Watch            // is told of everything that is asked of the box; may be nil
}

// Kind is what a box is like on a terminal.
type Kind string

// The kinds.
const (
	MenuManager Kind = "menu manager" // everything happens in a text menu
	NetworkGear Kind = "network gear" // a command line of its own, and no shell
	BareHost    Kind = "bare host"    // maintenance, and agents that restart
	PlantRoom   Kind = "plant room"   // one combined file, a configuration, and a reboot
	StopServer  Kind = "stop server"  // its settings can be changed only while its server is off
	Collector   Kind = "collector"    // two files under fixed names, read only when its service starts
	StagedVault Kind = "staged vault" // files are staged, and a menu applies them
	Dashboard   Kind = "dashboard"    // the first of several nodes, with a tool that carries on to the others
)

// Forward opens a connection onwards, to what an SSH client wants to reach
// through the box.
type Forward func(address string) (net.Conn, error)

// Hosts finds a box that stands under another one by its name or address, or nil.
type Hosts func(name string) *Running

// Watch is told of a command, a file operation or a handshake before the box
// does it and once it is done, in words. Where it answers false before, the box
// does not do it, as if it had never been asked.
type Watch func(what string, done bool) (carryOut bool)

// watched does something under the eyes of Watch.
func (r *Running) watched(what string, do func()) {
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
	MoreAddr string // of the second listener, where there is one
	Plain    string // address of the page over plain HTTP, of a server that must be stopped

	RADIUSAddr string // where it speaks EAP, over UDP

	root    *os.Root
	hostKey ssh.Signer
	serving atomic.Pointer[tls.Certificate]
	eap     atomic.Pointer[tls.Certificate] // over EAP
	radius  *radiusServer
	tested  atomic.Pointer[tls.Certificate] // by the second listener, where it is one for tests
	ssh     net.Listener
	web     net.Listener
	more    net.Listener
	plain   net.Listener
	work    sync.WaitGroup
	lock    sync.Mutex
	conns   map[net.Conn]struct{}
	closed  bool
	dropped atomic.Bool // DropUpload has happened
	faults  atomic.Pointer[Faults]

	soon      *Faults // that begin once it was asked soonAfter more things
	soonAfter int

	usual    atomic.Pointer[tls.Certificate] // what was served when its faults were set: they meet what comes after it
	stopped  stopped
	gearLock sync.Mutex
	gear     *gear // what network gear runs with; nil: as it was kept
	shellOn  atomic.Bool
	owners   sync.Map // of files, where they were changed
	webs     webState
	routes   routing
	away     atomic.Bool // something in front answers in its place
	mux      *http.ServeMux
	mast     mastTrial // of a signal mast
}

// SetFaults has other things go wrong from now on. What happens once may happen once more.
func (r *Running) SetFaults(f Faults) {
	r.faults.Store(&f)
	if pair := r.serving.Load(); pair != nil {
		r.usual.Store(pair)
	}
	r.dropped.Store(false)
	r.webs.lock.Lock()
	defer r.webs.lock.Unlock()
	r.webs.fails, r.webs.calls = nil, 0
}

// faulty is what goes wrong now.
// now is the time by the box's clock.
func (r *Running) now() time.Time {
	if r.Box.Now == nil {
		return time.Now()
	}
	return r.Box.Now()
}

func (r *Running) faulty() Faults { return *r.faults.Load() }

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
	r := &Running{Box: b, root: root, conns: map[net.Conn]struct{}{}}
	r.SetFaults(b.Faults)
	if err := r.start(); err != nil {
		r.Close()
		return nil, fmt.Errorf("starting the stand-in in %s: %w", b.Dir, err)
	}
	return r, nil
}

func (r *Running) start() error {
	if err := r.startWeb(); err != nil || r.User == "" {
		return err
	}
	var err error
	if r.hostKey, err = openHostKey(filepath.Join(r.Dir, "host_key"), orSystem(r.Random)); err != nil {
		return err
	}
	if r.ssh, err = listen(r.Address, r.SSHPort); err != nil {
		return err
	}
	r.SSHAddr = r.ssh.Addr().String()
	r.SwitchShell(!r.ShellOff)
	r.accept(r.ssh, func(conn net.Conn) {
		if r.ShellOn() {
			r.serveSSH(conn)
		}
	})
	return nil
}

// startWeb turns the web server on; a box that only forwards has none.
func (r *Running) startWeb() error {
	if r.Forward != nil {
		return nil
	}
	if err := r.load(); err != nil {
		return err
	}
	if r.Kind == StagedVault {
		if err := r.root.MkdirAll(inside(stage), 0o700); err != nil {
			return err
		}
	}
	if r.Kind == Collector {
		if err := r.layTally(); err != nil {
			return err
		}
		if err := r.loadFrom(tallyFolder+"/server.crt", tallyFolder+"/server.key"); err != nil {
			return err
		}
	}
	if r.Kind == PlantRoom {
		if err := r.layPlant(); err != nil {
			return err
		}
		if pair, err := r.plantPair(); err == nil {
			r.serving.Store(pair)
		}
	}
	if r.Kind == BareHost {
		if err := r.lay(map[string][]byte{bootID: []byte(rand.Text() + "\n")}); err != nil {
			return err
		}
	}
	if r.Kind == SiteServer {
		if err := r.laySite(); err != nil {
			return err
		}
	}
	if r.Kind == Router {
		r.factoryObject()
	}
	if made := webKinds[r.Kind]; made != nil {
		r.mux = made(r)
	}
	if err := r.startEAP(); err != nil {
		return err
	}
	var err error
	if r.web, err = listen(r.Address, r.TLSPort); err != nil {
		return err
	}
	r.TLSAddr = r.web.Addr().String()
	if r.Kind == StopServer {
		if r.plain, err = listen(r.Address, 0); err != nil {
			return err
		}
		r.Plain = r.plain.Addr().String()
		r.accept(r.plain, r.servePlain)
	}
	r.accept(r.web, func(conn net.Conn) { r.watched("handshake", func() { r.serveTLS(conn, r.serving.Load()) }) })
	if r.MorePort != 0 {
		if r.more, err = listen(r.Address, r.MorePort); err != nil {
			return err
		}
		r.MoreAddr = r.more.Addr().String()
		r.accept(r.more, func(conn net.Conn) {
			pair := r.tested.Load()
			if pair == nil {
				pair = r.serving.Load()
			}
			r.serveTLS(conn, pair)
		})
	}
	return nil
}

// listen takes the wanted port or, where it is taken, any; and 127.0.0.1 where
// the system has no other loopback address.
func listen(address string, port int) (net.Listener, error) {
	l, err := net.Listen("tcp", net.JoinHostPort(address, fmt.Sprint(port)))
	if err != nil {
		l, err = net.Listen("tcp", net.JoinHostPort(address, "0"))
	}
	if err != nil {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	return l, err
}

// accept hands every connection to serve and keeps count, so that Close can
// end them all.
func (r *Running) accept(l net.Listener, serve func(net.Conn)) {
	r.work.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			if !r.keep(conn) {
				return
			}
			r.work.Go(func() {
				defer r.forget(conn)
				serve(conn)
			})
		}
	})
}

func (r *Running) keep(conn net.Conn) bool {
	r.lock.Lock()
	defer r.lock.Unlock()
	if r.closed {
		conn.Close()
		return false
	}
	r.conns[conn] = struct{}{}
	return true
}

func (r *Running) forget(conn net.Conn) {
	r.lock.Lock()
	defer r.lock.Unlock()
	conn.Close()
	delete(r.conns, conn)
}

// Drop ends every connection to the box at once, as a broken line does.
func (r *Running) Drop() { r.drop() }

// drop ends every connection to the box at once.
func (r *Running) drop() {
	r.lock.Lock()
	defer r.lock.Unlock()
	for conn := range r.conns {
		conn.Close()
	}
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
	r.work.Wait()
	return errors.Join(append(errs, r.root.Close())...)
}

// HostKey is the box's SSH host key as it is pinned: "TYPE SHA256:…".
func (r *Running) HostKey() string {
	key := r.hostKey.PublicKey()
	return key.Type() + " " + ssh.FingerprintSHA256(key)
}

// Meddle puts another certificate and key onto the box behind everybody's back,
// and has the web server serve them.
func (r *Running) Meddle(certificate, key []byte) error {
	if err := r.root.WriteFile(inside(KeyFile), key, 0o600); err != nil {
		return err
	}
	if err := r.root.WriteFile(inside(CertificateFile), certificate, 0o644); err != nil {
		return err
	}
	return r.load()
}

// load reads certificate and key as the web server does when it starts.
func (r *Running) load() error {
	certificate, err := r.root.ReadFile(inside(CertificateFile))
	if err != nil {
		return err
	}
	key, err := r.root.ReadFile(inside(KeyFile))
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
	r.serve(pair, key)
	return nil
}

// serve serves a pair, as far as faults let it: a restart with another key than the delivered
// one may never end, and the intermediates may be left out.
func (r *Running) serve(pair tls.Certificate, key []byte) {
	switch {
	case r.faulty().NeverBack && r.changedKey(key):
		r.serving.Store(nil)
		return
	case r.faulty().LeafAlone && r.Kind != Dashboard && r.changedKey(key): // which leaves out its nodes instead
		pair.Certificate = pair.Certificate[:1]
	}
	r.serving.Store(&pair)
}

func (r *Running) serveTLS(conn net.Conn, pair *tls.Certificate) {
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	if pair == nil {
		return // restarting
	}
	server := tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{*pair}, MinVersion: tls.VersionTLS12})
	if server.Handshake() != nil {
		return
	}
	if r.mux != nil {
		r.serveWeb(server, r.mux)
		server.Close()
		return
	}
	if r.Pages {
		r.pages(server)
		server.Close()
		return
	}
	buffer := make([]byte, 1024)
	server.Read(buffer)
	fmt.Fprint(server, "HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\n\r\nTidewrack Ferries\n")
	server.Close()
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
