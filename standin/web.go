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
	"html/template"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"
)

// WebState is what a web interface remembers.
type WebState struct {
	Lock     sync.Mutex
	sessions map[string]string // the cookie or token of each, and its anti-forgery word
	calls    int               // that needed a session
	Tasks    map[string]*Task
	fails    map[string]bool // faults that happened once
	First    string          // the fingerprint that was shown first
}

// Once reports whether a fault happens now, and not again.
func (s *WebState) Once(fault bool, name string) bool {
	s.Lock.Lock()
	defer s.Lock.Unlock()
	if !fault || s.fails[name] {
		return false
	}
	if s.fails == nil {
		s.fails = map[string]bool{}
	}
	s.fails[name] = true
	return true
}

// Open opens a session and returns its id and anti-forgery word.
func (s *WebState) Open() (id, guard string) {
	s.Lock.Lock()
	defer s.Lock.Unlock()
	if s.sessions == nil {
		s.sessions = map[string]string{}
	}
	id, guard = rand.Text(), rand.Text()
	s.sessions[id] = guard
	return id, guard
}

// Close ends a session.
func (s *WebState) Close(id string) {
	s.Lock.Lock()
	defer s.Lock.Unlock()
	delete(s.sessions, id)
}

// forget ends all sessions.
func (s *WebState) forget() {
	s.Lock.Lock()
	defer s.Lock.Unlock()
	s.sessions = nil
}

// Knows reports whether a session is open, and its anti-forgery word.
func (s *WebState) Knows(id string) (guard string, known bool) {
	s.Lock.Lock()
	defer s.Lock.Unlock()
	guard, known = s.sessions[id]
	return guard, known
}

// Sessions returns how many sessions are open on the box's web interface.
func (r *Running) Sessions() int {
	r.Webs.Lock.Lock()
	defer r.Webs.Lock.Unlock()
	return len(r.Webs.sessions)
}

// recorder takes an answer until it is whole.
type recorder struct {
	header http.Header
	body   bytes.Buffer
	status int
}

// Header reads a header of a call.
func (w *recorder) Header() http.Header         { return w.header }
func (w *recorder) Write(b []byte) (int, error) { return w.body.Write(b) }
func (w *recorder) WriteHeader(status int)      { w.status = status }

// serveWeb answers one call.
func (r server) serveWeb(conn *tls.Conn, mux *http.ServeMux) {
	call, err := http.ReadRequest(bufio.NewReader(conn))
	if err != nil {
		return
	}
	call.Body = http.MaxBytesReader(nil, call.Body, MostPage)
	w := &recorder{header: http.Header{}, status: http.StatusOK}
	answered := false
	r.Watched(call.Method+" "+call.URL.Path, func() {
		answered = true
		switch {
		case r.Webs.Once(r.Faulty().ServerError && call.Method == http.MethodGet && call.URL.Path != "/",
			"server error"):
			http.Error(w, "internal error", http.StatusInternalServerError)
		case r.Faulty().LoopAround && call.Method == http.MethodGet:
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

// Guarded returns calls that only who is signed in may make: sid gives the session's id, and
// guard the anti-forgery word that a call which changes something must carry.
func (r *Running) Guarded(sid, guard func(*http.Request) string, refuse func(http.ResponseWriter, *http.Request),
	do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
	return func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Lock.Lock()
		r.Webs.calls++
		lose := r.Faulty().SessionLost && r.Webs.calls == 3
		r.Webs.Lock.Unlock()
		if lose {
			r.Webs.forget()
		}
		word, known := r.Webs.Knows(sid(call))
		switch {
		case !known:
			refuse(w, call)
		case guard != nil && call.Method != http.MethodGet &&
			(guard(call) != word || call.Method != http.MethodDelete &&
				r.Webs.Once(r.Faulty().StaleToken, "stale token")):
			http.Error(w, "the form has expired", http.StatusForbidden)
		default:
			do(w, call)
		}
	}
}

// Cookie returns the session that a call names in its cookie; empty: none.
func Cookie(call *http.Request) string {
	c, err := call.Cookie("sid")
	if err != nil {
		return ""
	}
	return c.Value
}

// Header reads a header of a call.
func Header(name string) func(*http.Request) string {
	return func(call *http.Request) string { return call.Header.Get(name) }
}

// LetsIn checks user and password of a box.
func (r *Running) LetsIn(user, password string) bool {
	return user == r.WebUser && password == r.WebPassword && user != ""
}

// Unauthorized answers a call without a session.
func Unauthorized(w http.ResponseWriter, _ *http.Request) {
	http.Error(w, `{"error":"not signed in"}`, http.StatusUnauthorized)
}

// ReadJSON reads the body of a call.
func ReadJSON(call *http.Request, into any) error { return json.NewDecoder(call.Body).Decode(into) }

// WriteJSON answers with JSON.
func WriteJSON(w http.ResponseWriter, status int, out any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(out)
}

// RefuseJSON answers that what was asked for is refused, with the reason.
func RefuseJSON(w http.ResponseWriter, err error) {
	WriteJSON(w, http.StatusUnprocessableEntity, map[string]string{"error": err.Error()})
}

// NextRequest makes a key and a request, which wait for their certificate, and gives the
// request as DER.
func (r *Running) NextRequest(subject pkix.Name, names []string, kind string) ([]byte, error) {
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
		key, err = unix{r}.key(KeyFile)
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
	return der, r.Lay(map[string][]byte{AskedKey: PemOf("PRIVATE KEY", pkcs8),
		NextRequest: PemOf("CERTIFICATE REQUEST", der)})
}

// keyInUse has nextRequest take the key that is in use.
const keyInUse = "in use"

// Take checks a chain against the key that waits for it, and keeps it beside.
func (r *Running) Take(chain []byte) error {
	if r.Faulty().FailTest {
		return errors.New("the certificate was refused")
	}
	return panel{r}.upload(chain, nil)
}

// Use puts what was taken in use; it is there after the restart. What was dropped in silence
// is not.
func (r *Running) Use() error {
	if r.Faulty().KeepServing {
		return nil
	}
	if r.Faulty().LeafAlone {
		chain, err := r.Root.ReadFile(Inside(NextChain))
		if err != nil {
			return err
		}
		if block, _ := pem.Decode(chain); !r.IsUsual(chain) {
			if err := r.Lay(map[string][]byte{NextChain: pem.EncodeToMemory(block)}); err != nil {
				return err
			}
		}
	}
	if err := r.restarting(func() error { return r.PagesUse(NextChain, NextKey, true) }); err != nil {
		return err
	}
	if r.Faulty().RollBack {
		r.Work.Go(func() {
			time.Sleep(r.Restart + 300*time.Millisecond)
			r.PagesUse(BeforeChain, BeforeKey, false)
		})
	}
	if r.Faulty().ThirdCertificate {
		r.Work.Go(func() {
			time.Sleep(r.Restart + 50*time.Millisecond)
			r.MeddleOnce()
		})
	}
	return nil
}

// restarting ends all sessions, and answers with 502 from a proxy in front while a box with that fault restarts.
func (r *Running) restarting(do func() error) error {
	r.Webs.forget()
	if r.Faulty().Gateway {
		r.away.Store(true)
		time.AfterFunc(r.Restart*2, func() { r.away.Store(false) })
	}
	return do()
}

// GoBackWeb puts back what was served before the last change.
func (r *Running) GoBackWeb() error {
	if _, err := r.Root.Stat(Inside(BeforeChain)); err != nil {
		return nil // nothing was changed
	}
	return r.restarting(func() error { return r.PagesUse(BeforeChain, BeforeKey, false) })
}

// MeddleOnce puts a certificate onto the box that nobody asked for.
func (r *Running) MeddleOnce() {
	var none *Authority
	certificate, key, err := none.Issue(Wanted{Subject: pkix.Name{CommonName: "Corvane service technician"},
		Ends: 365 * Day}, rand.Reader, time.Now())
	if err == nil {
		r.Meddle(certificate, key)
	}
}

// Served returns the leaf that the box serves now.
func (r *Running) Served() *x509.Certificate {
	pair := r.Serving.Load()
	if pair == nil {
		return nil
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return nil
	}
	return leaf
}

// Fingerprint returns the SHA-256 of a certificate, in hex; empty for none.
func Fingerprint(c *x509.Certificate) string {
	if c == nil {
		return ""
	}
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

// TakesJSON takes leaf and chain in as one text, and uses them.
func (r *Running) TakesJSON(w http.ResponseWriter, call *http.Request) {
	var in struct{ Certificate string }
	err := ReadJSON(call, &in)
	if err == nil {
		err = r.Take([]byte(in.Certificate))
	}
	if err == nil {
		err = r.Use()
	}
	if err != nil {
		RefuseJSON(w, err)
		return
	}
	WriteJSON(w, http.StatusAccepted, map[string]string{"state": "accepted"})
}

// GoesBack puts back what was served before.
func (r *Running) GoesBack(w http.ResponseWriter, _ *http.Request) {
	if err := r.GoBackWeb(); err != nil {
		RefuseJSON(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// Some returns a list of the text, or an empty one where it is empty.
func Some(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

var formPage = template.Must(template.New(
	"").Parse(`<!doctype html><html lang="en"><title>{{.Title}}</title><body><h1>{{.Title}}</h1>
{{with .Said}}<p class="said">{{.}}</p>{{end}}{{with .Shows}}<p class="now">{{.Now}}</p><p class="next">{{.Next}}</p><p class="previous">{{.Previous}}</p>{{end}}<form method="post"><input type="hidden" name="token" value="{{.Token}}"><button>Send</button></form>{{with .Text}}<pre>{{.}}</pre>{{end}}</body></html>
`))

// form is what stands on a page.
type form struct {
	Title, Token, Said, Text string
	Shows                    *shows
}

// WritePage answers with a page that has a form, with its hidden token.
func WritePage(w http.ResponseWriter, status int, title, token, said, text string) {
	writeForm(w, status, form{Title: title, Token: token, Said: said, Text: text})
}

func writeForm(w http.ResponseWriter, status int, f form) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	formPage.Execute(w, f)
}
