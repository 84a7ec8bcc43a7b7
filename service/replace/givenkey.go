package replace

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/store"
)

// givenKey is what is sealed.
type givenKey struct {
	Key        []byte `json:"key"`        // PKCS #8
	Passphrase string `json:"passphrase"` // of the stores that are made with it
}

func keyPurpose(id int64) string { return "replacement/" + replacement.Name(id) + "/key" }

// givenKeyOf opens the key of a replacement.
func (s *Service) givenKeyOf(ctx context.Context, id int64) (crypto.Signer, string, error) {
	sealed, err := s.store.Secrets.Get(ctx, keyPurpose(id))
	if err != nil {
		return nil, "", err
	}
	material, err := s.box.Open(keyPurpose(id), sealed)
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

// sealKey seals the key of a replacement, with a new passphrase for the stores that are made with it.
func (s *Service) sealKey(id int64, key crypto.Signer) ([]byte, error) {
	given := givenKey{Passphrase: rand.Text()}
	var err error
	if given.Key, err = x509.MarshalPKCS8PrivateKey(key); err != nil {
		return nil, err
	}
	material, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}
	return s.box.Seal(keyPurpose(id), material), nil
}

// makeRequest makes the key of a replacement, or takes the one that was made
// before the service was stopped, and the request with it.
func (s *Service) makeRequest(ctx context.Context, j job) (request.Request, error) {
	key, _, err := s.givenKeyOf(ctx, j.ID)
	if errors.Is(err, store.ErrNotFound) {
		if key, err = s.chosenKey(ctx, j); err != nil {
			return request.Request{}, err
		}
		sealed, err := s.sealKey(j.ID, key)
		if err != nil {
			return request.Request{}, err
		}
		if err := s.store.Secrets.Put(ctx, keyPurpose(j.ID), sealed); err != nil {
			return request.Request{}, err
		}
	}
	if err != nil {
		return request.Request{}, err
	}
	return request.Make(j.Plan.V, key)
}

// chosenKey is a new key, or the one in use where that is to be used again.
func (s *Service) chosenKey(ctx context.Context, j job) (crypto.Signer, error) {
	if !j.Plan.V.SameKey {
		return request.NewKey(j.Plan.V.Key)
	}
	served, err := s.store.Chains.Certificates(ctx, []string{j.OldSHA256})
	if err != nil {
		return nil, err
	}
	return s.keptKey(ctx, served[0])
}

// keptKey opens the key of a leaf that was made and kept here; store.ErrNotFound
// where it was not.
func (s *Service) keptKey(ctx context.Context, leaf *cert.Certificate) (crypto.Signer, error) {
	all, err := s.store.Replacements.ByKey(ctx, cert.Fingerprint(leaf.RawSubjectPublicKeyInfo))
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if key, _, err := s.givenKeyOf(ctx, r.ID); !errors.Is(err, store.ErrNotFound) {
			return key, err
		}
	}
	return nil, store.ErrNotFound
}

// keyToGive is the key that goes to the device; nil where the device made its
// own, or has it already.
func (s *Service) keyToGive(ctx context.Context, j job) (crypto.Signer, string, error) {
	if !j.procedure.Traits.KeyGiven {
		return nil, "", nil
	}
	key, passphrase, err := s.givenKeyOf(ctx, j.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, "", nil // given already and forgotten; a step that names it says that it is missing
	}
	return key, passphrase, err
}

// forgetKey forgets the key of a replacement that has given it away, unless the
// policy keeps it. One that a step fetched or a person gave is forgotten in any case.
func (s *Service) forgetKey(ctx context.Context, j job) error {
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil {
		return err
	}
	if err := s.forgetCaptured(ctx, j.ID, procedure.Request); err != nil {
		return err
	}
	if keep := rules.KeepKeys; keep != nil && *keep {
		return nil
	}
	return s.store.Secrets.Remove(ctx, keyPurpose(j.ID))
}

// forgetCaptured forgets the secret files, such as private keys, among what the steps of a
// replacement captured, and in the files of its tasks. What later sections than section
// captured stays: a revert after the seal may need it.
func (s *Service) forgetCaptured(ctx context.Context, id int64, section procedure.Section) error {
	steps, err := s.store.Journal.Steps(ctx, id)
	if err != nil {
		return err
	}
	for _, step := range steps {
		if step.Capture != keptSealed || section != everySection && step.Section != string(section) {
			continue
		}
		values, err := s.openCaptured(step)
		if err != nil {
			return err
		}
		before := len(values)
		maps.DeleteFunc(values, func(_ string, v procedure.Value) bool {
			return v.Secret && v.Kind == procedure.Content
		})
		if len(values) == before {
			continue
		}
		step.Capture, step.Captured = "", nil
		if err := s.keepCaptured(&step, values); err != nil {
			return err
		}
		if err := s.store.Journal.SetCaptured(ctx, step); err != nil {
			return err
		}
	}
	return s.store.Tasks.ForgetFiles(ctx, id)
}

// everySection has forgetCaptured forget what any section captured.
const everySection procedure.Section = ""

// ExportKey gives a kept key with its chain as PKCS #12. The reason stands in
// the audit log before anything is given.
func (s *Service) ExportKey(ctx context.Context, id string, e contract.KeyExport, by string) ([]byte, error) {
	cannot := "the key was not exported"
	n, err := idNumber(id)
	if err != nil {
		return nil, err
	}
	r, err := s.store.Replacements.Get(ctx, n)
	if err != nil {
		return nil, problem.Missing(err, next.ListReplacements, "no replacement is called %s", id)
	}
	if len(e.Reason) < 10 || len(e.Reason) > 500 || len(e.Passphrase) < 12 {
		return nil, problem.Reject(cannot, "it needs a reason of at least 10 characters and a passphrase of "+
			"at least 12", "give both", next.Give.On("reason"), next.Give.On("passphrase"))
	}
	key, _, err := s.givenKeyOf(ctx, n)
	if errors.Is(err, store.ErrNotFound) {
		return nil, problem.New(problem.NotFound, cannot, "no key of "+id+" is kept here: the device made it, or "+
			"it was deleted after the replacement", "to keep keys in future, set a policy", next.KeepKeys.On(""))
	}
	if err != nil {
		return nil, err
	}
	if len(r.Path.V) == 0 {
		return nil, problem.New(problem.Conflict, cannot, "it has no certificate yet", "wait for the signer")
	}
	certificates, err := s.store.Chains.Certificates(ctx, r.Path.V)
	if err != nil {
		return nil, err
	}
	if err := s.audit.Record(ctx, by, "export the key of "+id, e.Reason); err != nil {
		return nil, err
	}
	d := pack.Options{Encoding: pack.PKCS12, Place: pack.KeyBefore, Passphrase: e.Passphrase}
	if e.Old {
		d.Encoding = pack.PKCS12Old
	}
	return pack.Write(pack.LeafFirst, d, chain.Path{Certificates: certificates, Complete: true}, key)
}

// TakeKey gives a replacement that waits for its signer a key that was made elsewhere, in place of the one that it
// asked with: the key is sealed, and a request with it stands in the place of the first, which is obsolete. why says
// why it cannot be given one.
func (s *Service) TakeKey(ctx context.Context, id int64, key crypto.Signer, by string) (why string, err error) {
	j, err := s.load(ctx, id)
	if err != nil {
		return "", err
	}
	if !j.procedure.Traits.KeyGiven {
		return "devices of the family " + j.procedure.Name + " make their key themselves, and take none that was " +
			"made elsewhere", nil
	}
	rules, err := s.monitor.RulesFor(ctx, j.slot)
	if err != nil {
		return "", err
	}
	kind, ok := request.TypeOf(key)
	switch {
	case !ok || !slices.Contains(j.procedure.Traits.KeyTypes, kind):
		return "its family does not support this kind of key", nil
	case rules.Refuses(kind) != "":
		return rules.Refuses(kind), nil
	}
	made, err := request.Make(j.Plan.V, key)
	if err != nil {
		return "", err
	}
	sealed, err := s.sealKey(id, key)
	if err != nil {
		return "", err
	}
	old := store.Obsolete{Reason: "a key and a certificate were made elsewhere", By: by, At: s.moment()}
	if err := s.store.Requests.TakeKey(ctx, id, old, made, keyPurpose(id), sealed); err != nil {
		return "", err
	}
	s.made.Delete(id)
	return "", nil
}
