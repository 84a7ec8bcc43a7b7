package reach

import (
	"context"
	"errors"
	"fmt"
	"time"

	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/service/deed"
	"freshseal/service/problem"
	"freshseal/store"
)

// Credential is a way to sign in that several devices share, as the API shows it.
type Credential struct {
	Name     string           `json:"name" required:"true"`
	User     string           `json:"user" required:"true"`
	Devices  int              `json:"devices" required:"true" description:"how many use it"`
	AddedAt  time.Time        `json:"added_at" required:"true"`
	Revision problem.Revision `json:"revision" required:"true"`
}

// NewCredential describes a credential to add.
type NewCredential struct {
	Name string `json:"name" required:"true"`
	CredentialChange
}

// CredentialChange is the user and secret that replace those of a credential.
type CredentialChange struct {
	User string `json:"user" required:"true"`
	Secrets
}

func (n CredentialChange) check(cannot string) error {
	if n.User == "" {
		return problem.Reject(cannot, "it has no user to sign in with", "give one", next.Give.On("user"))
	}
	return n.Secrets.check(cannot)
}

func showCredential(row store.Credential) Credential {
	return Credential{row.Name, row.User, row.Devices, row.AddedAt.Time, row.Revision}
}

// AddCredential adds a credential that devices can share.
func (s *Service) AddCredential(ctx context.Context, n NewCredential) (Credential, error) {
	cannot := "the credential cannot be added"
	if !naming.Label(n.Name) {
		return Credential{}, problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", n.Name), naming.Rule)
	}
	if err := n.check(cannot); err != nil {
		return Credential{}, err
	}
	err := s.store.AddCredential(ctx, store.Credential{Name: n.Name, User: n.User, AddedAt: s.moment()}, s.seal("credential/"+n.Name, n.Secrets))
	if errors.Is(err, store.ErrTaken) {
		return Credential{}, problem.New(problem.Conflict, cannot, n.Name+" already exists", "replace it", next.ReplaceCredential.On(n.Name))
	}
	if err != nil {
		return Credential{}, err
	}
	return s.Credential(ctx, n.Name)
}

// ReplaceCredential puts another user and secret in the place of a credential's.
// No device is changed: they use the new one from now on.
func (s *Service) ReplaceCredential(ctx context.Context, name string, n CredentialChange, known problem.Revision) (Credential, error) {
	if err := n.check("the credential cannot be replaced"); err != nil {
		return Credential{}, err
	}
	was, err := s.Credential(ctx, name)
	if err != nil {
		return Credential{}, err
	}
	of := "credential/" + name
	err = s.store.ChangeCredential(ctx, store.Credential{Name: name, User: n.User}, s.seal(of, n.Secrets), known, purposes(of)...)
	if err != nil {
		return Credential{}, noCredential(problem.Outdated(err), name)
	}
	deed.Differences(ctx, map[string]string{"user": was.User}, map[string]string{"user": n.User})
	deed.Say(ctx, "new secrets")
	return s.Credential(ctx, name)
}

func noCredential(err error, name string) error {
	return problem.Missing(err, next.ListCredentials, "no credential is called %q", name)
}

// Credential shows one credential.
func (s *Service) Credential(ctx context.Context, name string) (Credential, error) {
	row, err := s.store.Credential(ctx, name)
	return showCredential(row), noCredential(err, name)
}

// Credentials returns all credentials by name.
func (s *Service) Credentials(ctx context.Context) ([]Credential, error) {
	rows, err := s.store.Credentials(ctx)
	out := make([]Credential, 0, len(rows))
	for _, row := range rows {
		out = append(out, showCredential(row))
	}
	return out, err
}

// RemoveCredential deletes a credential that no device uses.
func (s *Service) RemoveCredential(ctx context.Context, name string) error {
	err := s.store.RemoveCredential(ctx, name, purposes("credential/"+name)...)
	if errors.Is(err, store.ErrTaken) {
		return problem.New(problem.Conflict, "the credential cannot be removed", "devices use it", "assign another credential to them first", next.ListDevices.On(""))
	}
	return noCredential(err, name)
}

// Revised is how often people changed it.
func (c Credential) Revised() problem.Revision { return c.Revision }
