package demo

import (
	"crypto/sha256"
	"fmt"
	"io"
	mathrand "math/rand/v2"
)

// Seed decides all that is random about a fleet: keys, host keys, serial numbers
// and the boxes' passwords. Only time makes two fleets of one seed differ.
type Seed uint64

// reader returns the randomness of one thing of the fleet, by its name.
func (s Seed) reader(name string) io.Reader {
	return mathrand.NewChaCha8(sha256.Sum256(fmt.Appendf(nil, "fleet %d: %s", s, name)))
}
