package replace

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"slices"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/store"
)

// ExportKey returns a kept key with its chain as PKCS #12. The reason is in the audit log before anything is returned.
func (s *Exports) ExportKey(ctx context.Context, id string, e contract.KeyExport, by string) ([]byte, error) {
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
	key, _, err := s.GivenKeyOf(ctx, n)
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
// asked with: the key is sealed, and a request with it is in the place of the first, which is obsolete. why says
// why it cannot be given one.
func (s *Service) TakeKey(ctx context.Context, id int64, key crypto.Signer, by string) (why string, err error) {
	j, err := s.Load(ctx, id)
	if err != nil {
		return "", err
	}
	if !j.Family.Traits.KeyGiven {
		return "devices of the family " + j.Family.Name + " make their key themselves, and take none that was " +
			"made elsewhere", nil
	}
	rules, err := s.monitor.RulesFor(ctx, j.First)
	if err != nil {
		return "", err
	}
	kind, ok := request.TypeOf(key)
	switch {
	case !ok || !slices.Contains(j.Family.Traits.KeyTypes, kind):
		return "its family does not support this kind of key", nil
	case rules.Refuses(kind) != "":
		return rules.Refuses(kind), nil
	}
	made, err := request.Make(j.Plan.V, key)
	if err != nil {
		return "", err
	}
	sealed, err := s.SealKey(id, key)
	if err != nil {
		return "", err
	}
	old := store.Obsolete{Reason: "a key and a certificate were made elsewhere", By: by, At: s.moment()}
	if err := s.store.Requests.TakeKey(ctx, id, old, made, engine.KeyPurpose(id), sealed); err != nil {
		return "", err
	}
	s.Made.Delete(id)
	return "", nil
}

func showKeptFiles(rows []store.KeptFile) []contract.KeptFile {
	var out []contract.KeptFile
	for _, f := range rows {
		out = append(out, contract.KeptFile{Name: f.Name, At: f.At.Time, Bytes: f.Size, SHA256: f.SHA256})
	}
	return out
}

// ExportFile returns a file that was kept. It may hold keys: the reason is in the audit log before anything is
// given.
func (s *Exports) ExportFile(ctx context.Context, id, name string, e contract.FileExport, by string) ([]byte, error) {
	cannot := "the file was not exported"
	n, err := idNumber(id)
	if err != nil {
		return nil, err
	}
	if len(e.Reason) < 10 || len(e.Reason) > 500 {
		return nil, problem.Reject(cannot, "it needs a reason of 10 to 500 characters", "give one",
			next.Give.On("reason"))
	}
	f, err := s.store.Journal.KeptFile(ctx, n, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, problem.New(problem.NotFound, fmt.Sprintf("%s has no file %q that is kept", id, name), "", "",
			next.ShowReplacement.On(id))
	}
	if err != nil {
		return nil, err
	}
	content, err := s.box.Open(engine.KeptPurpose(n, name), f.Sealed)
	if err != nil {
		return nil, err
	}
	return content, s.audit.Record(ctx, by, "export the file "+name+" of "+id, e.Reason)
}
