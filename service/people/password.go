package people

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"runtime/debug"
	"strings"
	"sync"

	"golang.org/x/crypto/argon2"
)

// cost is what one try of a password costs.
type cost struct {
	memory, time uint32 // KiB, passes
	threads      uint8
}

var (
	// RFC 9106, section 4, second recommendation.
	peopleCost = cost{64 << 10, 3, 4}
	// A password that the machine made has 96 random bits: nobody guesses it,
	// however cheap a try is.
	machineCost = cost{1 << 10, 1, 1}
)

const passwordLength = 32

var argonLock sync.Mutex // one at a time, in tests too

var nobody = sync.OnceValue(func() string { return hashPassword(rand.Text(), peopleCost) })

const phc = "$argon2id$v=%d$m=%d,t=%d,p=%d$"

// hashPassword writes a password as a PHC string.
func hashPassword(password string, c cost) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return fmt.Sprintf(phc, argon2.Version, c.memory, c.time, c.threads) +
		base64.RawStdEncoding.EncodeToString(salt) + "$" + base64.RawStdEncoding.EncodeToString(c.of(password, salt))
}

func (c cost) of(password string, salt []byte) []byte {
	argonLock.Lock()
	defer argonLock.Unlock()
	defer debug.FreeOSMemory() // what a try takes is given back at once: most services see few
	return argon2.IDKey([]byte(password), salt, c.time, c.memory, c.threads, passwordLength)
}

func passwordFits(hash, password string) bool {
	var version int
	var c cost
	if _, err := fmt.Sscanf(hash, phc, &version, &c.memory, &c.time, &c.threads); err != nil ||
		version != argon2.Version {
		return false
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(want, c.of(password, salt)) == 1
}
