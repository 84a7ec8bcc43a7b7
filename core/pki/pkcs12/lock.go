package pkcs12

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/asn1"
	"fmt"
	"hash"
	"math/big"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/scrypt"
)

// oid is an object identifier as text.
type oid string

// What is in stores.
const (
	data          oid = "1.2.840.113549.1.7.1"
	encryptedData oid = "1.2.840.113549.1.7.6"

	keyBag         oid = "1.2.840.113549.1.12.10.1.1"
	lockedKeyBag   oid = "1.2.840.113549.1.12.10.1.2"
	certificateBag oid = "1.2.840.113549.1.12.10.1.3"
	revocationBag  oid = "1.2.840.113549.1.12.10.1.4"
	contentsBag    oid = "1.2.840.113549.1.12.10.1.6"

	x509Certificate oid = "1.2.840.113549.1.9.22.1"
	x509Revocations oid = "1.2.840.113549.1.9.23.1"
	friendlyName    oid = "1.2.840.113549.1.9.20"
	localKeyID      oid = "1.2.840.113549.1.9.21"

	tripleDES oid = "1.2.840.113549.1.12.1.3" // with SHA-1, RFC 7292, appendix C
	rc2128    oid = "1.2.840.113549.1.12.1.5"
	rc240     oid = "1.2.840.113549.1.12.1.6"
	pbes2     oid = "1.2.840.113549.1.5.13" // RFC 8018, 6.2
	pbkdf2ID  oid = "1.2.840.113549.1.5.12"
	scryptID  oid = "1.3.6.1.4.1.11591.4.11" // RFC 7914, 7
	aes128    oid = "2.16.840.1.101.3.4.1.2"
	aes192    oid = "2.16.840.1.101.3.4.1.22"
	aes256    oid = "2.16.840.1.101.3.4.1.42"
	des3      oid = "1.2.840.113549.3.7"

	hmacSHA1   oid = "1.2.840.113549.2.7"
	hmacSHA256 oid = "1.2.840.113549.2.9"
	sha1ID     oid = "1.3.14.3.2.26"
	sha256ID   oid = "2.16.840.1.101.3.4.2.1"
)

// digests are those that protect a store; mixers those that derive keys.
var (
	digests = map[oid]func() hash.Hash{
		sha1ID: sha1.New, sha256ID: sha256.New, "2.16.840.1.101.3.4.2.4": sha256.New224,
		"2.16.840.1.101.3.4.2.2": sha512.New384, "2.16.840.1.101.3.4.2.3": sha512.New,
	}
	mixers = map[oid]func() hash.Hash{
		hmacSHA1: sha1.New, hmacSHA256: sha256.New, "1.2.840.113549.2.8": sha256.New224,
		"1.2.840.113549.2.10": sha512.New384, "1.2.840.113549.2.11": sha512.New,
	}
)

func (o *oid) read(s *cryptobyte.String) bool {
	var id asn1.ObjectIdentifier
	ok := s.ReadASN1ObjectIdentifier(&id)
	*o = oid(id.String())
	return ok
}

// mostRounds is how many rounds of key derivation one lock may ask for; what
// asks for more was made to keep us busy. Programs in use ask for up to a million.
const mostRounds = 5_000_000

// Effort is how many rounds of key derivation may still be done, all in all.
type Effort int64

// NewEffort returns enough for any pile that was not made to keep us busy.
func NewEffort() *Effort {
	e := Effort(4 * mostRounds)
	return &e
}

// ErrRounds says how many rounds something asks for that is too much.
type ErrRounds struct{ Asked int64 }

func (e ErrRounds) Error() string {
	return fmt.Sprintf("it asks for %d rounds of key derivation, more than are done here", e.Asked)
}

func (e *Effort) take(rounds int) error {
	if rounds < 1 || rounds > mostRounds || Effort(rounds) > *e {
		return ErrRounds{int64(rounds)}
	}
	*e -= Effort(rounds)
	return nil
}

// The purposes of keys derived by RFC 7292, appendix B.3.
const (
	forKey = 1
	forIV  = 2
	forMAC = 3
)

// derive makes key material of a passphrase in the older way (RFC 7292, appendix
// B.2).
func derive(h func() hash.Hash, passphrase, salt []byte, rounds int, purpose byte, size int) []byte {
	d := h()
	v := d.BlockSize()
	input := append(filled(salt, v), filled(passphrase, v)...)
	diversifier := make([]byte, v)
	for i := range diversifier {
		diversifier[i] = purpose
	}
	var out []byte
	for one := big.NewInt(1); len(out) < size; {
		d.Reset()
		d.Write(diversifier)
		d.Write(input)
		a := d.Sum(nil)
		for range rounds - 1 {
			d.Reset()
			d.Write(a)
			a = d.Sum(a[:0])
		}
		out = append(out, a...)
		add := new(big.Int).Add(new(big.Int).SetBytes(filled(a, v)[:v]), one)
		for i := 0; i < len(input); i += v {
			sum := new(big.Int).Add(new(big.Int).SetBytes(input[i:i+v]), add).Bytes()
			if len(sum) > v {
				sum = sum[len(sum)-v:]
			}
			clear(input[i : i+v])
			copy(input[i+v-len(sum):i+v], sum)
		}
	}
	return out[:size]
}

// filled repeats a text until it fills whole blocks.
func filled(text []byte, block int) []byte {
	if len(text) == 0 {
		return nil
	}
	out := make([]byte, (len(text)+block-1)/block*block)
	for i := range out {
		out[i] = text[i%len(text)]
	}
	return out
}

const bmpString = tags.Tag(30)

// wide writes a passphrase as a BMPString with its end (RFC 7292, appendix B.1).
func wide(passphrase string) []byte {
	return append(bmp(passphrase), 0, 0)
}

func bmp(text string) []byte {
	var out []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		out = append(out, byte(unit>>8), byte(unit))
	}
	return out
}

func narrow(text []byte) string {
	var units []uint16
	for i := 0; i+1 < len(text); i += 2 {
		units = append(units, uint16(text[i])<<8|uint16(text[i+1]))
	}
	return string(utf16.Decode(units))
}

// unlock decrypts what is locked by an AlgorithmIdentifier, whose content is given.
func unlock(algorithm cryptobyte.String, sealed []byte, passphrase string, wide []byte,
	effort *Effort) ([]byte, error) {
	block, iv, err := lock(algorithm, passphrase, wide, effort)
	if err != nil {
		return nil, err
	}
	size := block.BlockSize()
	if len(sealed) == 0 || len(sealed)%size != 0 || len(iv) != size {
		return nil, ErrForm
	}
	plain := make([]byte, len(sealed))
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, sealed)
	padding := int(plain[len(plain)-1])
	if padding == 0 || padding > size {
		return nil, ErrPassphrase
	}
	for _, b := range plain[len(plain)-padding:] {
		if int(b) != padding {
			return nil, ErrPassphrase
		}
	}
	plain = plain[:len(plain)-padding]
	// Where nothing protects the store, one wrong passphrase in 256 passes the
	// padding; what it gives is hardly ever DER.
	if rest, whole := cryptobyte.String(plain), cryptobyte.String(nil); !rest.ReadASN1(&whole, tags.SEQUENCE) ||
		!rest.Empty() {
		return nil, ErrPassphrase
	}
	return plain, nil
}

// lock makes the cipher and the initial vector that an AlgorithmIdentifier names.
func lock(algorithm cryptobyte.String, passphrase string, wide []byte, effort *Effort) (cipher.Block, []byte, error) {
	var kind oid
	var parameters cryptobyte.String
	if !kind.read(&algorithm) || !algorithm.ReadASN1(&parameters, tags.SEQUENCE) {
		return nil, nil, ErrForm
	}
	if kind == pbes2 {
		return lock2(parameters, passphrase, effort)
	}
	size := map[oid]int{tripleDES: 24, rc2128: 16, rc240: 5}[kind]
	if size == 0 {
		return nil, nil, fmt.Errorf("it is locked in a way that is not read here (%s)", kind)
	}
	var salt cryptobyte.String
	var rounds int
	if !parameters.ReadASN1(&salt, tags.OCTET_STRING) || !parameters.ReadASN1Integer(&rounds) {
		return nil, nil, ErrForm
	}
	if err := effort.take(rounds); err != nil {
		return nil, nil, err
	}
	key, iv := derive(sha1.New, wide, salt, rounds, forKey, size), derive(sha1.New, wide, salt, rounds, forIV, 8)
	if kind == tripleDES {
		block, err := des.NewTripleDESCipher(key)
		return block, iv, err
	}
	return newRC2(key), iv, nil
}

// lock2 reads PBES2-params (RFC 8018, appendix A.4).
func lock2(parameters cryptobyte.String, passphrase string, effort *Effort) (cipher.Block, []byte, error) {
	var derivation, scheme, with, iv cryptobyte.String
	var kind, by oid
	if !parameters.ReadASN1(&derivation, tags.SEQUENCE) || !parameters.ReadASN1(&scheme, tags.SEQUENCE) ||
		!by.read(&derivation) || !kind.read(&scheme) {
		return nil, nil, ErrForm
	}
	size, known := map[oid]int{aes128: 16, aes192: 24, aes256: 32, des3: 24}[kind]
	if !known {
		return nil, nil, fmt.Errorf("it is locked in a way that is not read here (%s)", kind)
	}
	if !scheme.ReadASN1(&iv, tags.OCTET_STRING) || !derivation.ReadASN1(&with, tags.SEQUENCE) {
		return nil, nil, ErrForm
	}
	var key []byte
	var err error
	switch by {
	case pbkdf2ID:
		key, err = mixed(with, passphrase, size, effort)
	case scryptID:
		key, err = scrypted(with, passphrase, size, effort)
	default:
		err = fmt.Errorf("its key is derived in a way that is not read here (%s)", by)
	}
	if err != nil {
		return nil, nil, err
	}
	if kind == des3 {
		block, err := des.NewTripleDESCipher(key)
		return block, iv, err
	}
	block, err := aes.NewCipher(key)
	return block, iv, err
}

// mixed derives a key by PBKDF2 (RFC 8018, appendix A.2).
func mixed(with cryptobyte.String, passphrase string, size int, effort *Effort) ([]byte, error) {
	var salt, mixer cryptobyte.String
	var rounds, told int
	mix := hmacSHA1
	if !with.ReadASN1(&salt, tags.OCTET_STRING) || !with.ReadASN1Integer(&rounds) || with.PeekASN1Tag(tags.INTEGER) &&
		!with.ReadASN1Integer(&told) ||
		!with.Empty() && (!with.ReadASN1(&mixer, tags.SEQUENCE) || !mix.read(&mixer)) {
		return nil, ErrForm
	}
	h, known := mixers[mix]
	if !known {
		return nil, fmt.Errorf("its key is derived in a way that is not read here (%s)", mix)
	}
	if err := effort.take(rounds); err != nil {
		return nil, err
	}
	return pbkdf2.Key(h, passphrase, salt, rounds, size)
}

// scrypted derives a key by scrypt (RFC 7914, 7.1), which takes 128·n·r bytes of
// memory and about as much work as n·r·p rounds of the others.
func scrypted(with cryptobyte.String, passphrase string, size int, effort *Effort) ([]byte, error) {
	const mostMemory = 64 << 20
	var salt cryptobyte.String
	var n, r, p int
	if !with.ReadASN1(&salt, tags.OCTET_STRING) || !with.ReadASN1Integer(&n) || !with.ReadASN1Integer(&r) ||
		!with.ReadASN1Integer(&p) {
		return nil, ErrForm
	}
	if n < 2 || r < 1 || p < 1 || n > mostRounds || r > 64 || p > 64 || 128*n*r > mostMemory {
		return nil, ErrRounds{int64(n)}
	}
	if err := effort.take(n * r * p); err != nil {
		return nil, err
	}
	return scrypt.Key([]byte(passphrase), salt, n, r, p, size)
}
