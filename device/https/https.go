// Package https is the link to a device's web interface: calls to one host, whose
// certificate is pinned.
//
//	New  →  Link: Do (one call, its cookies kept)
//
// A link asks, it does not decide: which certificates are pinned, who signs in, and the
// dialler come from the caller.
package https

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptrace"
	"net/url"
	"strings"
	"sync/atomic"

	"freshseal/device/links"
	"freshseal/pin"

	"github.com/icholy/digest"
)

// Limits of a call.
const (
	MaxBody      = 1 << 20  // bytes of an answer
	maxHeader    = 64 << 10 // bytes of its header
	maxRedirects = 10
	maxCookies   = 100      // of a session
	maxCookie    = 64 << 10 // bytes of them together
)

// Target says how a device's web interface is reached.
type Target struct {
	Address    string             // host:port
	ServerName string             // asked for in the handshake; empty: none
	Pins       []string           // SHA-256 of the certificates that it may show, in hexadecimal
	Met        func(shown string) // told which of them it shows; may be nil
	OldTLS     bool               // also TLS 1.0 and 1.1, and suites that are broken, for a box that knows no others
	User       string
	Password   string
	Digest     bool // user and password go by RFC 7616
	Basic      bool // by RFC 7617
}

// PinChanged means that a device shows another certificate than those that it may.
type PinChanged struct {
	Pinned []string
	Shown  string
}

func (e PinChanged) Error() string {
	return fmt.Sprintf("the certificate of the web interface has changed: pinned is %s, shown was %s",
		strings.Join(e.Pinned, " or "), e.Shown)
}

// AskPin connects just far enough to learn which certificate a web interface shows: its
// SHA-256, in hexadecimal.
func AskPin(ctx context.Context, dial links.Dial, address string) (pin string, err error) {
	l, err := New(dial, Target{Address: address, OldTLS: true})
	if err != nil {
		return "", err
	}
	_, err = l.Do(ctx, Call{Method: http.MethodHead, Path: "/"})
	var shown PinChanged // none is pinned
	if errors.As(err, &shown) {
		return shown.Shown, nil
	}
	return "", fmt.Errorf("asking %s for its certificate: %w", address, err)
}

// Call is one call.
type Call struct {
	Method, Path string // encoded, with the query
	Header       http.Header
	Body         []byte
	Stay         bool // a redirect is not followed
}

// Answer is what came back. LeadsTo is where a redirect that was not followed leads, or
// where one that was followed led, as path and query.
type Answer struct {
	Status  int
	Header  http.Header
	Body    []byte
	LeadsTo string
}

// Link keeps the cookies of a session. It is used by one goroutine at a time.
type Link struct {
	target Target
	client http.Client
	jar    *jar
	stay   bool
}

// jar keeps the cookies of one host, up to its bounds: every answer may bring more, and all are sent with each call.
type jar struct {
	*cookiejar.Jar
	sizes map[string]int // bytes, by name and path
	flood bool
}

// SetCookies implements http.CookieJar.
func (j *jar) SetCookies(u *url.URL, cookies []*http.Cookie) {
	for _, c := range cookies {
		j.sizes[c.Name+" "+c.Path] = len(c.Name) + len(c.Value)
	}
	all := 0
	for _, size := range j.sizes {
		all += size
	}
	if j.flood = j.flood || len(j.sizes) > maxCookies || all > maxCookie; j.flood {
		return
	}
	j.Jar.SetCookies(u, cookies)
}

// New makes a link; nothing is sent yet.
func New(dial links.Dial, t Target) (*Link, error) {
	cookies, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	l := &Link{target: t, jar: &jar{Jar: cookies, sizes: map[string]int{}}}
	config := pin.Config(l.pinned)
	config.ServerName = t.ServerName
	if t.OldTLS {
		config.MinVersion = tls.VersionTLS10
		for _, suite := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
			config.CipherSuites = append(config.CipherSuites, suite.ID)
		}
	}
	// A connection that is used again would go on showing the certificate from before.
	var transport http.RoundTripper = &http.Transport{DialContext: dial, TLSClientConfig: config,
		DisableKeepAlives: true, DisableCompression: true, MaxResponseHeaderBytes: maxHeader, Proxy: nil}
	if t.Digest {
		transport = &digest.Transport{Username: t.User, Password: t.Password, Transport: transport}
	}
	l.client = http.Client{Transport: transport, Jar: l.jar, CheckRedirect: l.redirected}
	return l, nil
}

// pinned checks that the device shows a certificate that it may, before anything is sent.
func (l *Link) pinned(shown string) error {
	if pin.To(l.target.Pins...)(shown) != nil {
		return PinChanged{Pinned: l.target.Pins, Shown: shown}
	}
	if l.target.Met != nil {
		l.target.Met(shown)
	}
	return nil
}

// ErrNotReached means that nothing was sent.
var ErrNotReached = errors.New("the device was not reached")

// Final reports whether the same call cannot succeed in a moment either: it leads to another host, or round and round.
func Final(err error) bool { return errors.Is(err, errAway) || errors.Is(err, errRound) }

// errAway means that a redirect leads to another host, to which nothing is sent.
var errAway = errors.New("the device redirects to another host, which is not followed")

var errRound = errors.New("the device redirects again and again")

func (l *Link) redirected(next *http.Request, before []*http.Request) error {
	switch {
	case l.stay, next.Method != http.MethodGet && next.Method != http.MethodHead:
		return http.ErrUseLastResponse
	case next.URL.Scheme != "https" || next.URL.Host != before[0].URL.Host:
		return fmt.Errorf("%w: %s", errAway, next.URL.Redacted())
	case len(before) > maxRedirects:
		return errRound
	}
	return nil
}

// Do makes one call. links.ErrLost says that the device may have carried it out although
// no answer came; PinChanged that nothing was sent.
func (l *Link) Do(ctx context.Context, c Call) (Answer, error) {
	var sent atomic.Bool
	traced := httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() { sent.Store(true) }})
	question, err := http.NewRequestWithContext(traced, c.Method, "https://"+l.target.Address+c.Path,
		bytes.NewReader(c.Body))
	if err != nil {
		return Answer{}, err
	}
	for name, values := range c.Header {
		question.Header[name] = values
	}
	if l.target.Basic {
		question.SetBasicAuth(l.target.User, l.target.Password)
	}
	l.stay = c.Stay
	got, err := l.client.Do(question)
	if err != nil {
		return Answer{}, cause(ctx, err, sent.Load())
	}
	defer got.Body.Close()
	if l.jar.flood {
		return Answer{}, fmt.Errorf("%w: the device sets more than %d cookies, or more than %d kB of them",
			links.ErrFlood, maxCookies, maxCookie>>10)
	}
	out := Answer{Status: got.StatusCode, Header: got.Header, LeadsTo: leads(got)}
	out.Body, err = io.ReadAll(io.LimitReader(got.Body, MaxBody+1))
	switch {
	case len(out.Body) > MaxBody:
		return out, fmt.Errorf("%w: the answer has more than %d bytes", links.ErrFlood, MaxBody)
	case err != nil:
		return out, cause(ctx, err, true)
	}
	return out, nil
}

// leads returns where an answer leads to.
func leads(got *http.Response) string {
	to := got.Header.Get("Location")
	if to == "" {
		if got.Request.Response == nil { // nothing was followed
			return ""
		}
		return got.Request.URL.RequestURI()
	}
	if u, err := url.Parse(to); err == nil && (u.Host == "" || u.Host == got.Request.URL.Host) {
		return u.RequestURI()
	}
	return to
}

// cause names what ended a call: nothing was sent, or nobody knows what became of it.
func cause(ctx context.Context, err error, sent bool) error {
	var changed PinChanged
	switch {
	case errors.As(err, &changed), errors.Is(err, errAway), errors.Is(err, errRound):
		return err
	case errors.Is(ctx.Err(), context.DeadlineExceeded) && sent:
		return fmt.Errorf("%w: no answer came in time", links.ErrLost)
	case sent:
		return fmt.Errorf("%w: %v", links.ErrLost, err)
	}
	return fmt.Errorf("%w: %w", ErrNotReached, err)
}
