// Package wire reads what a slot serves: a TLS handshake to an address and
// port under a server name, three things, since a box is often read before DNS
// points to it. It judges nothing; the chain comes back as it was sent.
package wire

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"freshseal/core/cert"
	"freshseal/core/finding"
)

// Dial opens a connection; the service passes in the one that knows the way.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Target is what to read.
type Target struct {
	Address    string // IP address or host name
	Port       int
	ServerName string // sent in the handshake (RFC 6066, 3); empty sends none
	Way        Dial   // into its site; nil: the reader's own
	Enter      Enter  // waits for a place there; nil: there is always one
}

// Enter waits until one more link into a site may be opened, and returns the
// way to give the place back. Waiting is no part of a reading's time.
type Enter func(ctx context.Context) (leave func(), err error)

func (t Target) String() string { return net.JoinHostPort(t.Address, fmt.Sprint(t.Port)) }

// Reading is what was seen at one moment. Either Chain or Why is filled.
type Reading struct {
	At      time.Time
	Chain   []*cert.Certificate // as served, leaf first
	Version string              // "TLS 1.3"
	Suite   string
	Why     *finding.Failure
}

// Leaf is the certificate the slot served for itself, or nil.
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
}

// unreadable is the code of a certificate that crypto/x509 refuses.
const unreadable = "unreadable-certificate"

// maxChain bounds what is taken of one box.
const maxChain = 32

// Read reads one slot. It always returns a reading; when it could not be had,
// Why says so.
func (r Reader) Read(ctx context.Context, t Target) Reading {
	if t.Enter != nil {
		leave, err := t.Enter(ctx)
		if err != nil {
			return Reading{At: r.Now(), Why: explain(t, err)}
		}
		defer leave()
	}
	ctx, cancel := context.WithTimeout(ctx, r.Limit)
	defer cancel()
	reading := Reading{At: r.Now()}
	dial := r.Dial
	if t.Way != nil {
		dial = t.Way
	}
	conn, err := dial(ctx, "tcp", t.String())
	if err != nil {
		reading.Why = explain(t, err)
		return reading
	}
	defer conn.Close()
	client := tls.Client(conn, clientConfig(t.ServerName))
	if err := client.HandshakeContext(ctx); err != nil {
		reading.Why = explain(t, err)
		if reading.Why.Code != unreadable {
			return reading
		}
		conn.Close()
		again, err := dial(ctx, "tcp", t.String())
		if err != nil {
			return reading
		}
		defer again.Close()
		if reading.Chain = readInClear(ctx, again, t.ServerName, &reading); reading.Chain != nil {
			reading.Why = nil
		}
		return reading
	}
	state := client.ConnectionState()
	reading.Version, reading.Suite = tls.VersionName(state.Version), tls.CipherSuiteName(state.CipherSuite)
	for _, c := range state.PeerCertificates[:min(len(state.PeerCertificates), maxChain)] {
		parsed, err := cert.Parse(c.Raw)
		if err != nil {
			reading.Chain, reading.Why = nil, &finding.Failure{Code: unreadable, What: err.Error(), Remedy: "look at the certificate with openssl x509 -text"}
			return reading
		}
		reading.Chain = append(reading.Chain, parsed)
	}
	return reading
}

// clientConfig takes whatever a box serves: old versions and suites, and
// certificates that no client trusts. Judging them is done elsewhere.
func clientConfig(serverName string) *tls.Config {
	config := &tls.Config{ServerName: serverName, InsecureSkipVerify: true, MinVersion: tls.VersionTLS10}
	for _, suite := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		config.CipherSuites = append(config.CipherSuites, suite.ID)
	}
	return config
}

func explain(t Target, err error) *finding.Failure {
	var dns *net.DNSError
	var remote *net.OpError // what crypto/tls makes of an alert that it receives
	var record tls.RecordHeaderError
	var timeout interface{ Timeout() bool }
	var known finding.Failure
	switch {
	case errors.As(err, &known): // the way into the site says it better
		return &known
	case errors.As(err, &dns):
		return &finding.Failure{Code: "unknown-host", What: fmt.Sprintf("%s cannot be resolved", t.Address), Remedy: "correct the name, or give the address itself"}
	case errors.Is(err, syscall.ECONNREFUSED):
		return &finding.Failure{Code: "refused", What: fmt.Sprintf("%s refuses connections", t), Remedy: "check that the service runs and listens on this port"}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return &finding.Failure{Code: "unreachable", What: fmt.Sprintf("%s is unreachable", t), Remedy: "check the routes to this site"}
	case errors.As(err, &record):
		return &finding.Failure{Code: "no-tls", What: fmt.Sprintf("%s does not speak TLS", t), Remedy: "check the port"}
	case errors.As(err, &remote) && remote.Op == "remote error":
		return &finding.Failure{Code: "alert", What: fmt.Sprintf("%s ended the handshake: %s", t, strings.TrimPrefix(remote.Err.Error(), "tls: ")), Remedy: "check the server name"}
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return &finding.Failure{Code: "silent", What: fmt.Sprintf("%s did not answer in time", t), Remedy: "check that the device is on and that no firewall drops the connection"}
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET):
		return &finding.Failure{Code: "closed", What: fmt.Sprintf("%s closed the connection during the handshake", t), Remedy: "check the port"}
	case strings.Contains(err.Error(), "failed to parse certificate"):
		return &finding.Failure{Code: unreadable, What: fmt.Sprintf("%s serves a certificate that cannot be read: %v", t, err), Remedy: "look at it with openssl s_client -showcerts"}
	}
	return &finding.Failure{Code: "closed", What: fmt.Sprintf("%s could not be read: %v", t, err), Remedy: "try again, then check the device"}
}

// ReadAll reads many targets, at most width at once, and hands each reading to take
// as it comes, with the target's place in the sequence. It returns when all are read
// or the context ends.
func (r Reader) ReadAll(ctx context.Context, targets iter.Seq[Target], width int, take func(i int, reading Reading)) {
	type numbered struct {
		i      int
		target Target
	}
	var wg sync.WaitGroup
	next := make(chan numbered)
	for range width {
		wg.Go(func() {
			for n := range next {
				take(n.i, r.Read(ctx, n.target))
			}
		})
	}
	i := 0
	for target := range targets {
		select {
		case next <- numbered{i, target}:
		case <-ctx.Done():
		}
		if i++; ctx.Err() != nil {
			break
		}
	}
	close(next)
	wg.Wait()
}
