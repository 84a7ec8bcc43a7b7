package cert

import (
	"crypto/rsa"
	"errors"
	"fmt"
)

// Bounds of RSA keys whose signatures are checked. One check costs the square of the
// modulus times the bits of the exponent: with 256 kB of modulus it would take
// minutes. The largest keys in use have 16,384 bits; exponents beyond 2^32 make a key
// slower and no better (FIPS 186-5, A.1.1 allows up to 2^256).
const (
	MostRSABits = 16_384
	mostRSAExp  = 1<<31 - 1
)

// ErrUnbounded means that a key is not one with which signatures are checked.
var ErrUnbounded = errors.New("its key is out of bounds, and no signature is checked with it")

// Bounded returns nil if a signature may be checked with a public key, else an error that wraps ErrUnbounded. Keys on
// elliptic curves are bounded by their curve: only named ones are read.
func Bounded(public any) error {
	key, ok := public.(*rsa.PublicKey)
	if !ok {
		return nil
	}
	switch {
	case key.N == nil || key.N.BitLen() > MostRSABits:
		return fmt.Errorf("%w: RSA with more than %d bits", ErrUnbounded, MostRSABits)
	case key.N.Sign() <= 0 || key.N.Bit(0) == 0:
		return fmt.Errorf("%w: an RSA modulus that is even or not positive", ErrUnbounded)
	case key.E < 3 || key.E > mostRSAExp || key.E%2 == 0:
		return fmt.Errorf("%w: the RSA exponent %d", ErrUnbounded, key.E)
	}
	return nil
}
