package cert

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
)

// KeyKind is a family of keys.
type KeyKind string

// The kinds; others are reported and not used.
const (
	UnknownKey KeyKind = ""
	RSA        KeyKind = "RSA"
	ECDSA      KeyKind = "ECDSA"
	Ed25519    KeyKind = "Ed25519"
)

// measure tells the kind of a public key and its size in bits.
func measure(public any) (KeyKind, int) {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return RSA, k.N.BitLen()
	case *ecdsa.PublicKey:
		return ECDSA, k.Curve.Params().BitSize
	case ed25519.PublicKey:
		return Ed25519, 256
	}
	return UnknownKey, 0
}

// KeySize returns the kind of the public key and its size in bits.
func (c *Certificate) KeySize() (KeyKind, int) { return c.keyKind, c.keyBits }

// Key names the kind and size of the public key: "ECDSA P-256", "RSA 2048".
func (c *Certificate) Key() string { return keyText(c.keyKind, c.keyBits) }

// KeyText names the kind and size of a public key.
func KeyText(public any) string { return keyText(measure(public)) }

func keyText(kind KeyKind, bits int) string {
	switch kind {
	case RSA:
		return fmt.Sprintf("RSA %d", bits)
	case ECDSA:
		return fmt.Sprintf("ECDSA P-%d", bits)
	case Ed25519:
		return "Ed25519"
	}
	return "of an unknown kind"
}

// WeakKey reports whether the key is smaller than 2048 bits of RSA or 224 of an
// elliptic curve (NIST SP 800-131A).
func (c *Certificate) WeakKey() bool {
	return c.keyKind == RSA && c.keyBits < 2048 || c.keyKind == ECDSA && c.keyBits < 224
}

// PublicKey reads the public key; nil where it is of a kind that is not known.
func (c *Certificate) PublicKey() crypto.PublicKey {
	key, err := x509.ParsePKIXPublicKey(c.RawSubjectPublicKeyInfo)
	if err != nil {
		return nil
	}
	return key
}
