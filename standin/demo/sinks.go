package demo

import (
	"bufio"
	"crypto/tls"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"freshseal/standin"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Sinks are the ends of the channels by which people are told: a mail server, a receiver of webhooks and a
// syslog server. What came can be read, in memory and in a folder.
type Sinks struct {
	Mail, Hook, Syslog string // where they listen, address:port
	Certificate        string // SHA-256 of the one that all of them show
	User, Password     string // of the mail server
	Key                string // that the webhook's messages must be signed with

	// Refuse has a sink refuse what comes, by its name: mail, hook or syslog. It may be nil.
	Refuse func(sink string) bool

	Now func() time.Time // by which a message is too old

	dir     string
	verify  func(key, at string, body []byte) string
	lock    sync.Mutex
	got     []Got
	closing []func() error
	open    sync.WaitGroup
	config  *tls.Config
}

// Got is a message that came.
type Got struct {
	Sink string // mail, hook or syslog
	At   time.Time
	ID   string // of the message
	To   string // of mail
	Text string
}

// StartSinks turns the sinks on at free ports of an address. They keep what comes in a folder; empty: in memory
// alone. verify computes the signature of a webhook.
func StartSinks(address, dir string, verify func(key, at string, body []byte) string) (*Sinks, error) {
	s := &Sinks{User: "freshseal", Password: "salt " + strconv.Itoa(rand.IntN(1e9)), Key: "a key of the quay that " +
		"is long enough, " + strconv.Itoa(rand.IntN(1e9)), dir: dir, verify: verify, Now: time.Now}
	if dir != "" {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	var none *standin.Authority
	text, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "post.mainquay.tidewrack.example"},
		Names: []string{"post.mainquay.tidewrack.example"}, Ends: 365 * standin.Day}, standin.OrSystem(nil), time.Now())
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(text, key)
	if err != nil {
		return nil, err
	}
	s.Certificate = standin.Fingerprint(pair.Leaf)
	config := &tls.Config{Certificates: []tls.Certificate{pair}}
	s.config = config
	for _, each := range []struct {
		at    *string
		serve func(net.Listener, *tls.Config)
	}{{&s.Mail, s.serveMail}, {&s.Hook, s.serveHook}, {&s.Syslog, s.serveSyslog}} {
		l, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
		if err != nil {
			s.Close()
			return nil, err
		}
		*each.at = l.Addr().String()
		s.closes(l.Close)
		s.open.Go(func() { each.serve(l, config) })
	}
	return s, nil
}

// Close turns the sinks off.
func (s *Sinks) Close() error {
	var errs []error
	s.lock.Lock()
	closing := slices.Clone(s.closing)
	s.lock.Unlock()
	for _, end := range slices.Backward(closing) {
		if err := end(); !errors.Is(err, net.ErrClosed) {
			errs = append(errs, err)
		}
	}
	s.open.Wait()
	return errors.Join(errs...)
}

// closes notes what Close ends.
func (s *Sinks) closes(end func() error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.closing = append(s.closing, end)
}

// TLS is how the sinks speak TLS, for further ones with the same certificate.
func (s *Sinks) TLS() *tls.Config { return s.config.Clone() }

// Got returns all messages that came, in their order.
func (s *Sinks) Got(sink string) []Got {
	s.lock.Lock()
	defer s.lock.Unlock()
	return slices.DeleteFunc(slices.Clone(s.got), func(g Got) bool { return sink != "" && g.Sink != sink })
}

func (s *Sinks) refuses(sink string) bool { return s.Refuse != nil && s.Refuse(sink) }

func (s *Sinks) take(g Got) error {
	s.lock.Lock()
	defer s.lock.Unlock()
	g.At = time.Now()
	s.got = append(s.got, g)
	if s.dir == "" {
		return nil
	}
	name := fmt.Sprintf("%s-%04d.%s", g.At.UTC().Format("20060102T150405"), len(s.got), g.Sink)
	return os.WriteFile(filepath.Join(s.dir, name), []byte(g.Text), 0o600)
}

// Mailbox reads what the sinks of a folder got, oldest first.
func Mailbox(dir string) ([]Got, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []Got
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		out = append(out, Got{Sink: strings.TrimPrefix(filepath.Ext(e.Name()), "."), Text: string(text)})
	}
	return out, nil
}

// Readable returns a message as people read it: of a mail its chief headers, and its text decoded.
func (g Got) Readable() string {
	if g.Sink != "mail" {
		return strings.ReplaceAll(g.Text, "\xef\xbb\xbf", "")
	}
	parsed, err := mail.ReadMessage(strings.NewReader(g.Text))
	if err != nil {
		return g.Text
	}
	body, err := io.ReadAll(quotedprintable.NewReader(parsed.Body))
	if err != nil {
		return g.Text
	}
	var b strings.Builder
	decoder := mime.WordDecoder{}
	for _, name := range []string{"From", "To", "Date", "Subject"} {
		text, err := decoder.DecodeHeader(parsed.Header.Get(name))
		if err != nil {
			text = parsed.Header.Get(name)
		}
		fmt.Fprintf(&b, "%s: %s\n", name, text)
	}
	return b.String() + "\n" + string(body)
}

// mailSession is a conversation with the mail server.
type mailSession struct {
	s  *Sinks
	in bool
	to []string
}

func (m *mailSession) AuthMechanisms() []string { return []string{sasl.Plain} }

func (m *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != m.s.User || password != m.s.Password {
			return smtp.ErrAuthFailed
		}
		m.in = true
		return nil
	}), nil
}

func (m *mailSession) Mail(string, *smtp.MailOptions) error {
	if !m.in {
		return smtp.ErrAuthRequired
	}
	return nil
}

func (m *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	m.to = append(m.to, to)
	return nil
}

func (m *mailSession) Data(r io.Reader) error {
	text, err := io.ReadAll(io.LimitReader(r, 1<<20))
	if err != nil {
		return err
	}
	if m.s.refuses("mail") {
		return &smtp.SMTPError{Code: 451, Message: "the mailbox is closed for now"}
	}
	parsed, err := mail.ReadMessage(strings.NewReader(string(text)))
	if err != nil {
		return err
	}
	id, _, _ := strings.Cut(strings.Trim(parsed.Header.Get("Message-ID"), "<>"), "@")
	return m.s.take(Got{Sink: "mail", ID: id, To: strings.Join(m.to, ","), Text: string(text)})
}

func (m *mailSession) Reset()        { m.to = nil }
func (m *mailSession) Logout() error { return nil }

func (s *Sinks) serveMail(l net.Listener, config *tls.Config) {
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) {
		return &mailSession{s: s}, nil
	}))
	server.Domain, server.TLSConfig, server.ErrorLog = "post.mainquay.tidewrack.example", config,
		log.New(io.Discard, "", 0)
	server.ReadTimeout, server.WriteTimeout, server.MaxMessageBytes = 10*time.Second, 10*time.Second, 1<<20
	s.closes(server.Close)
	server.Serve(l)
}

func (s *Sinks) serveHook(l net.Listener, config *tls.Config) {
	server := &http.Server{ErrorLog: log.New(io.Discard, "", 0), ReadTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
			var message struct{ ID string }
			at, err2 := strconv.ParseInt(r.Header.Get("Fresh-Seal-Time"), 10, 64)
			switch {
			case err != nil || err2 != nil || json.Unmarshal(body, &message) != nil ||
				s.Now().Sub(time.Unix(at, 0)).Abs() > 5*time.Minute:
				http.Error(w, "this is no message", http.StatusBadRequest)
			case r.Header.Get("Fresh-Seal-Signature") != s.verify(s.Key, r.Header.Get("Fresh-Seal-Time"), body):
				http.Error(w, "the signature is wrong", http.StatusForbidden)
			case s.refuses("hook"):
				http.Error(w, "later", http.StatusServiceUnavailable)
			default:
				if s.take(Got{Sink: "hook", ID: message.ID, Text: string(body)}) != nil {
					http.Error(w, "it cannot be kept", http.StatusInternalServerError)
				}
			}
		})}
	s.closes(server.Close)
	server.Serve(tls.NewListener(l, config))
}

// serveSyslog reads lines with their length before them (RFC 6587, 3.4.1), over TLS.
func (s *Sinks) serveSyslog(l net.Listener, config *tls.Config) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		if s.refuses("syslog") {
			conn.Close()
			continue
		}
		s.open.Go(func() {
			defer conn.Close()
			conn.SetDeadline(time.Now().Add(10 * time.Second))
			secured := tls.Server(conn, config)
			defer secured.Close() // says that it has read all
			in := bufio.NewReader(secured)
			for {
				head, err := in.ReadString(' ')
				n, err2 := strconv.Atoi(strings.TrimSpace(head))
				if err != nil || err2 != nil || n < 1 || n > 64<<10 {
					return
				}
				line := make([]byte, n)
				if _, err := io.ReadFull(in, line); err != nil {
					return
				}
				id := ""
				if _, after, ok := strings.Cut(string(line), ` message="`); ok {
					id, _, _ = strings.Cut(after, `"`)
				}
				s.take(Got{Sink: "syslog", ID: id, Text: string(line)})
			}
		})
	}
}
