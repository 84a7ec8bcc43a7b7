package wire

import (
	"context"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"hash"
	"net"

	"freshseal/core/pki/cert"

	"golang.org/x/crypto/cryptobyte"
)

// Up to TLS 1.2 the suites that a client offers decide which kind of key a server uses. In TLS 1.3 the signature
// algorithms do (RFC 8446, 4.2.3), and crypto/tls offers all of them. So a handshake is made by hand as far as the
// server's signature, which proves that it holds the key, and ends there.

// helloFor13 asks for the chain of a kind of key by TLS 1.3.
func helloFor13(kind cert.KeyKind) asking {
	return func(_ context.Context, conn net.Conn, t Target, reading *Reading) error {
		hello, err := newHello13(kind, t.ServerName)
		if err != nil {
			return err
		}
		if _, err := conn.Write(hello.record()); err != nil {
			return err
		}
		var records []byte
		for buffer := make([]byte, 4<<10); len(records) < mostKept; {
			n, err := conn.Read(buffer)
			records = append(records, buffer[:n]...)
			if done, wrong := hello.see(records, reading); done || wrong != nil {
				return wrong
			}
			if err != nil {
				return err
			}
		}
		return errNoChain
	}
}

// hello13 is a ClientHello of TLS 1.3 (RFC 8446, 4.1.2) with the keys of its shares.
type hello13 struct {
	message []byte
	shares  []share
}

// share is a key for one group (RFC 8446, 4.2.8).
type share struct {
	group tls.CurveID
	curve ecdh.Curve
	key   *ecdh.PrivateKey
}

func newHello13(kind cert.KeyKind, serverName string) (hello13, error) {
	var h hello13
	var err error
	for _, s := range []share{{group: tls.X25519, curve: ecdh.X25519()}, {group: tls.CurveP256, curve: ecdh.P256()},
		{group: tls.CurveP384, curve: ecdh.P384()}} {
		if s.key, err = s.curve.GenerateKey(rand.Reader); err != nil {
			return h, err
		}
		h.shares = append(h.shares, s)
	}
	random := make([]byte, 64) // with a session's number, as clients send one that boxes between may want to see
	rand.Read(random)
	var b cryptobyte.Builder
	b.AddUint8(1)
	b.AddUint24LengthPrefixed(func(b *cryptobyte.Builder) {
		b.AddUint16(tls.VersionTLS12)
		b.AddBytes(random[:32])
		b.AddUint8LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes(random[32:]) })
		b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
			for _, suite := range []uint16{tls.TLS_AES_128_GCM_SHA256, tls.TLS_AES_256_GCM_SHA384,
				tls.TLS_CHACHA20_POLY1305_SHA256} {
				b.AddUint16(suite)
			}
		})
		b.AddBytes([]byte{1, 0})
		b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
			style{signatures: signaturesFor(kind)}.addExtensions(b, serverName)
			b.AddUint16(43) // supported_versions
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
				b.AddUint8LengthPrefixed(func(b *cryptobyte.Builder) { b.AddUint16(tls.VersionTLS13) })
			})
			b.AddUint16(51) // key_share
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
				b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
					for _, share := range h.shares {
						b.AddUint16(uint16(share.group))
						b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
							b.AddBytes(share.key.PublicKey().Bytes())
						})
					}
				})
			})
		})
	})
	h.message, err = b.Bytes()
	return h, err
}

func (h hello13) record() []byte {
	var b cryptobyte.Builder
	b.AddUint8(22)
	b.AddUint16(tls.VersionTLS10)
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes(h.message) })
	return b.BytesOrPanic()
}

// see finds the chain in the records that came so far, and checks the signature with its key.
func (h hello13) see(records []byte, reading *Reading) (done bool, err error) {
	hello := handshake(records)
	var body cryptobyte.String
	var kind uint8
	whole := []byte(hello)
	if !hello.ReadUint8(&kind) || kind != 2 || !hello.ReadUint24LengthPrefixed(&body) {
		return false, nil
	}
	whole = whole[:len(whole)-len(hello)]
	suite, shared, err := h.agreed(body)
	if err != nil {
		return false, err
	}
	reading.Version, reading.Suite = tls.VersionName(tls.VersionTLS13), tls.CipherSuiteName(suite)
	hashed, _ := suiteHash(reading.Suite)
	secret, err := serverSecret(hashed, shared, h.message, whole)
	if err != nil {
		return false, err
	}
	soFar := hashed()
	soFar.Write(h.message)
	soFar.Write(whole)
	messages := unsealed(records, reading.Suite, secret)
	for !messages.Empty() {
		before := []byte(messages)
		var kind uint8
		var body cryptobyte.String
		if !messages.ReadUint8(&kind) || !messages.ReadUint24LengthPrefixed(&body) {
			return false, nil
		}
		switch kind {
		case 11:
			if reading.Chain = certificates13(body); reading.Chain == nil {
				return false, errNoChain
			}
		case 15: // CertificateVerify
			if reading.Chain == nil {
				return false, errNoChain
			}
			return true, signed(reading.Chain[0], body, soFar.Sum(nil))
		}
		soFar.Write(before[:len(before)-len(messages)])
	}
	return false, nil
}

// agreed reads a ServerHello (RFC 8446, 4.1.3): the suite, and the secret that the shares make.
func (h hello13) agreed(body cryptobyte.String) (suite uint16, shared []byte, err error) {
	var session, extensions cryptobyte.String
	var version uint16
	var compression uint8
	if !body.ReadUint16(&version) || !body.Skip(32) || !body.ReadUint8LengthPrefixed(&session) ||
		!body.ReadUint16(&suite) || !body.ReadUint8(&compression) || !body.ReadUint16LengthPrefixed(&extensions) {
		return 0, nil, errNoChain
	}
	for !extensions.Empty() {
		var id, group uint16
		var data, theirs cryptobyte.String
		if !extensions.ReadUint16(&id) || !extensions.ReadUint16LengthPrefixed(&data) {
			break
		}
		if id != 51 || !data.ReadUint16(&group) || !data.ReadUint16LengthPrefixed(&theirs) {
			continue
		}
		for _, own := range h.shares {
			if own.group != tls.CurveID(group) {
				continue
			}
			key, err := own.curve.NewPublicKey(theirs)
			if err != nil {
				return 0, nil, err
			}
			shared, err = own.key.ECDH(key)
			return suite, shared, err
		}
	}
	return 0, nil, errors.New("it does not speak TLS 1.3, or wants another group")
}

// serverSecret returns the traffic secret of the server's part of the handshake (RFC 8446, 7.1).
func serverSecret(hashed func() hash.Hash, shared, clientHello, serverHello []byte) ([]byte, error) {
	zero := make([]byte, hashed().Size())
	early, err := hkdf.Extract(hashed, zero, nil)
	if err != nil {
		return nil, err
	}
	derived, err := expand(hashed, early, "derived", hashed().Sum(nil), len(zero))
	if err != nil {
		return nil, err
	}
	agreed, err := hkdf.Extract(hashed, shared, derived)
	if err != nil {
		return nil, err
	}
	soFar := hashed()
	soFar.Write(clientHello)
	soFar.Write(serverHello)
	return expand(hashed, agreed, "s hs traffic", soFar.Sum(nil), len(zero))
}

// signatureHashes are the hashes of the signature algorithms that TLS 1.3 knows for these keys (RFC 8446, 4.2.3).
var signatureHashes = map[uint16]crypto.Hash{0x0403: crypto.SHA256, 0x0503: crypto.SHA384, 0x0603: crypto.SHA512,
	0x0804: crypto.SHA256, 0x0805: crypto.SHA384, 0x0806: crypto.SHA512}

// signed checks the message CertificateVerify (RFC 8446, 4.4.3): the server has signed all that came before.
func signed(leaf *cert.Certificate, body cryptobyte.String, soFar []byte) error {
	var algorithm uint16
	var signature cryptobyte.String
	if !body.ReadUint16(&algorithm) || !body.ReadUint16LengthPrefixed(&signature) {
		return errNoChain
	}
	hashed, known := signatureHashes[algorithm]
	parsed, err := x509.ParseCertificate(leaf.Raw)
	if err != nil || !known {
		return fmt.Errorf("its signature by algorithm %04x cannot be checked: %w", algorithm,
			errors.Join(err, errNoChain))
	}
	digest := hashed.New()
	for range 64 {
		digest.Write([]byte{' '})
	}
	digest.Write([]byte("TLS 1.3, server CertificateVerify\x00"))
	digest.Write(soFar)
	valid := false
	switch key := parsed.PublicKey.(type) {
	case *ecdsa.PublicKey:
		valid = algorithm>>8 != 8 && ecdsa.VerifyASN1(key, digest.Sum(nil), signature)
	case *rsa.PublicKey:
		valid = algorithm>>8 == 8 && rsa.VerifyPSS(key, hashed, digest.Sum(nil), signature, nil) == nil
	}
	if !valid {
		return errors.New("it does not hold the key of the certificate that it shows")
	}
	return nil
}
