// Package strongbox seals secrets so that the database alone gives nothing
// away: XChaCha20-Poly1305 under a key that lies in a file of its own.
//
//	sealed = nonce (24 bytes) ‖ ciphertext ‖ tag (16 bytes)
//
// Each secret is bound to its purpose: what was sealed as the password of one
// device cannot be opened as that of another.
package strongbox

import (
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// Box seals and opens secrets.
type Box struct {
	aead cipher.AEAD
	key  []byte
}

// ErrCannotOpen means that a secret was sealed with another key or for another
// purpose, or was changed.
var ErrCannotOpen = errors.New("a sealed secret cannot be opened: the strongbox key is not the one it was sealed with")

// Open reads the key file, or makes it (readable by its owner alone) where
// there is none yet.
func Open(file string) (*Box, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		if err := makeKey(file); err != nil {
			return nil, fmt.Errorf("making the strongbox key: %w", err)
		}
	} else if err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the strongbox key %s can be read by others; run: chmod 600 %s", file, file)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the strongbox key: %w", err)
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("the strongbox key %s is damaged; put back the copy that you keep apart", file)
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	return &Box{aead, key}, nil
}

// makeKey writes a new key whole or not at all.
func makeKey(file string) error {
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	part := file + ".part"
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.WriteString(hex.EncodeToString(key) + "\n"); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	return os.Rename(part, file)
}

// Seal seals a secret for a purpose.
func (b *Box) Seal(purpose string, secret []byte) []byte {
	nonce := make([]byte, b.aead.NonceSize(), b.aead.NonceSize()+len(secret)+b.aead.Overhead())
	rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, secret, []byte(purpose))
}

// Open opens what was sealed for the same purpose.
func (b *Box) Open(purpose string, sealed []byte) ([]byte, error) {
	if len(sealed) < b.aead.NonceSize() {
		return nil, ErrCannotOpen
	}
	secret, err := b.aead.Open(nil, sealed[:b.aead.NonceSize()], sealed[b.aead.NonceSize():], []byte(purpose))
	if err != nil {
		return nil, ErrCannotOpen
	}
	return secret, nil
}

// Key derives a key of 32 bytes for a purpose (HKDF, RFC 5869): for what is not
// sealed but marked, so that nobody without the strongbox key can make the mark.
func (b *Box) Key(purpose string) []byte {
	key, err := hkdf.Key(sha256.New, b.key, nil, "freshseal "+purpose, 32)
	if err != nil {
		panic(err) // the length is one that HKDF gives
	}
	return key
}
