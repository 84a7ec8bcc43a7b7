// Package wire reads what a slot serves: a TLS handshake to an address and port
// under a server name, three things, since a box is often read before DNS points to
// it. What stands before TLS is a Protocol. It judges nothing; the chain comes back as
// it was sent.
//
//	dial → protocol (STARTTLS, EAP, …) → handshake → chain
//
// A box that crypto/tls does not talk with, or whose certificate it refuses, is read in
// other ways, one after another, until one of them shows the chain.
package wire

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// Dial opens a connection; the service passes in the one that knows the way.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Target is what to read.
type Target struct {
	Address    string // IP address or host name
	Port       int
	Protocol   Protocol     // what it speaks before TLS; empty: nothing
	ServerName string       // sent in the handshake (RFC 6066, 3); empty sends none
	Secret     []byte       // shared with a RADIUS server, for EAP
	Identity   string       // outer identity, for EAP; empty: one that nobody has
	Last       []string     // SHA-256 of what it served last, leaf first: the same again is not parsed
	Way        Dial         // into its site; nil: the reader's own
	Site       string       // whose places are counted by Gate
	Gate       Gate         // nil: there is always a place
	Closer     bool         // look for more than the chain
	Kind       cert.KeyKind // RSA or ECDSA: take only a certificate with that kind of key; empty: any
}

// Gate counts the links into sites.
type Gate interface {
	// Enter waits until one more link into a site may be opened, and returns the way to give
	// the place back. Waiting is no part of a reading's time.
	Enter(ctx context.Context, site string) (leave func(), err error)
	// Try is Enter where there is a place at once; ok says whether there was.
	Try(ctx context.Context, site string) (leave func(), ok bool)
}

func (t Target) String() string { return net.JoinHostPort(t.Address, fmt.Sprint(t.Port)) }

// Reading is what was seen at one moment. One of Chain, Same and Why is filled.
type Reading struct {
	At      time.Time
	Took    time.Duration
	Chain   []*cert.Certificate // as served, leaf first
	Same    bool                // it serves what Target.Last says
	Version string              // "TLS 1.3"
	Suite   string
	Remarks []finding.Finding // what the handshake showed besides
	Closer  *Closer           // where a closer look was asked for and the chain was seen
	Why     *finding.Failure
	Own     error // a fault of this side, which says nothing of the slot; Why is set as well

	leaf   string // its fingerprint
	kind   cert.KeyKind
	staple []byte
}

// Leaf returns the certificate the slot served for itself, or nil.
func (r Reading) Leaf() *cert.Certificate {
	if len(r.Chain) == 0 {
		return nil
	}
	return r.Chain[0]
}

// Reader reads slots.
type Reader struct {
	Dial  Dial
	Now   func() time.Time
	Limit time.Duration // for one reading, dialling included

	Busy func() bool // whether somebody waits for the service: rounds leave it half of the processors then; nil: never

	turns *turns // of a round; nil: a reading alone needs none
}

// maxChain bounds what is taken of one box.
const maxChain = 32

// asking is one way to ask a box for its chain. It fills in the reading, or returns why it
// cannot.
type asking func(ctx context.Context, conn net.Conn, t Target, reading *Reading) error

// Read reads one slot. It always returns a reading; when it could not be had,
// Why says so.
func (r Reader) Read(ctx context.Context, t Target) Reading {
	if t.Gate != nil {
		leave, err := t.Gate.Enter(ctx, t.Site)
		if err != nil {
			reading := Reading{At: r.Now()}
			reading.fail(t, err)
			return reading
		}
		defer leave()
	}
	return r.read(ctx, t)
}

// read reads a slot once there is a place at its site.
func (r Reader) read(ctx context.Context, t Target) Reading {
	at, begun := r.Now(), time.Now()
	reading := r.tryAll(ctx, t)
	if t.Closer && reading.Why == nil {
		if leaf := reading.Leaf(); leaf != nil {
			reading.leaf = leaf.SHA256
			reading.kind, _ = leaf.KeySize()
		}
		r.closer(ctx, t, &reading)
	}
	reading.At, reading.Took = at, time.Since(begun)
	return reading
}

// tryAll asks in one way after another.
func (r Reader) tryAll(ctx context.Context, t Target) Reading {
	var reading Reading
	ctx, cancel := context.WithTimeout(ctx, r.Limit)
	defer cancel()
	first := r.ask(ctx, r.Limit*3/5, t, shakeHands, &reading)
	if first == nil {
		return reading
	}
	reading.fail(t, first)
	ways := otherWays(reading.Why.Code, t)
	if t.Kind != "" {
		ways = []asking{helloFor13(t.Kind)}
	}
	for _, ask := range ways {
		if ctx.Err() != nil {
			break
		}
		var again Reading
		if err := r.ask(ctx, r.Limit/5, t, ask, &again); err == nil {
			return again
		}
	}
	return reading
}

// ask dials, brings the connection to where TLS begins, and asks in one way.
func (r Reader) ask(ctx context.Context, limit time.Duration, t Target, ask asking, reading *Reading) error {
	dial := r.Dial
	if t.Way != nil {
		dial = t.Way
	}
	conn, err := dial(ctx, networkOf(t.Protocol), t.String())
	if err != nil {
		return unreached{err}
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(ctx, limit) // dialling has all the time there is
	defer cancel()
	stop := context.AfterFunc(ctx, func() { conn.Close() }) // one through SSH knows no deadlines
	defer stop()
	if r.turns != nil {
		r.turns.take()
		defer r.turns.leave()
		conn = taking{conn, r.turns}
	}
	inner, err := t.opened(ctx, conn)
	if err != nil {
		return unreached{late(ctx, err)}
	}
	return late(ctx, ask(ctx, inner, t, reading))
}

// late says that an error came of the time having run out.
func late(ctx context.Context, err error) error {
	if err == nil || ctx.Err() == nil || errors.As(err, new(finding.Failure)) {
		return err
	}
	return fmt.Errorf("%w: %w", ctx.Err(), err)
}

// unreached is a failure before TLS: asking in another way does not help.
type unreached struct{ error }

func (u unreached) Unwrap() error { return u.error }

// otherWays returns the ways to ask a box that did not show its chain to a handshake.
func otherWays(code string, t Target) []asking {
	hello := []asking{bareHello(modern), bareHello(plain)}
	if t.Protocol.OverEAP() {
		hello = nil // the server is told apart from clients by its own failure
	}
	switch code {
	case unreadable:
		return []asking{listenIn}
	case "unknown-name":
		return append([]asking{func(ctx context.Context, conn net.Conn, t Target, reading *Reading) error {
			name := t.ServerName
			t.ServerName = ""
			err := shakeHands(ctx, conn, t, reading)
			reading.remark(finding.NameRefused.Found("it refuses the server name %s, and was read without one", name))
			return err
		}}, hello...)
	case "alert", "closed", "silent-tls", "old-tls":
		return append([]asking{listenIn}, hello...)
	}
	return nil
}

// light returns what a reading offers first: every version and suite, and one small key share.
// A ClientHello with a post-quantum share is so large that some old boxes drop it.
func light(serverName string) *tls.Config {
	return &tls.Config{ServerName: serverName, InsecureSkipVerify: true, MinVersion: tls.VersionTLS10,
		CipherSuites:           allSuites,
		CurvePreferences:       []tls.CurveID{tls.X25519, tls.CurveP256, tls.CurveP384, tls.CurveP521},
		SessionTicketsDisabled: true}
}

var allSuites = func() (out []uint16) {
	for _, suite := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		out = append(out, suite.ID)
	}
	return out
}()

// shakeHands makes a whole handshake, so that the box has proven that it holds the key, and
// closes it as TLS wants. Where the box refuses a client without a certificate of its own,
// its chain has been seen all the same.
func shakeHands(ctx context.Context, conn net.Conn, t Target, reading *Reading) error {
	name := t.ServerName
	if t.Protocol.OverEAP() {
		name = "" // clients of EAP send none
	}
	config := light(name)
	if t.Kind != "" {
		config.MaxVersion, config.CipherSuites = tls.VersionTLS12, suitesFor(t.Kind)
	}
	var served []*x509.Certificate
	asked := false
	config.VerifyConnection = func(state tls.ConnectionState) error {
		served = state.PeerCertificates
		reading.Version, reading.Suite = tls.VersionName(state.Version), tls.CipherSuiteName(state.CipherSuite)
		reading.staple = state.OCSPResponse
		return nil
	}
	config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
		asked = true
		return &tls.Certificate{}, nil
	}
	client := tls.Client(conn, config)
	err := client.HandshakeContext(ctx)
	switch {
	case err == nil && asked:
		reading.remark(finding.ClientCertificate.Found("it asks clients for a certificate"))
	case err == nil:
	case served != nil && asked && (isAlert(err) || isEnd(err)):
		reading.remark(finding.ClientCertificate.Found("it refuses clients without a certificate: %s", reason(err)))
	default:
		return err
	}
	client.Close()
	if same(served, t.Last) {
		reading.Same = true
		reading.leaf, reading.kind = t.Last[0], kindOf(served[0])
		return nil
	}
	return reading.take(served)
}

// kindOf returns the kind of a certificate's key, where it is one of two.
func kindOf(c *x509.Certificate) cert.KeyKind {
	switch c.PublicKeyAlgorithm {
	case x509.RSA:
		return cert.RSA
	case x509.ECDSA:
		return cert.ECDSA
	}
	return ""
}

// same reports whether certificates have these fingerprints, in this order.
func same(served []*x509.Certificate, last []string) bool {
	if len(served) != len(last) || len(last) == 0 {
		return false
	}
	for i, c := range served {
		sum := sha256.Sum256(c.Raw)
		if hex.EncodeToString(sum[:]) != last[i] {
			return false
		}
	}
	return true
}

func (r *Reading) remark(f finding.Finding) { r.Remarks = append(r.Remarks, f) }

// take stores a chain that crypto/x509 could read.
func (r *Reading) take(served []*x509.Certificate) error {
	for _, c := range served[:min(len(served), maxChain)] {
		parsed, err := cert.Parse(c.Raw)
		if err != nil {
			r.Chain = nil
			return finding.Failure{Code: unreadable, What: err.Error(), Remedy: "look at the certificate with " +
				"openssl x509 -text"}
		}
		r.Chain = append(r.Chain, parsed)
	}
	return nil
}

// suiteName names a suite, those included that crypto/tls does not know.
func suiteName(id uint16) string {
	if i := slices.IndexFunc(rareSuites, func(s rareSuite) bool { return s.id == id }); i >= 0 {
		return rareSuites[i].name
	}
	return tls.CipherSuiteName(id)
}
