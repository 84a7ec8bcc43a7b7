package wire

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/protocol"
)

// Closer is what a closer look shows besides the chain. It costs one or two connections more,
// so not every reading takes one.
type Closer struct {
	Second []*cert.Certificate // what is served to clients that take the other kind of key alone, leaf first
	Clock  *time.Duration      // how far the box's clock is ahead; nil: it does not say
	Server string              // what the web server calls itself (RFC 9110, 10.2.4), as it was sent
	Staple []byte              // the OCSP response that came with the handshake (RFC 6066, 8)
}

// closer looks for a second certificate and the clock.
func (r Reader) closer(ctx context.Context, t Target, reading *Reading) {
	ctx, cancel := context.WithTimeout(ctx, r.Limit)
	defer cancel()
	look := Closer{Staple: reading.staple}
	if other, ok := otherKind[reading.kind]; ok && !t.Protocol.OverEAP() {
		ask := helloFor(other)
		if reading.Version == tls.VersionName(tls.VersionTLS13) {
			ask = helloFor13(other)
		}
		var second Reading
		if r.ask(ctx, r.Limit/5, t, ask, &second) == nil && second.Leaf() != nil &&
			second.Leaf().SHA256 != reading.leaf {
			look.Second = second.Chain
		}
	}
	if t.speaksHTTP() {
		var ahead time.Duration
		if r.ask(ctx, r.Limit/5, t, r.askClock(&ahead, &look.Server), &Reading{}) == nil {
			look.Clock = &ahead
		}
	}
	reading.Closer = &look
}

// otherKind is the kind of key that a server may hold a second certificate for.
var otherKind = map[cert.KeyKind]cert.KeyKind{cert.RSA: cert.ECDSA, cert.ECDSA: cert.RSA}

// suitesFor returns the suites, up to TLS 1.2, in which a server must use a key of that kind.
func suitesFor(kind cert.KeyKind) []uint16 {
	return slices.DeleteFunc(slices.Clone(allSuites), func(id uint16) bool {
		name := tls.CipherSuiteName(id)
		ecdsa := strings.Contains(name, "_ECDSA_")
		return id>>8 == 0x13 || ecdsa != (kind == cert.ECDSA)
	})
}

// signaturesFor returns the signature algorithms of that kind of key, down to SHA-1.
func signaturesFor(kind cert.KeyKind) []uint16 {
	if kind == cert.ECDSA {
		return []uint16{0x0403, 0x0503, 0x0603, 0x0303, 0x0203}
	}
	return []uint16{0x0804, 0x0805, 0x0806, 0x0401, 0x0501, 0x0601, 0x0301, 0x0201}
}

// helloFor asks for the chain of a kind of key, up to TLS 1.2.
func helloFor(kind cert.KeyKind) asking {
	hello := modern
	hello.suites, hello.signatures = suitesFor(kind), signaturesFor(kind)
	return bareHello(hello)
}

// speaksHTTP reports whether HTTP may be spoken with a box: by its port, or because somebody said so.
func (t Target) speaksHTTP() bool {
	return t.Protocol == protocol.HTTPS || t.Protocol == protocol.TLS && t.Port == 443
}

// mostHead bounds the header of an answer.
const mostHead = 16 << 10

// askClock asks for the date of the box (RFC 9110, 6.6.1), which is exact to a second, and says
// how far it is ahead. What the question took is not counted as an error of the clock.
func (r Reader) askClock(ahead *time.Duration, server *string) asking {
	return func(ctx context.Context, conn net.Conn, t Target, _ *Reading) error {
		client := tls.Client(conn, light(t.ServerName))
		if err := client.HandshakeContext(ctx); err != nil {
			return err
		}
		defer client.Close()
		before := r.Now()
		host := t.ServerName
		if host == "" {
			host = t.String()
		}
		if _, err := io.WriteString(client, "HEAD / HTTP/1.1\r\nHost: "+host+
			"\r\nConnection: close\r\n\r\n"); err != nil {
			return err
		}
		answer, err := http.ReadResponse(bufio.NewReader(io.LimitReader(client, mostHead)),
			&http.Request{Method: "HEAD"})
		if err != nil {
			return err
		}
		answer.Body.Close()
		*server = answer.Header.Get("Server")
		date, err := http.ParseTime(answer.Header.Get("Date"))
		if err != nil {
			return errors.New("it does not say what time it is")
		}
		after := r.Now()
		switch { // within the second that the header stands for, and the time of the question
		case date.Add(time.Second).Before(before):
			*ahead = date.Add(time.Second).Sub(before)
		case date.After(after):
			*ahead = date.Sub(after)
		}
		return nil
	}
}
