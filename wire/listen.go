package wire

import (
	"bufio"
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"net"
	"strings"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"

	"golang.org/x/crypto/chacha20poly1305"
	"golang.org/x/crypto/cryptobyte"
)

// crypto/tls ends a handshake at the first certificate that crypto/x509 refuses, and does not
// say what it was. So the bytes are kept on their way. Up to TLS 1.2 the chain is in them in
// clear; in TLS 1.3 it is encrypted with a key that the client knows and tells (RFC 8446, 7.3).

// listenIn makes a handshake and reads the chain from the bytes that came.
func listenIn(ctx context.Context, conn net.Conn, t Target, reading *Reading) error {
	kept, secrets := &keeping{Conn: conn}, &bytes.Buffer{}
	name := t.ServerName
	if t.Protocol.OverEAP() {
		name = ""
	}
	config := light(name)
	config.KeyLogWriter = secrets
	tls.Client(kept, config).HandshakeContext(ctx) // fails as before; by then the chain has come
	if reading.see(kept.bytes) || reading.seeSealed(kept.bytes, secrets.Bytes()) {
		reading.remark(finding.NotAgreed.Found("strict clients end the handshake when they see the certificate"))
		return nil
	}
	return errNoChain
}

// seeSealed finds the chain in the encrypted records of TLS 1.3.
func (r *Reading) seeSealed(records, keyLog []byte) bool {
	var secret []byte
	for lines := bufio.NewScanner(bytes.NewReader(keyLog)); lines.Scan(); {
		words := strings.Fields(lines.Text())
		if len(words) == 3 && words[0] == "SERVER_HANDSHAKE_TRAFFIC_SECRET" {
			secret, _ = hex.DecodeString(words[2]) // crypto/tls writes hexadecimal
		}
	}
	if secret == nil {
		return false
	}
	for messages := unsealed(records, r.Suite, secret); !messages.Empty(); {
		var kind uint8
		var body cryptobyte.String
		if !messages.ReadUint8(&kind) || !messages.ReadUint24LengthPrefixed(&body) {
			return false
		}
		if kind == 11 {
			r.Version, r.Chain = tls.VersionName(tls.VersionTLS13), certificates13(body)
			return r.Chain != nil
		}
	}
	return false
}

// unsealed joins the handshake messages of the encrypted records (RFC 8446, 5.2).
func unsealed(records []byte, suite string, secret []byte) (messages cryptobyte.String) {
	opener, iv, err := openerFor(suite, secret)
	if err != nil {
		return nil
	}
	sequence := uint64(0)
	for rest := cryptobyte.String(records); !rest.Empty(); {
		head := []byte(rest)
		var kind uint8
		var version uint16
		var body cryptobyte.String
		if !rest.ReadUint8(&kind) || !rest.ReadUint16(&version) || !rest.ReadUint16LengthPrefixed(&body) {
			break
		}
		if kind != 23 { // the ServerHello, and change_cipher_spec
			continue
		}
		nonce := bytes.Clone(iv)
		for i, b := range binary.BigEndian.AppendUint64(nil, sequence) {
			nonce[len(nonce)-8+i] ^= b
		}
		sequence++
		clear, err := opener.Open(nil, nonce, body, head[:5])
		if err != nil {
			break
		}
		clear = bytes.TrimRight(clear, "\x00")            // padding
		if len(clear) == 0 || clear[len(clear)-1] != 22 { // an alert
			break
		}
		messages = append(messages, clear[:len(clear)-1]...)
	}
	return messages
}

// certificates13 reads the body of TLS 1.3's message Certificate (RFC 8446, 4.4.2).
func certificates13(body cryptobyte.String) []*cert.Certificate {
	var context, list cryptobyte.String
	if !body.ReadUint8LengthPrefixed(&context) || !body.ReadUint24LengthPrefixed(&list) {
		return nil
	}
	var out []*cert.Certificate
	for !list.Empty() && len(out) < maxChain {
		var der, extensions cryptobyte.String
		if !list.ReadUint24LengthPrefixed(&der) || !list.ReadUint16LengthPrefixed(&extensions) {
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

// suiteHash returns the hash of a suite of TLS 1.3, and the length of its key.
func suiteHash(suite string) (hashed func() hash.Hash, length int) {
	switch suite {
	case "TLS_AES_256_GCM_SHA384":
		return sha512.New384, 32
	case "TLS_CHACHA20_POLY1305_SHA256":
		return sha256.New, chacha20poly1305.KeySize
	}
	return sha256.New, 16
}

// openerFor makes the record protection of a suite from a traffic secret.
func openerFor(suite string, secret []byte) (cipher.AEAD, []byte, error) {
	hashed, length := suiteHash(suite)
	key, err := expand(hashed, secret, "key", nil, length)
	if err != nil {
		return nil, nil, err
	}
	iv, err := expand(hashed, secret, "iv", nil, 12)
	if err != nil {
		return nil, nil, err
	}
	if suite == "TLS_CHACHA20_POLY1305_SHA256" {
		opener, err := chacha20poly1305.New(key)
		return opener, iv, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, nil, err
	}
	opener, err := cipher.NewGCM(block)
	return opener, iv, err
}

// expand returns HKDF-Expand-Label (RFC 8446, 7.1).
func expand(hashed func() hash.Hash, secret []byte, label string, context []byte, length int) ([]byte, error) {
	var info cryptobyte.Builder
	info.AddUint16(uint16(length))
	info.AddUint8LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes([]byte("tls13 " + label)) })
	info.AddUint8LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes(context) })
	return hkdf.Expand(hashed, secret, string(info.BytesOrPanic()), length)
}
