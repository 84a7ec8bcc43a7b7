package wire

import (
	"context"
	"crypto/tls"
	"net"

	"freshseal/core/cert"

	"golang.org/x/crypto/cryptobyte"
)

// crypto/tls ends a handshake at the first certificate that crypto/x509 refuses,
// and does not say what it was. Up to TLS 1.2 the chain comes in clear (RFC 5246,
// 7.4.2): the bytes are kept on their way and read leniently.

// mostKept bounds what is kept of a handshake.
const mostKept = 256 << 10

// readInClear reads a chain that strict readers refuse; none where that does not
// work, such as with boxes that speak TLS 1.3 alone.
func readInClear(ctx context.Context, conn net.Conn, serverName string, reading *Reading) []*cert.Certificate {
	kept := &keeping{Conn: conn}
	config := clientConfig(serverName)
	config.MaxVersion = tls.VersionTLS12
	tls.Client(kept, config).HandshakeContext(ctx) // fails as before; by then the chain has come
	return seen(kept.bytes, reading)
}

// seen finds the chain in the bytes of a handshake.
func seen(records []byte, reading *Reading) []*cert.Certificate {
	var chain []*cert.Certificate
	for messages := handshake(records); !messages.Empty() && len(chain) == 0; {
		var kind uint8
		var body cryptobyte.String
		if !messages.ReadUint8(&kind) || !messages.ReadUint24LengthPrefixed(&body) {
			break
		}
		switch kind {
		case 2: // ServerHello
			var version, suite uint16
			var session cryptobyte.String
			if body.ReadUint16(&version) && body.Skip(32) && body.ReadUint8LengthPrefixed(&session) && body.ReadUint16(&suite) {
				reading.Version, reading.Suite = tls.VersionName(version), tls.CipherSuiteName(suite)
			}
		case 11: // Certificate
			chain = certificates(body)
		}
	}
	return chain
}

// handshake joins the handshake messages of the records up to the first of
// another kind (RFC 5246, 6.2.1).
func handshake(records cryptobyte.String) cryptobyte.String {
	var out cryptobyte.String
	for !records.Empty() {
		var kind uint8
		var body cryptobyte.String
		if !records.ReadUint8(&kind) || kind != 22 || !records.Skip(2) || !records.ReadUint16LengthPrefixed(&body) {
			break
		}
		out = append(out, body...)
	}
	return out
}

// certificates reads the body of the message Certificate; all of it or nothing.
func certificates(body cryptobyte.String) []*cert.Certificate {
	var list cryptobyte.String
	if !body.ReadUint24LengthPrefixed(&list) {
		return nil
	}
	var out []*cert.Certificate
	for !list.Empty() && len(out) < maxChain {
		var der cryptobyte.String
		if !list.ReadUint24LengthPrefixed(&der) {
			return nil
		}
		c, err := cert.Parse(der)
		if err != nil {
			return nil
		}
		out = append(out, c)
	}
	return out
}

// keeping keeps what comes in.
type keeping struct {
	net.Conn
	bytes []byte
}

func (k *keeping) Read(p []byte) (int, error) {
	n, err := k.Conn.Read(p)
	k.bytes = append(k.bytes, p[:min(n, mostKept-len(k.bytes))]...)
	return n, err
}
