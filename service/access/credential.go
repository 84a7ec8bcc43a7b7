package access

import (
	"context"
	"errors"
	"fmt"

	"freshseal/contract"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/device/ssh"
	"freshseal/secretsource"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
)

func checkCredential(n contract.CredentialChange, cannot string) error {
	if n.User == "" {
		return problem.Reject(cannot, "it has no user to sign in with", "give one", next.Give.On("user"))
	}
	if n.Source == "" {
		return checkSecrets(n.Secrets, cannot)
	}
	if !noSecrets(n.Secrets) {
		return problem.Reject(cannot, "a secret and a source are given", "give one of them", next.Give.On("source"))
	}
	if _, err := secretsource.Parse(n.Source); err != nil {
		return problem.Reject(cannot, err.Error(), "write it as file NAME, systemd NAME or helper NAME WORD…",
			next.Give.On("source"))
	}
	return nil
}

// ask asks for the secrets of a credential where they are kept, for a device. They are kept nowhere.
func (s *Service) ask(ctx context.Context, c accounts.Credential, device string, t *ssh.Target) error {
	source, err := secretsource.Parse(c.Source)
	if err != nil {
		return err
	}
	secrets, err := s.sources.Get(ctx, source, secretsource.Asked{Credential: c.Name, User: c.User, Device: device})
	if err == nil && secrets.Key != "" {
		if _, bad := ssh.ParseKey([]byte(secrets.Key), []byte(secrets.Passphrase)); bad != nil {
			err = errors.New("its private key cannot be read")
		}
	}
	if err != nil && ctx.Err() == nil {
		why := fmt.Sprintf("the secret of the credential %s could not be had from “%s”: %v", c.Name, source, err)
		return problem.New(problem.Outside, device+" cannot be signed in to", why, "correct its source, or give the "+
			"credential a secret", next.ReplaceCredential.On(c.Name))
	}
	t.Password, t.Key, t.Passphrase = secrets.Password, []byte(secrets.Key), []byte(secrets.Passphrase)
	return err
}

func showCredential(row accounts.Credential) contract.Credential {
	return contract.Credential{Name: row.Name, User: row.User, Devices: row.Devices, AddedAt: row.AddedAt.Time,
		Source: row.Source, Revision: row.Revision}
}

// AddCredential adds a credential that devices can share.
func (s *Service) AddCredential(ctx context.Context, n contract.NewCredential) (contract.Credential, error) {
	cannot := "the credential cannot be added"
	if !naming.Label(n.Name) {
		return contract.Credential{}, problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", n.Name), naming.Rule)
	}
	if err := checkCredential(n.CredentialChange, cannot); err != nil {
		return contract.Credential{}, err
	}
	err := s.store.Credentials.Add(ctx, accounts.Credential{Name: n.Name, User: n.User, Source: n.Source,
		AddedAt: s.moment()},
		s.seal("credential/"+n.Name, n.Secrets))
	if errors.Is(err, store.ErrTaken) {
		return contract.Credential{}, problem.New(problem.Conflict, cannot, n.Name+" already exists", "replace it",
			next.ReplaceCredential.On(n.Name))
	}
	if err != nil {
		return contract.Credential{}, err
	}
	return s.Credential(ctx, n.Name)
}

// ReplaceCredential puts another user and secret in the place of a credential's.
// No device is changed: they use the new one from now on.
func (s *Service) ReplaceCredential(ctx context.Context, name string, n contract.CredentialChange,
	known problem.Revision) (contract.Credential, error) {
	if err := checkCredential(n, "the credential cannot be replaced"); err != nil {
		return contract.Credential{}, err
	}
	was, err := s.Credential(ctx, name)
	if err != nil {
		return contract.Credential{}, err
	}
	of := "credential/" + name
	err = s.store.Credentials.Change(ctx, accounts.Credential{Name: name, User: n.User, Source: n.Source},
		s.seal(of, n.Secrets), known,
		purposes(of)...)
	if err != nil {
		return contract.Credential{}, noCredential(problem.Outdated(err), name)
	}
	audit.Differences(ctx, map[string]string{"user": was.User, "source": was.Source},
		map[string]string{"user": n.User, "source": n.Source})
	if n.Source == "" {
		audit.Say(ctx, "new secrets")
	}
	return s.Credential(ctx, name)
}

func noCredential(err error, name string) error {
	return problem.Missing(err, next.ListCredentials, "no credential is called %q", name)
}

// Credential shows one credential.
func (s *Service) Credential(ctx context.Context, name string) (contract.Credential, error) {
	row, err := s.store.Credentials.Get(ctx, name)
	return showCredential(row), noCredential(err, name)
}

// Credentials returns all credentials by name.
func (s *Service) Credentials(ctx context.Context) ([]contract.Credential, error) {
	rows, err := s.store.Credentials.List(ctx)
	out := make([]contract.Credential, 0, len(rows))
	for _, row := range rows {
		out = append(out, showCredential(row))
	}
	return out, err
}

// RemoveCredential deletes a credential that no device uses.
func (s *Service) RemoveCredential(ctx context.Context, name string) error {
	err := s.store.Credentials.Remove(ctx, name, purposes("credential/"+name)...)
	if errors.Is(err, store.ErrTaken) {
		return problem.New(problem.Conflict, "the credential cannot be removed", "devices use it",
			"assign another credential to them first", next.ListDevices.On(""))
	}
	return noCredential(err, name)
}
