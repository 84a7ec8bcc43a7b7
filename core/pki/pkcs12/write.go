package pkcs12

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"io"
	"strconv"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// Store is what Write writes.
type Store struct {
	Alias        string   // of the key and its leaf; may be empty
	Key          []byte   // PKCS #8
	Certificates [][]byte // DER, the key's first
	Old          bool     // 3DES and SHA-1 instead of AES-256 and SHA-256, for boxes that know nothing newer
}

// The rounds that are written: what OpenSSL writes, which small boxes bear.
const writtenRounds = 2048

// Write makes a store, locked with a passphrase.
func Write(random io.Reader, s Store, passphrase string) ([]byte, error) {
	w := writer{random: random, passphrase: passphrase, old: s.Old}
	leaf := sha1.Sum(s.Certificates[0])
	certificates := sequence(func(b *cryptobyte.Builder) {
		for i, der := range s.Certificates {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				certificateBag.add(b)
				b.AddASN1(explicit(0), func(b *cryptobyte.Builder) {
					b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
						x509Certificate.add(b)
						b.AddASN1(explicit(0), func(b *cryptobyte.Builder) { b.AddASN1OctetString(der) })
					})
				})
				if i == 0 {
					attributes(b, leaf[:], s.Alias)
				}
			})
		}
	})
	lockedCertificates, certificateLock := w.lock(certificates)
	lockedKey, keyLock := w.lock(s.Key)
	keys := sequence(func(b *cryptobyte.Builder) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			lockedKeyBag.add(b)
			b.AddASN1(explicit(0), func(b *cryptobyte.Builder) {
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddBytes(keyLock)
					b.AddASN1OctetString(lockedKey)
				})
			})
			attributes(b, leaf[:], s.Alias)
		})
	})
	safe := sequence(func(b *cryptobyte.Builder) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			encryptedData.add(b)
			b.AddASN1(explicit(0), func(b *cryptobyte.Builder) {
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1Int64(0)
					b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
						data.add(b)
						b.AddBytes(certificateLock)
						b.AddASN1(tags.Tag(0).ContextSpecific(), func(b *cryptobyte.Builder) {
							b.AddBytes(lockedCertificates)
						})
					})
				})
			})
		})
		inClear(b, keys)
	})
	salt := w.some(16)
	mac, digest := sha256.New, sha256ID
	if s.Old {
		mac, digest = sha1.New, sha1ID
	}
	if w.err != nil {
		return nil, w.err
	}
	sum := hmac.New(mac, derive(mac, wide(passphrase), salt, writtenRounds, forMAC, mac().Size()))
	sum.Write(safe)
	return sequence(func(b *cryptobyte.Builder) {
		b.AddASN1Int64(3)
		inClear(b, safe)
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) { digest.add(b); b.AddASN1NULL() })
				b.AddASN1OctetString(sum.Sum(nil))
			})
			b.AddASN1OctetString(salt)
			b.AddASN1Int64(writtenRounds)
		})
	}), nil
}

// LockKey locks a private key (PKCS #8) outside of any store, as
// EncryptedPrivateKeyInfo with AES-256 (RFC 5958, 3).
func LockKey(random io.Reader, key []byte, passphrase string) ([]byte, error) {
	w := writer{random: random, passphrase: passphrase}
	locked, lock := w.lock(key)
	return sequence(func(b *cryptobyte.Builder) {
		b.AddBytes(lock)
		b.AddASN1OctetString(locked)
	}), w.err
}

// inClear adds a ContentInfo of data.
func inClear(b *cryptobyte.Builder, content []byte) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		data.add(b)
		b.AddASN1(explicit(0), func(b *cryptobyte.Builder) { b.AddASN1OctetString(content) })
	})
}

// attributes say which key and leaf belong together, and what they are called.
func attributes(b *cryptobyte.Builder, id []byte, alias string) {
	add := func(b *cryptobyte.Builder, kind oid, tag tags.Tag, value []byte) {
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			kind.add(b)
			b.AddASN1(tags.SET, func(b *cryptobyte.Builder) {
				b.AddASN1(tag, func(b *cryptobyte.Builder) { b.AddBytes(value) })
			})
		})
	}
	b.AddASN1(tags.SET, func(b *cryptobyte.Builder) {
		if alias != "" {
			add(b, friendlyName, bmpString, bmp(alias)) // the longer one stands last in DER, and readers mind no order
		}
		add(b, localKeyID, tags.OCTET_STRING, id)
	})
}

type writer struct {
	random     io.Reader
	passphrase string
	old        bool
	err        error
}

func (w *writer) some(n int) []byte {
	out := make([]byte, n)
	if _, err := io.ReadFull(w.random, out); err != nil {
		w.err = err
	}
	return out
}

// lock encrypts a text and gives the AlgorithmIdentifier that opens it.
func (w *writer) lock(plain []byte) (sealed, algorithm []byte) {
	salt := w.some(16)
	if w.old {
		key, iv := derive(sha1.New, wide(w.passphrase), salt, writtenRounds, forKey, 24),
			derive(sha1.New, wide(w.passphrase), salt, writtenRounds, forIV, 8)
		block, err := des.NewTripleDESCipher(key)
		if err != nil {
			w.err = err
			return nil, nil
		}
		return encrypt(block, iv, plain), sequence(func(b *cryptobyte.Builder) {
			tripleDES.add(b)
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1OctetString(salt)
				b.AddASN1Int64(writtenRounds)
			})
		})
	}
	iv := w.some(16)
	key, err := pbkdf2.Key(sha256.New, w.passphrase, salt, writtenRounds, 32)
	if err != nil {
		w.err = err
		return nil, nil
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		w.err = err
		return nil, nil
	}
	return encrypt(block, iv, plain), sequence(func(b *cryptobyte.Builder) {
		pbes2.add(b)
		b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				pbkdf2ID.add(b)
				b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1OctetString(salt)
					b.AddASN1Int64(writtenRounds)
					b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) { hmacSHA256.add(b); b.AddASN1NULL() })
				})
			})
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) { aes256.add(b); b.AddASN1OctetString(iv) })
		})
	})
}

// encrypt pads a text (RFC 5652, 6.3) and encrypts it.
func encrypt(block cipher.Block, iv, plain []byte) []byte {
	n := block.BlockSize() - len(plain)%block.BlockSize()
	out := make([]byte, len(plain)+n)
	copy(out, plain)
	for i := len(plain); i < len(out); i++ {
		out[i] = byte(n)
	}
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(out, out)
	return out
}

// sequence makes DER of one sequence; its builders cannot fail.
func sequence(fill func(*cryptobyte.Builder)) []byte {
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, fill)
	return b.BytesOrPanic()
}

func (o oid) add(b *cryptobyte.Builder) {
	var id asn1.ObjectIdentifier
	for part := range strings.SplitSeq(string(o), ".") {
		n, _ := strconv.Atoi(part) // all of them stand in this package
		id = append(id, n)
	}
	b.AddASN1ObjectIdentifier(id)
}
