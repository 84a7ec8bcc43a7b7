package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"io"
	mathrand "math/rand/v2"
)

// Seed decides all that is random about a fleet: keys, host keys, serial numbers
// and the boxes' passwords. Only time makes two fleets of one seed differ.
type Seed uint64

// reader gives the randomness of one thing of the fleet, by its name.
func (s Seed) reader(name string) io.Reader {
	return mathrand.NewChaCha8(sha256.Sum256(fmt.Appendf(nil, "fleet %d: %s", s, name)))
}

// newKey makes a P-256 key of this randomness. crypto/ecdsa's own way to make
// keys takes no other randomness than the system's.
func newKey(random io.Reader) (*ecdsa.PrivateKey, error) {
	for {
		scalar := make([]byte, 32)
		if _, err := io.ReadFull(random, scalar); err != nil {
			return nil, err
		}
		if key, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), scalar); err == nil {
			return key, nil // the others, one in 2³², lie outside the group
		}
	}
}

// orSystem is the system's randomness where none is given.
func orSystem(random io.Reader) io.Reader {
	if random == nil {
		return rand.Reader
	}
	return random
}
