package engine

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store"
)

// givenKey is what is sealed.
type givenKey struct {
	Key        []byte `json:"key"`        // PKCS #8
	Passphrase string `json:"passphrase"` // of the stores that are made with it
}

// KeyPurpose returns the purpose under which the key of a replacement is sealed.
func KeyPurpose(id int64) string { return "replacement/" + replacement.Name(id) + "/key" }

// GivenKeyOf opens the key of a replacement.
func (s keys) GivenKeyOf(ctx context.Context, id int64) (crypto.Signer, string, error) {
	sealed, err := s.store.Secrets.Get(ctx, KeyPurpose(id))
	if err != nil {
		return nil, "", err
	}
	material, err := s.box.Open(KeyPurpose(id), sealed)
	if err != nil {
		return nil, "", err
	}
	var given givenKey
	if err := json.Unmarshal(material, &given); err != nil {
		return nil, "", fmt.Errorf("opening the key of %s: %w", replacement.Name(id), err)
	}
	key, err := x509.ParsePKCS8PrivateKey(given.Key)
	if err != nil {
		return nil, "", fmt.Errorf("the key of %s is damaged: %w", replacement.Name(id), err)
	}
	return key.(crypto.Signer), given.Passphrase, nil // all keys that are made here can sign
}

// SealKey seals the key of a replacement, with a new passphrase for the stores that contain it.
func (s keys) SealKey(id int64, key crypto.Signer) ([]byte, error) {
	given := givenKey{Passphrase: rand.Text()}
	var err error
	if given.Key, err = x509.MarshalPKCS8PrivateKey(key); err != nil {
		return nil, err
	}
	material, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}
	return s.box.Seal(KeyPurpose(id), material), nil
}

// makeRequest creates the key of a replacement and its request, or takes the key that was created before the service
// stopped.
func (s keys) makeRequest(ctx context.Context, j *Job) (request.Request, error) {
	key, _, err := s.GivenKeyOf(ctx, j.ID)
	if errors.Is(err, store.ErrNotFound) {
		if key, err = s.chosenKey(ctx, j); err != nil {
			return request.Request{}, err
		}
		sealed, err := s.SealKey(j.ID, key)
		if err != nil {
			return request.Request{}, err
		}
		if err := s.store.Secrets.Put(ctx, KeyPurpose(j.ID), sealed); err != nil {
			return request.Request{}, err
		}
	}
	if err != nil {
		return request.Request{}, err
	}
	return request.Make(j.Plan.V, key)
}

// chosenKey returns a new key, or the one in use if it is to be reused.
func (s keys) chosenKey(ctx context.Context, j *Job) (crypto.Signer, error) {
	if !j.Plan.V.SameKey {
		return request.NewKey(j.Plan.V.Key)
	}
	served, err := s.store.Chains.Certificates(ctx, []string{j.OldSHA256})
	if err != nil {
		return nil, err
	}
	return s.KeptKey(ctx, served[0])
}

// KeptKey opens the key of a leaf that was created and kept here, or returns store.ErrNotFound.
func (s keys) KeptKey(ctx context.Context, leaf *cert.Certificate) (crypto.Signer, error) {
	all, err := s.store.Replacements.ByKey(ctx, cert.Fingerprint(leaf.RawSubjectPublicKeyInfo))
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if key, _, err := s.GivenKeyOf(ctx, r.ID); !errors.Is(err, store.ErrNotFound) {
			return key, err
		}
	}
	return nil, store.ErrNotFound
}

// keyToGive returns the key to be sent to the device, nil if the device created its own or has it already.
func (s keys) keyToGive(ctx context.Context, j *Job) (crypto.Signer, string, error) {
	if !j.Family.Traits.KeyGiven {
		return nil, "", nil
	}
	key, passphrase, err := s.GivenKeyOf(ctx, j.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, "", nil // given already and forgotten; a step that names it says that it is missing
	}
	return key, passphrase, err
}
