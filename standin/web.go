package standin

import (
	"bufio"
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"
)

// webKinds are the boxes with a web interface of their own, and what each does at which
// address.
var webKinds = map[Kind]func(*Running) *http.ServeMux{}

// webState is what a web interface remembers.
type webState struct {
	lock     sync.Mutex
	sessions map[string]string // the cookie or token of each, and its anti-forgery word
	calls    int               // that needed a session
	tasks    map[string]*task
	fails    map[string]bool // faults that happened once
	first    string          // the fingerprint that was shown first
}

// once says that a fault happens now, and not again.
func (s *webState) once(fault bool, name string) bool {
	s.lock.Lock()
	defer s.lock.Unlock()
	if !fault || s.fails[name] {
		return false
	}
	if s.fails == nil {
		s.fails = map[string]bool{}
	}
	s.fails[name] = true
	return true
}

// open opens a session and returns its id and anti-forgery word.
func (s *webState) open() (id, guard string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.sessions == nil {
		s.sessions = map[string]string{}
	}
	id, guard = rand.Text(), rand.Text()
	s.sessions[id] = guard
	return id, guard
}

func (s *webState) close(id string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	delete(s.sessions, id)
}

// forget ends all sessions.
func (s *webState) forget() {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.sessions = nil
}

// knows says whether a session is open, and its anti-forgery word.
func (s *webState) knows(id string) (guard string, known bool) {
	s.lock.Lock()
	defer s.lock.Unlock()
	guard, known = s.sessions[id]
	return guard, known
}

// Sessions is how many sessions are open on the box's web interface.
func (r *Running) Sessions() int {
	r.webs.lock.Lock()
	defer r.webs.lock.Unlock()
	return len(r.webs.sessions)
}

// recorder takes an answer until it is whole.
type recorder struct {
	header http.Header
	body   bytes.Buffer
	status int
}

func (w *recorder) Header() http.Header         { return w.header }
func (w *recorder) Write(b []byte) (int, error) { return w.body.Write(b) }
func (w *recorder) WriteHeader(status int)      { w.status = status }

// serveWeb answers one call.
func (r *Running) serveWeb(conn *tls.Conn, mux *http.ServeMux) {
	call, err := http.ReadRequest(bufio.NewReader(conn))
	if err != nil {
		return
	}
	call.Body = http.MaxBytesReader(nil, call.Body, mostPage)
	w := &recorder{header: http.Header{}, status: http.StatusOK}
	answered := false
	r.watched(call.Method+" "+call.URL.Path, func() {
		answered = true
		switch {
		case r.webs.once(r.faulty().ServerError && call.Method == http.MethodGet && call.URL.Path != "/",
			"server error"):
			http.Error(w, "internal error", http.StatusInternalServerError)
		case r.faulty().LoopAround && call.Method == http.MethodGet:
			http.Redirect(w, call, call.URL.Path, http.StatusFound)
		case r.away.Load():
			http.Error(w, "bad gateway", http.StatusBadGateway)
		default:
			mux.ServeHTTP(w, call)
		}
	})
	if !answered {
		return
	}
	fmt.Fprintf(conn, "HTTP/1.1 %d %s\r\n", w.status, http.StatusText(w.status))
	w.header.Set("Content-Length", fmt.Sprint(w.body.Len()))
	w.header.Set("Connection", "close")
	w.header.Set("Server", strings.ReplaceAll(string(r.Kind), " ", "-")+"/3.2")
	w.header.Set("Date", time.Now().UTC().Format(http.TimeFormat))
	w.header.Write(conn)
	io.WriteString(conn, "\r\n")
	conn.Write(w.body.Bytes())
}

// guarded are calls that only who is signed in may make: sid gives the session's id, and
// guard the anti-forgery word that a call which changes something must carry.
func (r *Running) guarded(sid, guard func(*http.Request) string, refuse func(http.ResponseWriter, *http.Request),
	do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
	return func(w http.ResponseWriter, call *http.Request) {
		r.webs.lock.Lock()
		r.webs.calls++
		lose := r.faulty().SessionLost && r.webs.calls == 3
		r.webs.lock.Unlock()
		if lose {
			r.webs.forget()
		}
		word, known := r.webs.knows(sid(call))
		switch {
		case !known:
			refuse(w, call)
		case guard != nil && call.Method != http.MethodGet &&
			(guard(call) != word || call.Method != http.MethodDelete &&
				r.webs.once(r.faulty().StaleToken, "stale token")):
			http.Error(w, "the form has expired", http.StatusForbidden)
		default:
			do(w, call)
		}
	}
}

func cookie(call *http.Request) string {
	c, err := call.Cookie("sid")
	if err != nil {
		return ""
	}
	return c.Value
}

func header(name string) func(*http.Request) string {
	return func(call *http.Request) string { return call.Header.Get(name) }
}

// letsIn checks user and password of a box.
func (r *Running) letsIn(user, password string) bool {
	return user == r.WebUser && password == r.WebPassword && user != ""
}

func unauthorized(w http.ResponseWriter, _ *http.Request) {
	http.Error(w, `{"error":"not signed in"}`, http.StatusUnauthorized)
}

func readJSON(call *http.Request, into any) error { return json.NewDecoder(call.Body).Decode(into) }

func writeJSON(w http.ResponseWriter, status int, out any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(out)
}

func refuseJSON(w http.ResponseWriter, err error) {
	writeJSON(w, http.StatusUnprocessableEntity, map[string]string{"error": err.Error()})
}

// nextRequest makes a key and a request, which wait for their certificate, and gives the
// request as DER.
func (r *Running) nextRequest(subject pkix.Name, names []string, kind string) ([]byte, error) {
	wanted := x509.CertificateRequest{Subject: subject}
	for _, name := range names {
		if name = strings.TrimSpace(name); net.ParseIP(name) != nil {
			wanted.IPAddresses = append(wanted.IPAddresses, net.ParseIP(name))
		} else if name != "" {
			wanted.DNSNames = append(wanted.DNSNames, name)
		}
	}
	var key crypto.Signer
	var err error
	switch {
	case kind == keyInUse:
		key, err = r.key(KeyFile)
	case strings.Contains(kind, "2048"):
		key, err = rsa.GenerateKey(rand.Reader, 2048)
	default:
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	}
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &wanted, key)
	if err != nil {
		return nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return der, r.lay(map[string][]byte{askedKey: pemOf("PRIVATE KEY", pkcs8),
		nextRequest: pemOf("CERTIFICATE REQUEST", der)})
}

// keyInUse has nextRequest take the key that is in use.
const keyInUse = "in use"

// take checks a chain against the key that waits for it, and keeps it beside.
func (r *Running) take(chain []byte) error {
	if r.faulty().FailTest {
		return errors.New("the certificate was refused")
	}
	return r.pagesUpload(chain, nil)
}

// use puts what was taken in use; it is there after the restart. What was dropped in silence
// is not.
func (r *Running) use() error {
	if r.faulty().KeepServing {
		return nil
	}
	if r.faulty().LeafAlone {
		chain, err := r.root.ReadFile(inside(nextChain))
		if err != nil {
			return err
		}
		if block, _ := pem.Decode(chain); !r.isUsual(chain) {
			if err := r.lay(map[string][]byte{nextChain: pem.EncodeToMemory(block)}); err != nil {
				return err
			}
		}
	}
	if err := r.restarting(func() error { return r.pagesUse(nextChain, nextKey, true) }); err != nil {
		return err
	}
	if r.faulty().RollBack {
		r.work.Go(func() {
			time.Sleep(r.Restart + 300*time.Millisecond)
			r.pagesUse(beforeChain, beforeKey, false)
		})
	}
	if r.faulty().ThirdCertificate {
		r.work.Go(func() {
			time.Sleep(r.Restart + 50*time.Millisecond)
			r.meddleOnce()
		})
	}
	return nil
}

// restarting ends all sessions, and answers with 502 from a proxy in front while a box with that fault restarts.
func (r *Running) restarting(do func() error) error {
	r.webs.forget()
	if r.faulty().Gateway {
		r.away.Store(true)
		time.AfterFunc(r.Restart*2, func() { r.away.Store(false) })
	}
	return do()
}

// goBackWeb puts back what was served before the last change.
func (r *Running) goBackWeb() error {
	if _, err := r.root.Stat(inside(beforeChain)); err != nil {
		return nil // nothing was changed
	}
	return r.restarting(func() error { return r.pagesUse(beforeChain, beforeKey, false) })
}

// meddleOnce puts a certificate onto the box that nobody asked for.
func (r *Running) meddleOnce() {
	var none *Authority
	certificate, key, err := none.Issue(Wanted{Subject: pkix.Name{CommonName: "Corvane service technician"},
		Ends: 365 * day}, rand.Reader, time.Now())
	if err == nil {
		r.Meddle(certificate, key)
	}
}

// served is the leaf that the box serves now.
func (r *Running) served() *x509.Certificate {
	pair := r.serving.Load()
	if pair == nil {
		return nil
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return nil
	}
	return leaf
}

func fingerprint(c *x509.Certificate) string {
	if c == nil {
		return ""
	}
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

// takesJSON takes leaf and chain in as one text, and uses them.
func (r *Running) takesJSON(w http.ResponseWriter, call *http.Request) {
	var in struct{ Certificate string }
	err := readJSON(call, &in)
	if err == nil {
		err = r.take([]byte(in.Certificate))
	}
	if err == nil {
		err = r.use()
	}
	if err != nil {
		refuseJSON(w, err)
		return
	}
	writeJSON(w, http.StatusAccepted, map[string]string{"state": "accepted"})
}

// goesBack puts back what was served before.
func (r *Running) goesBack(w http.ResponseWriter, _ *http.Request) {
	if err := r.goBackWeb(); err != nil {
		refuseJSON(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
