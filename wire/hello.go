package wire

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"slices"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"

	"golang.org/x/crypto/cryptobyte"
)

// A box that agrees with crypto/tls on nothing still sends its chain in clear up to TLS 1.2
// (RFC 5246, 7.4.2), to whoever offers what it speaks. So it is sent a ClientHello with all
// that there ever was, its answer is read, and the handshake ends there. The key is not
// proven then, which the reading says.

// style is how a ClientHello is made.
type style struct {
	version    uint16
	extensions bool
	suites     []uint16 // empty: all there ever were
	signatures []uint16 // empty: all
}

var (
	modern = style{version: tls.VersionTLS12, extensions: true}
	plain  = style{version: tls.VersionTLS10} // some old boxes drop every extension, or whoever sends one
)

// rareSuite is one that crypto/tls does not know.
type rareSuite struct {
	id   uint16
	name string
}

// rareSuites are offered beside those of crypto/tls, the better ones first: DHE, static DH of
// DSS keys, Camellia, SEED, ARIA, CCM, export and NULL.
var rareSuites = []rareSuite{
	{0x009e, "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}, {0x009f, "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384"},
	{0x00a2, "TLS_DHE_DSS_WITH_AES_128_GCM_SHA256"}, {0x00a3, "TLS_DHE_DSS_WITH_AES_256_GCM_SHA384"},
	{0xccaa, "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256"}, {0xc09e, "TLS_DHE_RSA_WITH_AES_128_CCM"},
	{0xc09f, "TLS_DHE_RSA_WITH_AES_256_CCM"},
	{0xc0ac, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM"}, {0xc0ad, "TLS_ECDHE_ECDSA_WITH_AES_256_CCM"},
	{0xc09c, "TLS_RSA_WITH_AES_128_CCM"}, {0xc09d, "TLS_RSA_WITH_AES_256_CCM"},
	{0xc05c, "TLS_ECDHE_ECDSA_WITH_ARIA_128_GCM_SHA256"}, {0xc060, "TLS_ECDHE_RSA_WITH_ARIA_128_GCM_SHA256"},
	{0xc050, "TLS_RSA_WITH_ARIA_128_GCM_SHA256"}, {0xc051, "TLS_RSA_WITH_ARIA_256_GCM_SHA384"},
	{0xc024, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384"}, {0xc028, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384"},
	{0x0067, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA256"}, {0x006b, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA256"},
	{0x0040, "TLS_DHE_DSS_WITH_AES_128_CBC_SHA256"}, {0x006a, "TLS_DHE_DSS_WITH_AES_256_CBC_SHA256"},
	{0x0033, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA"}, {0x0039, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA"},
	{0x0032, "TLS_DHE_DSS_WITH_AES_128_CBC_SHA"}, {0x0038, "TLS_DHE_DSS_WITH_AES_256_CBC_SHA"},
	{0x0016, "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA"}, {0x0013, "TLS_DHE_DSS_WITH_3DES_EDE_CBC_SHA"},
	{0x003d, "TLS_RSA_WITH_AES_256_CBC_SHA256"},
	{0x0045, "TLS_DHE_RSA_WITH_CAMELLIA_128_CBC_SHA"}, {0x0088, "TLS_DHE_RSA_WITH_CAMELLIA_256_CBC_SHA"},
	{0x0041, "TLS_RSA_WITH_CAMELLIA_128_CBC_SHA"}, {0x0084, "TLS_RSA_WITH_CAMELLIA_256_CBC_SHA"},
	{0x00ba, "TLS_RSA_WITH_CAMELLIA_128_CBC_SHA256"}, {0x00c0, "TLS_RSA_WITH_CAMELLIA_256_CBC_SHA256"},
	{0xc072, "TLS_ECDHE_ECDSA_WITH_CAMELLIA_128_CBC_SHA256"}, {0xc076, "TLS_ECDHE_RSA_WITH_CAMELLIA_128_CBC_SHA256"},
	{0x0096, "TLS_RSA_WITH_SEED_CBC_SHA"}, {0x009a, "TLS_DHE_RSA_WITH_SEED_CBC_SHA"},
	{0x0007, "TLS_RSA_WITH_IDEA_CBC_SHA"}, {0x0004, "TLS_RSA_WITH_RC4_128_MD5"},
	{0x0015, "TLS_DHE_RSA_WITH_DES_CBC_SHA"}, {0x0012, "TLS_DHE_DSS_WITH_DES_CBC_SHA"},
	{0x0009, "TLS_RSA_WITH_DES_CBC_SHA"},
	{0x0014, "TLS_DHE_RSA_EXPORT_WITH_DES40_CBC_SHA"}, {0x0008, "TLS_RSA_EXPORT_WITH_DES40_CBC_SHA"},
	{0x0006, "TLS_RSA_EXPORT_WITH_RC2_CBC_40_MD5"}, {0x0003, "TLS_RSA_EXPORT_WITH_RC4_40_MD5"},
	{0xc010, "TLS_ECDHE_RSA_WITH_NULL_SHA"}, {0xc006, "TLS_ECDHE_ECDSA_WITH_NULL_SHA"},
	{0x003b, "TLS_RSA_WITH_NULL_SHA256"}, {0x0002, "TLS_RSA_WITH_NULL_SHA"}, {0x0001, "TLS_RSA_WITH_NULL_MD5"},
}

// allGroups are x25519, x448, the curves of NIST and Brainpool, secp224r1, secp192r1,
// secp256k1, sect283, and the groups of RFC 7919.
var allGroups = []uint16{29, 23, 24, 25, 30, 26, 27, 28, 21, 19, 22, 9, 10, 256, 257, 258}

// allSignatures are ECDSA, EdDSA, RSA-PSS, PKCS #1 and DSA, down to SHA-1 and MD5.
var allSignatures = []uint16{0x0403, 0x0503, 0x0603, 0x0807, 0x0808, 0x0809, 0x080a, 0x080b, 0x0804, 0x0805, 0x0806,
	0x0401, 0x0501, 0x0601, 0x0303, 0x0301, 0x0203, 0x0201, 0x0402, 0x0502, 0x0602, 0x0302, 0x0202, 0x0101}

// clientHello returns one record with a ClientHello (RFC 5246, 7.4.1.2).
func clientHello(s style, serverName string) []byte {
	var b cryptobyte.Builder
	b.AddUint8(22)
	b.AddUint16(tls.VersionTLS10)
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
		b.AddUint8(1)
		b.AddUint24LengthPrefixed(func(b *cryptobyte.Builder) {
			b.AddUint16(s.version)
			b.AddBytes(make([]byte, 32)) // nothing will be encrypted
			b.AddUint8(0)
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
				for _, id := range s.offered() {
					b.AddUint16(id)
				}
				b.AddUint16(0x00ff) // renegotiation_info (RFC 5746, 3.3)
			})
			b.AddBytes([]byte{1, 0})
			if s.extensions {
				b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { s.addExtensions(b, serverName) })
			}
		})
	})
	return b.BytesOrPanic()
}

// offered returns the suites of a ClientHello, those of TLS 1.3 aside.
func (s style) offered() []uint16 {
	if s.suites != nil {
		return s.suites
	}
	out := slices.DeleteFunc(slices.Clone(allSuites), func(id uint16) bool { return id>>8 == 0x13 })
	for _, suite := range rareSuites {
		out = append(out, suite.id)
	}
	return out
}

func (s style) addExtensions(b *cryptobyte.Builder, serverName string) {
	extension := func(id uint16, body func(*cryptobyte.Builder)) {
		b.AddUint16(id)
		b.AddUint16LengthPrefixed(body)
	}
	list := func(numbers []uint16) func(*cryptobyte.Builder) {
		return func(b *cryptobyte.Builder) {
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
				for _, n := range numbers {
					b.AddUint16(n)
				}
			})
		}
	}
	if serverName != "" && net.ParseIP(serverName) == nil {
		extension(0, func(b *cryptobyte.Builder) {
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
				b.AddUint8(0)
				b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes([]byte(serverName)) })
			})
		})
	}
	extension(10, list(allGroups))
	extension(11, func(b *cryptobyte.Builder) { b.AddBytes([]byte{3, 0, 1, 2}) })
	signatures := allSignatures
	if s.signatures != nil {
		signatures = s.signatures
	}
	extension(13, list(signatures))
}

// errNoChain is that a box answered and sent no chain.
var errNoChain = errors.New("it sends no certificate")

// bareHello sends a ClientHello of a style and reads what comes up to the chain.
func bareHello(s style) asking {
	return func(_ context.Context, conn net.Conn, t Target, reading *Reading) error {
		if _, err := conn.Write(clientHello(s, t.ServerName)); err != nil {
			return err
		}
		var records []byte
		for buffer := make([]byte, 4<<10); len(records) < mostKept; {
			n, err := conn.Read(buffer)
			records = append(records, buffer[:n]...)
			if reading.see(records) {
				conn.Write([]byte{21, 3, byte(s.version), 0, 2, 1, 90}) // user_canceled (RFC 5246, 7.2.2)
				reading.remark(finding.NotAgreed.Found("only the certificate could be read: the device speaks "+
					"%s with %s", reading.Version, reading.Suite))
				return nil
			}
			if err != nil {
				return err
			}
		}
		return errNoChain
	}
}

// mostKept bounds what is kept of a handshake.
const mostKept = 256 << 10

// see finds version, suite and chain in the clear records of a handshake.
func (r *Reading) see(records []byte) bool {
	for messages := handshake(records); !messages.Empty(); {
		var kind uint8
		var body cryptobyte.String
		if !messages.ReadUint8(&kind) || !messages.ReadUint24LengthPrefixed(&body) {
			return false
		}
		switch kind {
		case 2: // ServerHello
			var version, suite uint16
			var session cryptobyte.String
			if body.ReadUint16(&version) && body.Skip(32) && body.ReadUint8LengthPrefixed(&session) &&
				body.ReadUint16(&suite) {
				r.Version, r.Suite = tls.VersionName(version), suiteName(suite)
			}
		case 11: // Certificate
			r.Chain = certificates(body)
			return r.Chain != nil
		}
	}
	return false
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
