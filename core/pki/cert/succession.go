package cert

import (
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"io"
)

// Endorsement means that a certificate is followed by another one, in the name
// of whoever held the key of the first: a user who pinned the first may pin
// the second instead.
type Endorsement struct {
	Old       []byte `json:"old" required:"true"`
	NewSHA256 string `json:"new_sha256" required:"true"`
	Signature []byte `json:"signature" required:"true"`
}

// message returns what is signed: nothing else that is ever signed looks like it.
func message(old []byte, newSHA256 string) []byte {
	return []byte("freshseal: " + Fingerprint(old) + " is followed by " + newSHA256)
}

// Endorse signs with the key of the old certificate that the new one follows it.
func Endorse(random io.Reader, old []byte, key crypto.Signer, newSHA256 string) (Endorsement, error) {
	digest := sha256.Sum256(message(old, newSHA256))
	signature, err := key.Sign(random, digest[:], crypto.SHA256)
	return Endorsement{old, newSHA256, signature}, err
}

// ErrNotFollowed means that no endorsements lead from the pinned certificate to
// the one that is shown.
var ErrNotFollowed = errors.New("the certificate that is shown does not follow the pinned one")

// Follow goes from the pinned fingerprint from one endorsement to the next and
// fails unless it comes to the shown one. Endorsements that are not signed by
// the key of their old certificate lead nowhere.
func Follow(pinned, shown string, endorsements []Endorsement) error {
	reached := map[string]bool{pinned: true}
	for grown := true; grown && !reached[shown]; {
		grown = false
		for _, e := range endorsements {
			if reached[Fingerprint(e.Old)] && !reached[e.NewSHA256] && e.holds() {
				reached[e.NewSHA256], grown = true, true
			}
		}
	}
	if !reached[shown] {
		return ErrNotFollowed
	}
	return nil
}

func (e Endorsement) holds() bool {
	old, err := Parse(e.Old)
	if err != nil {
		return false
	}
	algorithm := x509.SHA256WithRSA
	if old.keyKind == ECDSA {
		algorithm = x509.ECDSAWithSHA256
	}
	return old.X509().CheckSignature(algorithm, message(e.Old, e.NewSHA256), e.Signature) == nil
}
